"""The ledger's tables, in SQLAlchemy Core.

Instants are ISO 8601 texts in UTC. Money will be integer millionths. The version stands in the database;
a ledger of another version is not touched.
"""

from sqlalchemy import (
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    Table,
    Text,
)

VERSION = 1
metadata = MetaData()

job = Table(
    "job", metadata,
    Column("id", Integer, primary_key=True),
    Column("path", Text, nullable=False, unique=True),
    Column("composed_by", Text, nullable=False, default=""),
    Column("judged_by", Text, nullable=False, default=""),  # and through which reply, when all of it is judged
)  # fmt: skip

run = Table(
    "run", metadata,
    Column("id", Integer, primary_key=True),
    Column("job_id", ForeignKey("job.id"), nullable=False),
    Column("started_at", Text, nullable=False),
    Column("ended_at", Text),
)  # fmt: skip

request = Table(
    "request", metadata,
    Column("id", Integer, primary_key=True),
    Column("run_id", ForeignKey("run.id"), nullable=False),
    Column("question_key", Text, nullable=False),
    Column("account", Text, nullable=False),
    Column("attempt", Integer, nullable=False),
    Column("state", Text, nullable=False),  # reserved, answered, refused, abandoned, released
    Column("kind", Text, nullable=False, default=""),
    Column("units", Integer, nullable=False, default=1),
    Column("reserved_at", Text, nullable=False),
    Column("settled_at", Text),
)  # fmt: skip
Index("request_open", request.c.run_id, sqlite_where=request.c.state == "reserved")

window_use = Table(
    "window_use", metadata,
    Column("account", Text, primary_key=True),
    Column("window", Text, primary_key=True),
    Column("start", Text, primary_key=True),
    Column("used", Integer, nullable=False),
)  # fmt: skip

pace = Table(
    "pace", metadata,
    Column("account", Text, primary_key=True),
    Column("boot_id", Text, nullable=False),
    Column("arrival", Float, nullable=False),  # theoretical arrival time, seconds of the boot clock
)  # fmt: skip

reply = Table(
    "reply", metadata,
    Column("id", Integer, primary_key=True),
    Column("question_key", Text, nullable=False, unique=True),
    Column("service", Text, nullable=False),
    Column("request_id", ForeignKey("request.id"), nullable=False),
    Column("run_id", ForeignKey("run.id"), nullable=False),
    Column("kind", Text, nullable=False),
    Column("status", Integer, nullable=False),
    Column("message", Text, nullable=False),
    Column("body", LargeBinary, nullable=False),  # zlib
    Column("received_at", Text, nullable=False),
    sqlite_autoincrement=True,
)  # fmt: skip

candidates = Table(
    "candidates", metadata,
    Column("reply_id", Integer, primary_key=True),
    Column("reading_key", Text, primary_key=True),
    Column("found", Text, nullable=False),  # JSON
)  # fmt: skip

work = Table(
    "work", metadata,
    Column("job_id", Integer, primary_key=True),
    Column("key", Text, primary_key=True),
    Column("raw_hash", Text, nullable=False),
    Column("held", Text),  # the source's own coordinates, as they would be written
    Column("held_hash", Text, nullable=False),  # the address that was there when `held` was first seen
    Column("state", Text, nullable=False),  # kept, incomplete, ask, vanished
    Column("address", Text, nullable=False),  # JSON
    Column("address_key", Text, nullable=False),
    Column("question_key", Text),  # there when, and only when, the state is ask
    Column("outcome", Text),  # null: waiting
    Column("lat", Float),
    Column("lon", Float),
    Column("confidence", Float),
    Column("basis", Text, nullable=False, default=""),
    Column("level", Text, nullable=False, default=""),
    Column("matched", Text, nullable=False, default=""),
    Column("reasons", Text, nullable=False, default="[]"),  # JSON
    Column("reply_id", Integer),
    Column("judged_by", Text),
    Column("written", Text),  # the coordinates that we wrote last
    sqlite_with_rowid=False,
)  # fmt: skip
Index("work_question", work.c.job_id, work.c.question_key)

# What the source held at the end of the last scan, in its order: valid while the source is the same.
last_scan = Table(
    "last_scan", metadata,
    Column("job_id", Integer, primary_key=True),
    Column("source", Text, nullable=False),
)  # fmt: skip
last_order = Table(
    "last_order", metadata,
    Column("job_id", Integer, primary_key=True),
    Column("n", Integer, primary_key=True),
    Column("key", Text, nullable=False),
    sqlite_with_rowid=False,
)  # fmt: skip

# What the source held in this run, in its order; lives as long as the connection.
scanned = Table(
    "scanned", metadata,
    Column("n", Integer, primary_key=True),
    Column("key", Text, nullable=False, unique=True),
    Column("raw_hash", Text, nullable=False),
    Column("held", Text),
    prefixes=["TEMPORARY"],
)  # fmt: skip

# The questions that this run has to ask, in the job's order; likewise.
open_question = Table(
    "open_question", metadata,
    Column("n", Integer, primary_key=True),
    Column("question_key", Text, nullable=False),
    Column("address", Text, nullable=False),
    Column("records", Integer, nullable=False),
    prefixes=["TEMPORARY"],
)  # fmt: skip

# The coordinates that are new in the target; likewise, until the target has taken its place.
new_written = Table(
    "new_written", metadata,
    Column("key", Text, primary_key=True),
    Column("coordinates", Text, nullable=False),
    prefixes=["TEMPORARY"], sqlite_with_rowid=False,
)  # fmt: skip

FLEETING = [scanned, open_question, new_written]
KEPT_TABLES = [t for t in metadata.sorted_tables if t not in FLEETING]
