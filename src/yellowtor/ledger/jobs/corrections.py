"""Corrections of addresses: stored flat, so that no corrected address is corrected again.

A record whose address is corrected, or was, is scanned anew by the next run: its fingerprint is taken away.
"""

from collections.abc import Sequence

from sqlalchemy import Connection, and_, delete, insert, or_, select, update

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.decisions import Correction
from yellowtor.answers.ledger_rows import WorkState
from yellowtor.contracts.subject import Subject, read_subject, subject_text
from yellowtor.ledger.storage.schema import address, correction, job, last_scan, work

AT_ONCE = 500  # keys in a condition
STATES = [state.value for state in WorkState]  # named, for the index


def correct(connection: Connection, address_key: str, corrected: Subject, who: str, why: str, now: str) -> bool:
    """Have an address asked as another one; whether that is news.

    Corrections that lead to it lead to the new one from now on. An address that is corrected to itself is corrected no
    more.
    """
    target = subject_key(corrected)
    query = select(correction.c.corrected_key, correction.c.why).where(correction.c.address_key == address_key)
    if (there := connection.execute(query).first()) and tuple(there) == (target, why):
        return False
    before = [address_key, target, there[0] if there else address_key]
    changed = {"corrected_key": target, "parts": subject_text(corrected), "who": who, "why": why, "made_at": now}
    connection.execute(delete(correction).where(or_(correction.c.address_key.in_([address_key, target]))))
    connection.execute(update(correction).where(correction.c.corrected_key == address_key).values(changed))
    if target != address_key:
        connection.execute(insert(correction).values(address_key=address_key, **changed))
    connection.execute(delete(correction).where(correction.c.address_key == correction.c.corrected_key))
    _scan_anew(connection, before)
    return True


def uncorrect(connection: Connection, address_key: str, *, from_target: bool = False) -> int:
    """Remove the correction of an address; from_target: also those that lead to it. How many there were."""
    mine = correction.c.address_key == address_key
    if from_target:
        mine = or_(mine, correction.c.corrected_key == address_key)
    keys = connection.execute(select(correction.c.address_key, correction.c.corrected_key).where(mine)).all()
    if keys:
        connection.execute(delete(correction).where(mine))
        _scan_anew(connection, [key for pair in keys for key in pair])
    return len(keys)


def corrections_of(
    connection: Connection, address_keys: Sequence[str] | None = None, *, leading_to: str = ""
) -> list[Correction]:
    """The corrections of these addresses, or all of them; or those of one address and those that lead to it."""
    there = correction.join(address, address.c.key == correction.c.address_key)
    columns = (address.c.parts, correction.c.parts, correction.c.who, correction.c.why, correction.c.made_at)
    query = select(*columns).select_from(there).order_by(correction.c.address_key)
    if leading_to:
        query = query.where(or_(correction.c.address_key == leading_to, correction.c.corrected_key == leading_to))
    pages = [None] if address_keys is None else range(0, len(address_keys), AT_ONCE)
    found = []
    for at in pages:
        some = query if at is None else query.where(correction.c.address_key.in_(address_keys[at : at + AT_ONCE]))  # type: ignore[index]
        found += [Correction(read_subject(row[0]), read_subject(row[1]), *row[2:]) for row in connection.execute(some)]
    return found


def _scan_anew(connection: Connection, address_keys: Sequence[str]) -> None:
    numbers = select(address.c.id).where(address.c.key.in_(address_keys))
    theirs = and_(work.c.job_id.in_(select(job.c.id)), work.c.state.in_(STATES), work.c.address_id.in_(numbers))
    connection.execute(update(work).where(theirs).values(raw_hash=""))
    connection.execute(delete(last_scan))
