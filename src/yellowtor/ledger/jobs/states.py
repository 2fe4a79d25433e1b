"""What the last scan decided about the records of a job, counted."""

from collections import Counter

from sqlalchemy import func, select

from yellowtor.answers.ledger_rows import WorkState
from yellowtor.ledger.storage.schema import PINNED, pin, work
from yellowtor.ledger.storage.store import Store


def count_states(store: Store, job_id: int) -> Counter[WorkState]:
    """The number of a job's records in each state, from indexes alone."""
    query = select(work.c.state, func.count()).where(work.c.job_id == job_id, work.c.state != WorkState.VANISHED.value)
    counts = Counter({WorkState(row[0]): row[1] for row in store.connection.execute(query.group_by(work.c.state))})
    pinned = select(work.c.state, pin.c.lat).select_from(work.join(pin, pin.c.id == work.c.pin_id))
    for state, lat in store.connection.execute(pinned.where(work.c.job_id == job_id, PINNED)):
        counts[WorkState(state)] -= 1
        counts[WorkState.PINNED if lat is not None else WorkState.DISMISSED] += 1
    return +counts
