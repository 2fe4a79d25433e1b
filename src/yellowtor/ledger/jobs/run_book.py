"""A run's hold on the ledger: the job, the run, and the three books that its phases need."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import and_, insert, select

from yellowtor.allowance.price import Budget
from yellowtor.answers.ledger_rows import ALL_ADDRESSES, Addresses
from yellowtor.contracts.clock import Clock
from yellowtor.contracts.subject import Subject
from yellowtor.ledger.accounts import in_flight
from yellowtor.ledger.accounts.account import Accounts
from yellowtor.ledger.accounts.requests import Again, SqlRequestBook
from yellowtor.ledger.accounts.service_account import AccountTerms
from yellowtor.ledger.jobs import runs
from yellowtor.ledger.jobs.judging import SqlJudgeBook
from yellowtor.ledger.jobs.open_questions import SqlQuestionBook
from yellowtor.ledger.jobs.outcomes import SqlOutcomeBook
from yellowtor.ledger.jobs.parts import address_shares, number_parts, part_sizes
from yellowtor.ledger.jobs.pins import PinBook
from yellowtor.ledger.jobs.scanning import SqlScanBook
from yellowtor.ledger.jobs.written_files import SqlWrittenBook
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.open_store import open_store
from yellowtor.ledger.storage.retention import expire
from yellowtor.ledger.storage.schema import asking, job, run
from yellowtor.ledger.storage.store import Store, Worker

if TYPE_CHECKING:
    from yellowtor.ledger.accounts.group_commit import GroupWriter
    from yellowtor.ledger.storage.server import Server

NOBODY = Worker("", "", 0)
KEEP = "UPDATE asking SET keep_days = ?, keep_nothing_days = ? WHERE service = ?"
PUT_ASKING = "INSERT INTO asking (key, service) VALUES (?, ?) ON CONFLICT DO NOTHING"


@dataclass(frozen=True)
class RunBook:
    """The parts of the ledger that one run uses; requests are by the service's name.

    `abandoned` are the subjects of requests that earlier runs had in flight when they died. `expired` is the number of
    replies that were deleted for their age, by service. along: another run works on the job, and this one helps it.
    """

    scanning: SqlScanBook
    questions: SqlQuestionBook
    requests: Mapping[str, SqlRequestBook]
    judging: SqlJudgeBook
    decisions: PinBook
    outcomes: SqlOutcomeBook
    written: SqlWrittenBook
    abandoned: Sequence[Subject]
    expired: Mapping[str, int]
    clock: Clock
    along: bool
    _store: Store
    _run: tuple[int, int]
    _askings: Mapping[str, int]

    def writer(self, service: str) -> "GroupWriter":
        """The writer for orders while this service is asked. A context manager; one at a time."""
        from yellowtor.ledger.accounts.group_commit import GroupWriter

        return GroupWriter(self.requests[service])

    def parts(self, names: Sequence[str]) -> Sequence[int]:
        """The numbers of these parts of the job's records. The records of other parts vanish."""
        return number_parts(self._store, self._run[0], names)

    def sizes(self) -> Mapping[int, int]:
        """How many records each part has, by its number."""
        return part_sizes(self._store, self._run[0])

    def scanning_of(self, part: int) -> SqlScanBook:
        """The scan of a part of the records."""
        return SqlScanBook(self._store, self._run[0], self._askings, part)

    def judging_of(self, part: int) -> SqlJudgeBook:
        """The judgements, to be written into a part of the records."""
        return SqlJudgeBook(self._store, self._run[0], self._askings, part=part)

    def shares(self, most: int, least: int) -> Sequence[Addresses]:
        """The addresses that are asked about, in shares of one size: `most` of them at most, of `least` at least."""
        return address_shares(self._store, self._run[0], most, least)

    def others(self) -> tuple[int, int]:
        """The number of other runs on this job that are alive, and of those that died."""
        job_id, run_id = self._run
        others = in_flight.unended(self._store, and_(run.c.job_id == job_id, run.c.id != run_id))
        alive = sum(map(self._store.is_alive, others))
        return alive, len(others) - alive


