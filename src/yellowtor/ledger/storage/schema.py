"""The ledger's tables, in SQLAlchemy Core.

Instants are ISO 8601 texts in UTC. Money is in integer millionths. The database stores the version: migrations/
updates an older ledger, and a newer one is refused.
"""

from sqlalchemy import (
    BigInteger,
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

VERSION = 14
metadata = MetaData()
WIDE = BigInteger().with_variant(Integer, "sqlite")  # where an integer is as wide as it needs to be

job = Table(
    "job",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("path", Text, nullable=False, unique=True),
    Column("composed_by", Text, nullable=False, default=""),
    Column("judged_by", Text, nullable=False, default=""),  # and through which reply, when all of it is judged
)

run = Table(
    "run",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("job_id", ForeignKey("job.id"), nullable=False),
    Column("started_at", Text, nullable=False),
    Column("ended_at", Text),
    Column("seen_at", Text, nullable=False, server_default=""),  # its last sign of life, where the ledger is shared
    Column("who", Text, nullable=False, server_default=""),
    Column("host", Text, nullable=False, server_default=""),
    Column("process", Integer, nullable=False, server_default="0"),
    Column("machine", Text, nullable=False, server_default=""),  # where the number of its process means anything
)

request = Table(
    "request",
    metadata,
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
    Column("cost", WIDE, nullable=False, server_default="0"),  # millionths of the account's currency
    Column("took_ms", Integer),  # from its leaving to the end of the reply
)
FLYING = request.c.state == "reserved"
Index("request_open", request.c.run_id, sqlite_where=FLYING)
Index("request_flying", request.c.question_key, sqlite_where=FLYING)
Index("request_settled", request.c.account, request.c.settled_at)  # rolling windows look back

window_use = Table(
    "window_use",
    metadata,
    Column("account", Text, primary_key=True),
    Column("window", Text, primary_key=True),
    Column("start", Text, primary_key=True),
    Column("used", WIDE, nullable=False),
)

pace = Table(
    "pace",
    metadata,
    Column("account", Text, primary_key=True),
    Column("boot_id", Text, nullable=False),
    Column("arrival", Float, nullable=False),  # theoretical arrival time, seconds of the ledger's clock
    Column("learned", Float, nullable=False, server_default="0"),  # requests a second that were borne at that instant
    Column("learned_at", Float, nullable=False, server_default="0"),
    Column("shut_until", Text, nullable=False, server_default=""),  # the service wants nobody to ask before
)

reply = Table(
    "reply",
    metadata,
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
    Column("headers", Text, nullable=False, server_default="{}"),  # JSON: the fields that something is read from
    sqlite_autoincrement=True,
)

Index("reply_age", reply.c.service, reply.c.kind, reply.c.received_at)

candidates = Table(
    "candidates",
    metadata,
    Column("reply_id", Integer, primary_key=True),
    Column("reading_key", Text, primary_key=True),
    Column("found", Text, nullable=False),  # JSON
    Column("kind", Text, nullable=False, server_default=""),  # what the reply means by these rules, and in words
    Column("message", Text, nullable=False, server_default=""),
)

# An address as it was first met; equal ones have one key.
address = Table(
    "address",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("key", Text, nullable=False, unique=True),
    Column("parts", Text, nullable=False),  # JSON
)

# A way to ask a service: what, beside the address, makes two questions different.
asking = Table(
    "asking",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("key", Text, nullable=False, unique=True),
    Column("service", Text, nullable=False),
    Column("keep_days", Integer),  # its replies are kept for so long (null: for ever)
    Column("keep_nothing_days", Integer),  # and those that found nothing
)

question = Table(
    "question",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("key", Text, nullable=False, unique=True),
    Column("address_id", ForeignKey("address.id"), nullable=False),
    Column("asking_id", ForeignKey("asking.id")),  # null: of an older version, until it is met again
    Column("left_open", Text),  # JSON: why the last run got no reply
)
LEFT_OPEN = question.c.left_open.is_not(None)
Index("question_left_open", question.c.key, sqlite_where=LEFT_OPEN, postgresql_where=LEFT_OPEN)
Index("question_address", question.c.address_id, question.c.asking_id)

# What a service has taken and not replied to yet: its ticket, and which of how many questions in one request it was.
ticket = Table(
    "ticket",
    metadata,
    Column("question_key", Text, primary_key=True),
    Column("ticket", Text, nullable=False),
    Column("place", Integer, nullable=False),
    Column("questions", Integer, nullable=False),
    sqlite_with_rowid=False,
)

# A position that a person has decided: for one record (job and key) or for every record of an address. Without a
# position: that no answer fits. service, level and matched are those of the candidate that was chosen.
pin = Table(
    "pin",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("job_id", ForeignKey("job.id")),
    Column("key", Text),
    Column("address_key", Text, unique=True),
    Column("lat", Float),
    Column("lon", Float),
    Column("who", Text, nullable=False),
    Column("why", Text, nullable=False),
    Column("pinned_at", Text, nullable=False),
    Column("service", Text, nullable=False, server_default=""),
    Column("level", Text, nullable=False, server_default=""),
    Column("matched", Text, nullable=False, server_default=""),
)
Index("pin_record", pin.c.job_id, pin.c.key, unique=True)

# How an address should read, as a person has decided: it is asked instead.
correction = Table(
    "correction",
    metadata,
    Column("address_key", Text, primary_key=True),
    Column("corrected_key", Text, nullable=False),
    Column("parts", Text, nullable=False),  # JSON: of the corrected address
    *(Column(name, Text, nullable=False) for name in ("who", "why", "made_at")),
    sqlite_with_rowid=False,
)
Index("correction_corrected", correction.c.corrected_key)

# A record: narrow, and in the order in which it was first met, for most runs look at every one of them.
work = Table(
    "work",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("job_id", Integer, nullable=False),
    Column("key", Text, nullable=False),
    Column("place", WIDE),  # in the last scan: the number of its part * PART, and from 1 in it; null: vanished
    Column("raw_hash", Text, nullable=False),
    Column("held", Text),  # coordinates in the source that are not ours, as they would be written
    Column("held_hash", Text, nullable=False),  # the address that was there when `held` was first seen
    Column("written", Text),  # the coordinates that we wrote last, as the table gives them back
    Column("state", Text, nullable=False),  # kept, incomplete, ask, vanished
    Column("reasons", Text, nullable=False),  # JSON; of a record that is not asked about
    Column("address_id", Integer, nullable=False),
    Column("pin_id", Integer),
    Column("sent", Text),  # the coordinates that the table was given when it gave back `written`, if not the same
    Column("moved_from", Text),  # the coordinates that we wrote before `written`
)
Index("work_key", work.c.job_id, work.c.key, unique=True)
Index("work_place", work.c.job_id, work.c.place)
Index("work_state", work.c.job_id, work.c.state, work.c.address_id, work.c.pin_id)
PINNED = work.c.pin_id.is_not(None)  # SQLite looks for those in work_pin only if work_state has not all that is wanted
Index("work_pin", work.c.job_id, sqlite_where=PINNED)

# The judgement of an address, by one job's thresholds, over the replies of all its services.
answer = Table(
    "answer",
    metadata,
    Column("job_id", Integer, primary_key=True),
    Column("address_id", Integer, primary_key=True),
    Column("reply_id", Integer),  # the one that it rests on
    Column("newest", Integer),  # the newest of those that it was made from
    Column("judged_by", Text),
    Column("enough", Integer, nullable=False),  # no other service need be asked
    Column("outcome", Text, nullable=False),
    Column("lat", Float),
    Column("lon", Float),
    Column("confidence", Float),
    Column("basis", Text, nullable=False),
    Column("level", Text, nullable=False),
    Column("matched", Text, nullable=False),
    Column("parts", Text, nullable=False),  # JSON: of the matched address
    Column("reasons", Text, nullable=False),  # JSON
    Column("cause", Text, nullable=False, server_default=""),  # the heaviest of them in a word
    Column("town", Text, nullable=False, server_default=""),  # a key: equal for the records of one town
    Column("streets", Integer, nullable=False, server_default="0"),  # with the same point, as the job's records show
    Column("away_m", Float, nullable=False, server_default="0"),  # from the other records of the town, likewise
    Column("since", Text, nullable=False, server_default=""),  # the instant of its outcome and position
    sqlite_with_rowid=False,
)

# What was before: answers with another outcome or position, other addresses of a record, pins that were removed.
past_answer = Table(
    "past_answer",
    metadata,
    Column("job_id", Integer, nullable=False),
    Column("address_id", Integer, nullable=False),
    Column("judged_by", Text),
    *(Column(name, Text, nullable=False) for name in ("since", "until", "service", "asked_at")),
    *(Column(name, Text, nullable=False) for name in ("outcome", "basis", "level", "matched")),
    *(Column(name, Float) for name in ("lat", "lon", "confidence")),
)
Index("past_answer_address", past_answer.c.job_id, past_answer.c.address_id)
past_work = Table(
    "past_work",
    metadata,
    Column("job_id", Integer, nullable=False),
    Column("key", Text, nullable=False),
    Column("address_id", Integer, nullable=False),
    Column("until", Text, nullable=False),
)
Index("past_work_key", past_work.c.job_id, past_work.c.key)
past_pin = Table(
    "past_pin",
    metadata,
    Column("job_id", Integer),
    Column("key", Text),
    Column("address_key", Text),
    Column("lat", Float),
    Column("lon", Float),
    *(Column(name, Text, nullable=False) for name in ("who", "why", "pinned_at", "until")),
)
Index("past_pin_key", past_pin.c.job_id, past_pin.c.key)
Index("past_pin_address", past_pin.c.address_key)

# A file of a source that is a folder: a part of its records, with places of its own. Of any other source, 0 is all.
PART = 2**32
part = Table(
    "part",
    metadata,
    Column("job_id", Integer, primary_key=True),
    Column("name", Text, primary_key=True),
    Column("number", Integer, nullable=False),
)

# The source, or a part of it, at the end of the last scan: valid while it is the same.
last_scan = Table(
    "last_scan",
    metadata,
    Column("job_id", Integer, primary_key=True),
    Column("part", Integer, primary_key=True, server_default="0"),
    Column("source", Text, nullable=False),
)

# Every position that a run has written, as it was written: whichever record has it now, it is ours.
written_position = Table(
    "written_position",
    metadata,
    Column("coordinates", Text, primary_key=True),
    sqlite_with_rowid=False,
)

# Every file as a run has written it: by the digest of its bytes; its state tells that it is so still.
written_file = Table(
    "written_file",
    metadata,
    Column("digest", Text, primary_key=True),
    Column("path", Text, nullable=False),
    Column("state", Text, nullable=False),
)
Index("written_file_path", written_file.c.path)

# What the source held in this run, in its order; lives as long as the connection. As long as all of it is in the order
# of the last scan, only what differs.
scanned = Table(
    "scanned",
    metadata,
    Column("place", WIDE, primary_key=True),
    Column("key", Text, nullable=False, unique=True),
    Column("raw_hash", Text, nullable=False),
    Column("held", Text),
    prefixes=["TEMPORARY"],
)

# The questions that this run has to ask, in the job's order; likewise.
open_question = Table(
    "open_question",
    metadata,
    Column("n", WIDE, primary_key=True),
    Column("question_id", Integer, nullable=False),
    Column("records", Integer, nullable=False),
    prefixes=["TEMPORARY"],
)

# The coordinates that are new in the target; likewise, until the target has taken its place.
new_written = Table(
    "new_written",
    metadata,
    Column("work_id", Integer, primary_key=True),
    Column("coordinates", Text, nullable=False),
    Column("sent", Text),
    Column("raw_hash", Text),
    prefixes=["TEMPORARY"],
)

FLEETING = [scanned, open_question, new_written]
KEPT_TABLES = [t for t in metadata.sorted_tables if t not in FLEETING]
