"""The runs in a ledger: which ones are alive, and what dead ones left in flight."""

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import datetime

from sqlalchemy import ColumnElement, and_, insert, select, update

from yellowtor.contracts.subject import Subject, read_subject
from yellowtor.errors import Busy
from yellowtor.ledger.accounts.in_flight import abandon, unended
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import address, question, request, run
from yellowtor.ledger.storage.store import LedgerGone, Running, Store, Worker


def going_on(store: Store, job_id: int) -> list[Running]:
    """The live runs of a job, in a shared ledger."""
    return [one for one in unended(store, run.c.job_id == job_id) if store.is_alive(one)]


def begin(store: Store, job_id: int, worker: Worker, *, along: bool) -> tuple[int, list[Subject], bool]:
    """Begin a run: its number, and the subjects of requests that earlier runs left in flight (they count as spent).

    The third value says whether another run works on the job. Without `along`, Busy is raised then.
    """
    if along and store.shareable and (joined := _join(store, job_id, worker)):
        return joined, [], True
    with store.transaction() as connection:
        now = stamp(store.clock.now())
        others = going_on(store, job_id) if store.shareable else []
        if others and not along:
            raise busy(others[0], shareable=True)
        over = and_(run.c.job_id == job_id, run.c.id.not_in([one.id for one in others]))
        abandoned = _cut(store, over)
        abandon(store, select(run.c.id).where(over), now)
        connection.execute(update(run).where(over, run.c.ended_at.is_(None)).values(ended_at=now))
        return _insert(store, job_id, worker), abandoned, bool(others)


def _join(store: Store, job_id: int, worker: Worker) -> int | None:
    """Begin a run beside live ones, and hold up nobody; None where there are none, or a dead run is to be ended."""
    with store.transaction([f"runs {job_id}"]) as connection:
        there = unended(store, run.c.job_id == job_id)
        if not there or not all(map(store.is_alive, there)):
            return None
        ended = and_(run.c.job_id == job_id, run.c.ended_at.is_not(None))
        left = select(request.c.id).join(run, run.c.id == request.c.run_id).where(request.c.state == "reserved", ended)
        return None if connection.execute(left.limit(1)).first() else _insert(store, job_id, worker)


def _insert(store: Store, job_id: int, worker: Worker) -> int:
    now = stamp(store.clock.now())
    values = {"job_id": job_id, "started_at": now, "seen_at": now, **worker._asdict()}
    new = store.connection.execute(insert(run).values(values))
    assert new.inserted_primary_key is not None
    return int(new.inserted_primary_key[0])


def _cut(store: Store, runs: ColumnElement[bool]) -> list[Subject]:
    """The subjects of what these runs left in flight, in the order in which it was reserved."""
    whose = request.join(run, run.c.id == request.c.run_id).join(question, question.c.key == request.c.question_key)
    about = select(request.c.id, address.c.parts).select_from(
        whose.join(address, address.c.id == question.c.address_id)
    )
    left = list(store.connection.execute(about.where(request.c.state == "reserved", runs)))
    if unended(store, runs):  # another job may have taken it up
        gone = and_(request.c.state == "abandoned", run.c.ended_at.is_(None), runs)
        left += store.connection.execute(about.where(gone))
    return [read_subject(row.parts) for row in sorted(left)]


@contextmanager
def ended(store: Store, run_id: int) -> Iterator[None]:
    """End a run after the body, also if that fails: a process that lives on would make the next run wait."""
    try:
        yield
    except Exception as error:
        with suppress(Exception):  # a ledger that is gone
            if isinstance(error, LedgerGone):
                store.reopen(patience_s=0)
            _end(store, run_id)
        raise
    _end(store, run_id)


def _end(store: Store, run_id: int) -> None:
    with store.transaction([f"run {run_id}"]) as connection:
        connection.execute(update(run).where(run.c.id == run_id).values(ended_at=stamp(store.clock.now())))


def busy(other: Running | None, *, shareable: bool = False) -> Busy:
    """What to say where another run has the job."""
    who = since = ""
    if other and other.worker.host:
        who = f" ({other.worker.who} on {other.worker.host}, process {other.worker.process})"
    if other:
        since = f" since {datetime.fromisoformat(other.started_at):%Y-%m-%d %H:%M:%S} UTC"
    what = "Wait for its end, stop it, or help it with --share" if shareable else "Wait for its end, or stop it"
    return Busy(f"Another run{who} works on this job{since}. {what}. Nothing was sent.")