@dataclass(frozen=True)
class BookOptions:
    """How a run uses the ledger.

    again: whose replies do not count and are asked for again. spend_at_most is what the whole run may cost, in
    millionths. worker is who runs; along: it may share the job with another run, or, with addresses, ask and judge some
    of them while other processes of the same run have the rest.
    """

    again: Again = "nothing"
    spend_at_most: int | None = None
    worker: Worker = NOBODY
    along: bool = False
    addresses: Addresses = ALL_ADDRESSES


DEFAULTS = BookOptions()


@contextmanager
def open_book(
    where: "Path | Server",
    whose: str | Path,
    clock: Clock,
    services: Sequence[AccountTerms],
    options: BookOptions = DEFAULTS,
) -> Iterator[RunBook]:
    """Open the ledger for one run of one job (whose), which asks these services.

    Raises Busy while another run has the job, unless this one may share it.
    """
    with _job_in_hand(where, whose, clock) as (store, job_id):
        run_id, abandoned, helps = runs.begin(store, job_id, options.worker, along=options.along)
        with store.beating(run_id), runs.ended(store, run_id):
            askings = _askings(store, services)
            budget = Budget(options.spend_at_most)
            accounts = Accounts(store, job_id)
            expired = expire(store, store.clock.now())
            yield RunBook(
                SqlScanBook(store, job_id, askings),
                SqlQuestionBook(store, job_id, askings, options.addresses),
                {
                    terms.service: SqlRequestBook(store, accounts, run_id, terms, options.again, budget)
                    for terms in services
                },
                SqlJudgeBook(store, job_id, askings, options.addresses),
                PinBook(store, job_id, stamp(store.clock.now()), options.worker.who),
                SqlOutcomeBook(store, job_id),
                SqlWrittenBook(store),
                abandoned,
                expired,
                store.clock,
                helps,
                store,
                (job_id, run_id),
                askings,
            )


@contextmanager
def open_pins(where: "Path | Server", whose: str | Path, clock: Clock) -> Iterator[PinBook]:
    """Open the ledger to pin positions of one job's records. Raises Busy while a run has the job."""
    with _job_in_hand(where, whose, clock) as (store, job_id):
        if store.shareable and (others := runs.going_on(store, job_id)):
            raise runs.busy(others[0])
        yield PinBook(store, job_id, stamp(store.clock.now()))


@contextmanager
def _job_in_hand(where: "Path | Server", whose: str | Path, clock: Clock) -> Iterator[tuple[Store, int]]:
    """The open ledger and the job's number in it; a lock keeps other runs from the job."""
    store = open_store(where, clock)
    try:
        job_id = _job(store, str(whose))
        with store.job_in_hand(job_id) as free:
            if not free:
                raise runs.busy(next(iter(in_flight.unended(store, run.c.job_id == job_id)[::-1]), None))
            yield store, job_id
    finally:
        store.close()


def _job(store: Store, whose: str) -> int:
    query = select(job.c.id).where(job.c.path == whose)
    if (known := store.connection.execute(query).scalar()) is None:
        with store.transaction() as connection:
            if (known := connection.execute(query).scalar()) is None:
                connection.execute(insert(job).values(path=whose))
                known = connection.execute(query).scalar_one()
    return int(known)


def _askings(store: Store, services: Sequence[AccountTerms]) -> dict[str, int]:
    """The ledger's number of the way in which each service is asked, by its name."""
    known = _known_askings(store)
    if not all(terms.asking in known and _kept_by(terms, known.values()) for terms in services):
        with store.transaction():
            store.run_many(PUT_ASKING, [(terms.asking, terms.service) for terms in services])
            store.run_many(KEEP, [(terms.keep_days, terms.keep_nothing_days, terms.service) for terms in services])
        known = _known_askings(store)
    return {terms.service: known[terms.asking].id for terms in services}


def _known_askings(store: Store) -> dict[str, Any]:
    """The ways of asking in the ledger, by their keys."""
    return {row.key: row for row in store.connection.execute(select(asking))}


def _kept_by(terms: AccountTerms, known: Iterable[Any]) -> bool:
    """Whether the ledger has these terms for the replies of all ways in which the service was asked."""
    days = (terms.keep_days, terms.keep_nothing_days)
    return all((row.keep_days, row.keep_nothing_days) == days for row in known if row.service == terms.service)
