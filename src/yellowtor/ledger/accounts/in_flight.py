"""Requests in flight: which run sent them, and whether that run is still alive."""

from collections.abc import Sequence

from sqlalchemy import ColumnElement, and_, select, update

from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import request, run
from yellowtor.ledger.storage.store import Running, Store, Worker

FIELDS = (run.c.id, run.c.job_id, run.c.started_at, run.c.seen_at, run.c.who, run.c.host, run.c.process, run.c.machine)


def unended(store: Store, which: ColumnElement[bool]) -> list[Running]:
    """Of these runs, those that have not said that they ended, in the order in which they began."""
    rows = store.connection.execute(select(*FIELDS).where(run.c.ended_at.is_(None), which).order_by(run.c.id))
    return [Running(*row[:4], Worker(*row[4:])) for row in rows]


def abandon(store: Store, runs: object, now: str) -> None:
    """Count the requests in flight of these runs (numbers or a query) as spent."""
    left = and_(request.c.state == "reserved", request.c.run_id.in_(runs))  # type: ignore[arg-type]
    store.connection.execute(update(request).where(left).values(state="abandoned", settled_at=now))


def others_in_flight(store: Store, run_id: int) -> bool:
    """Whether another run has a request in flight."""
    flying = select(request.c.id).where(request.c.state == "reserved", request.c.run_id != run_id)
    return store.connection.execute(flying.limit(1)).first() is not None


def asked_elsewhere(store: Store, run_id: int, question_keys: Sequence[str]) -> set[str]:
    """Those of the questions that another live run has in flight; in a transaction.

    Requests of dead runs count as spent, and their questions may be asked once more.
    """
    flying = select(request.c.question_key, request.c.run_id).where(
        request.c.state == "reserved", request.c.run_id != run_id
    )  # few, and all in one index
    wanted = set(question_keys)
    found = [row for row in store.connection.execute(flying).all() if row.question_key in wanted]
    if not found:
        return set()
    runs = {row.run_id for row in found}
    alive = {one.id for one in unended(store, run.c.id.in_(runs)) if store.is_alive(one)}
    if dead := runs - alive:
        theirs = and_(request.c.state == "reserved", request.c.run_id.in_(dead), request.c.question_key.in_(wanted))
        now = stamp(store.clock.now())
        store.connection.execute(update(request).where(theirs).values(state="abandoned", settled_at=now))
    return {row.question_key for row in found if row.run_id in alive}
