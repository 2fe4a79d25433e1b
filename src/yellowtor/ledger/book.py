"""A run's hold on the ledger: the job, the run, and the three books that its phases need."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC
from pathlib import Path
from typing import TYPE_CHECKING

from filelock import FileLock, Timeout
from sqlalchemy import and_, insert, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from yellowtor.allowance.price import Budget
from yellowtor.errors import Busy
from yellowtor.ledger.account import AccountTerms, Clock
from yellowtor.ledger.judging import JudgeBook
from yellowtor.ledger.pins import PinBook
from yellowtor.ledger.requests import Again, RequestBook
from yellowtor.ledger.scanning import ScanBook
from yellowtor.ledger.schema import address, asking, job, question, request, run
from yellowtor.ledger.store import Store

if TYPE_CHECKING:
    from yellowtor.ledger.writer import GroupWriter


@dataclass(frozen=True)
class RunBook:
    """The books of one run, that of requests by the service's name.

    `abandoned` are the addresses (JSON) of requests that were cut in flight.
    """

    scanning: ScanBook
    requests: Mapping[str, RequestBook]
    judging: JudgeBook
    abandoned: Sequence[str]

    def writer(self, service: str) -> "GroupWriter":
        """Whoever carries orders out while this service is asked; to be entered. One at a time."""
        from yellowtor.ledger.writer import GroupWriter

        return GroupWriter(self.requests[service])


@contextmanager
def open_book(
    path: Path, job_path: Path, clock: Clock, services: Sequence[AccountTerms], again: Again = "nothing",
    spend_at_most: int | None = None,
) -> Iterator[RunBook]:  # fmt: skip
    """Open the ledger for one run of one job, which asks these services. Raises Busy while another run has the job.

    spend_at_most is what the whole run may cost, in millionths.
    """
    with _job_in_hand(path, job_path) as (store, job_id):
        run_id, abandoned = _begin(store, job_id, _now(clock))
        askings, budget = _askings(store, services), Budget(spend_at_most)
        yield RunBook(
            ScanBook(store, job_id, run_id, askings),
            {terms.service: RequestBook(store, run_id, clock, terms, again, budget) for terms in services},
            JudgeBook(store, job_id, askings),
            abandoned,
        )
        with store.transaction() as connection:
            connection.execute(update(run).where(run.c.id == run_id).values(ended_at=_now(clock)))


@contextmanager
def open_pins(path: Path, job_path: Path, clock: Clock) -> Iterator[PinBook]:
    """Open the ledger to pin positions of one job's records. Raises Busy while a run has the job."""
    with _job_in_hand(path, job_path) as (store, job_id):
        yield PinBook(store, job_id, _now(clock))


@contextmanager
def _job_in_hand(path: Path, job_path: Path) -> Iterator[tuple[Store, int]]:
    """The open ledger and the job's number in it; nobody else has the job meanwhile."""
    store = Store(path)
    try:
        job_id = _job(store, job_path)
        lock = FileLock(f"{path}.job-{job_id}.lock", timeout=0)
        try:
            lock.acquire()
        except Timeout as error:
            raise Busy(
                f"Another run has {job_path} in hand. Wait for its end, or stop it. Nothing was sent."
            ) from error
        try:
            yield store, job_id
        finally:
            lock.release()
    finally:
        store.close()


def _job(store: Store, path: Path) -> int:
    with store.transaction() as connection:
        known = connection.execute(select(job.c.id).where(job.c.path == str(path))).scalar()
        if known is None:
            connection.execute(insert(job).values(path=str(path)))
            known = connection.execute(select(job.c.id).where(job.c.path == str(path))).scalar_one()
        return int(known)


def _askings(store: Store, services: Sequence[AccountTerms]) -> dict[str, int]:
    """The ledger's number of the way in which each service is asked, by its name."""
    with store.transaction() as connection:
        rows = [{"key": terms.asking, "service": terms.service} for terms in services]
        connection.execute(upsert(asking).on_conflict_do_nothing(), rows)
        known = {row.key: row.id for row in connection.execute(select(asking.c.key, asking.c.id))}
    return {terms.service: known[terms.asking] for terms in services}


def _now(clock: Clock) -> str:
    return clock.now().astimezone(UTC).isoformat(timespec="milliseconds")


def _begin(store: Store, job_id: int, now: str) -> tuple[int, list[str]]:
    """Begin a run; requests that this job's earlier runs left in flight count as spent from now on."""
    with store.transaction() as connection:
        earlier = select(run.c.id).where(run.c.job_id == job_id)
        cut = and_(request.c.state == "reserved", request.c.run_id.in_(earlier))
        whose = request.join(question, question.c.key == request.c.question_key)
        about = select(address.c.parts).select_from(whose.join(address, address.c.id == question.c.address_id))
        abandoned = connection.execute(about.where(cut).order_by(request.c.id)).scalars().all()
        connection.execute(update(request).where(cut).values(state="abandoned", settled_at=now))
        new = connection.execute(insert(run).values(job_id=job_id, started_at=now))
        assert new.inserted_primary_key is not None
        return int(new.inserted_primary_key[0]), list(abandoned)
