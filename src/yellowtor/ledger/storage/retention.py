"""Deletes replies: those that are too old by the service's terms, or by a person's wish."""

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, and_, delete, func, or_, select, update

from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.ledger.storage.instants import stamp
from yellowtor.ledger.storage.schema import answer, asking, candidates, job, reply
from yellowtor.ledger.storage.store import Store

NOTHING = Kind.NOTHING_FOUND.value


def expire(store: Store, now: datetime) -> Mapping[str, int]:
    """Delete every reply that is too old; the number by service."""
    rows = store.connection.execute(
        select(asking.c.service, func.max(asking.c.keep_days), func.max(asking.c.keep_nothing_days))
        .where(or_(asking.c.keep_days.is_not(None), asking.c.keep_nothing_days.is_not(None)))
        .group_by(asking.c.service)
    )
    counts = {}
    for service, days, nothing_days in rows.all():
        lives = [(reply.c.kind != NOTHING, days), (reply.c.kind == NOTHING, nothing_days or days)]
        past = [and_(kind, reply.c.received_at < before(now, life)) for kind, life in lives if life is not None]
        if count := let_go(store, and_(reply.c.service == service, or_(*past))):
            counts[service] = count
    return counts


def let_go(store: Store, which: ColumnElement[bool]) -> int:
    """Forget these replies, what was read from them and judged by them; how many there were. Pins stay."""
    doomed = select(reply.c.id).where(which)
    if store.connection.execute(doomed.limit(1)).first() is None:
        return 0
    with store.transaction() as connection:
        resting = or_(answer.c.reply_id.in_(doomed), answer.c.newest.in_(doomed))
        connection.execute(delete(answer).where(resting))
        connection.execute(delete(candidates).where(candidates.c.reply_id.in_(doomed)))
        connection.execute(update(job).values(judged_by=""))
        return connection.execute(delete(reply).where(which)).rowcount


def before(now: datetime, days: int) -> str:
    """The instant a number of days ago, as the ledger stores it."""
    return stamp(now.astimezone(UTC) - timedelta(days=days))
