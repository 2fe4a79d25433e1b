"""A job's records in parts, the files of a folder, which several processes scan and write at the same time."""

from collections.abc import Mapping, Sequence

from sqlalchemy import func, insert, select, update

from yellowtor.answers.ledger_rows import Addresses, WorkState
from yellowtor.ledger.storage.schema import PART, last_scan, part, work
from yellowtor.ledger.storage.store import Store

IS_ASKED = work.c.state == WorkState.ASK.value


def number_parts(store: Store, job_id: int, names: Sequence[str]) -> Sequence[int]:
    """The numbers of these parts, from 1; each keeps the one that it has. The records of other parts vanish.

    Without names, the source has no parts: all of its records are in part 0.
    """
    mine = part.c.job_id == job_id
    with store.transaction() as connection:
        known = {row.name: row.number for row in connection.execute(select(part.c.name, part.c.number).where(mine))}
        fresh = [name for name in names if name not in known]
        first = max(known.values(), default=0) + 1
        made = {name: number for number, name in enumerate(fresh, first)}
        if made:
            rows = [{"job_id": job_id, "name": name, "number": number} for name, number in made.items()]
            connection.execute(insert(part), rows)
        numbers = [(known | made)[name] for name in names]
        gone = {0, *known.values()} - set(numbers or [0])
        for number in sorted(gone):
            there = (work.c.job_id == job_id, work.c.place > number * PART, work.c.place < (number + 1) * PART)
            left = {"state": WorkState.VANISHED.value, "place": None, "pin_id": None}
            connection.execute(update(work).where(*there).values(left))
            connection.execute(last_scan.delete().where(last_scan.c.job_id == job_id, last_scan.c.part == number))
    return numbers


def part_sizes(store: Store, job_id: int) -> Mapping[int, int]:
    """How many records each part has, by its number."""
    number = (work.c.place // PART).label("number")
    query = select(number, func.count()).where(work.c.job_id == job_id, work.c.place.is_not(None)).group_by(number)
    return {int(row[0]): row[1] for row in store.connection.execute(query)}


def address_shares(store: Store, job_id: int, most: int, least: int) -> Sequence[Addresses]:
    """The addresses that are asked about, in at most this many shares of the same size, which is at least `least`."""
    mine = select(work.c.address_id).distinct().where(work.c.job_id == job_id, IS_ASKED).subquery()
    there = store.connection.execute(select(func.count()).select_from(mine)).scalar_one()
    count = max(1, min(most, there // least))
    nth = select(mine.c.address_id, func.ntile(count).over(order_by=mine.c.address_id).label("share")).subquery()
    query = select(func.max(nth.c.address_id)).group_by(nth.c.share).order_by(nth.c.share)
    ends = list(store.connection.execute(query).scalars())
    return [Addresses(above, up_to) for above, up_to in zip([0, *ends], ends, strict=False)]
