"""The verb `preview`: read the source and say how each record would be asked about. Nothing is sent or kept."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from yellowtor.addresses.keys import digest, subject_key
from yellowtor.addresses.parsing.parse import parse
from yellowtor.addresses.suspicion import suspicions
from yellowtor.contracts.address import Address
from yellowtor.contracts.table import Row, Table
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.new_records import lacking
from yellowtor.run.phases.row_reader import RowReader, shown_key
from yellowtor.run.phases.scan import key_twice, no_key
from yellowtor.run.ports import Service, Watcher

HELD = "has coordinates already"
PROBLEMS = 12  # how many of each kind are kept to be shown


@dataclass(frozen=True, slots=True)
class Preview:
    """One record: its cells, the address they make, the request about it; why it would not be asked, what is odd.

    parsed are the parts of the address by their names, of the first records.
    """

    key: str
    name: str
    cells: dict[str, str]
    address: str
    request: str
    fate: str
    odd: Sequence[str]
    parsed: Mapping[str, str] = field(default_factory=dict)


@dataclass
class Previews:
    """Counts over the whole source, the first few records, and those that would not be asked or look odd."""

    records: int = 0
    questions: int = 0
    kept: int = 0
    incomplete: int = 0
    odd: Counter[str] = field(default_factory=Counter)
    first: list[Preview] = field(default_factory=list)
    problems: list[Preview] = field(default_factory=list)


def preview(job: Job, table: Table, services: Sequence[Service], count: int, watch: Watcher) -> Previews:
    """Read the source to its end. Raises BadSource for what is wrong with it, its keys too."""
    reader = RowReader(job, table)
    found = Previews()
    questions: set[bytes] = set()
    seen_keys: set[int] = set()  # their hashes: 64 bits are enough for millions
    shown: Counter[str] = Counter()
    watch.phase("Reading")
    for batch in table.batches():
        keys = reader.keys(batch)
        if not all(keys):
            raise no_key(reader, table, found.records + keys.index("") + 1)
        for key, row in zip(keys, batch, strict=True):
            found.records += 1
            if hash(key) in seen_keys:
                raise key_twice(reader, table, key)
            seen_keys.add(hash(key))
            seen, question = _preview(reader, services, key, row, keep=job.records.keep)
            _count(found, seen)
            if question:
                questions.add(question)
            whys = [seen.fate, *seen.odd] if seen.fate != HELD else seen.odd
            if len(found.first) < count:
                found.first.append(_with_request(seen, reader, services))
            if any(why and shown[why] < PROBLEMS for why in whys):
                shown.update(filter(None, whys))
                found.problems.append(seen)
        watch.advanced(len(batch))
    found.questions = len(questions)
    return found


def _with_request(seen: Preview, reader: RowReader, services: Sequence[Service]) -> Preview:
    """The preview with the parsed parts, and the request to the first service that can be asked."""
    address = reader.composing.compose(seen.cells)
    able = [service for service in services if not service.asking.lacks(address)]
    parsed = parse(address).named() if isinstance(address, Address) else {}
    return replace(seen, request=(able or services)[0].shown(address), parsed=parsed)


def _preview(
    reader: RowReader, services: Sequence[Service], key: str, row: Row, *, keep: bool
) -> tuple[Preview, bytes | None]:
    """A record as it would go, and the question it would ask."""
    cells = reader.cells(row)
    address = reader.composing.compose(cells)
    fate = HELD if reader.held(row).position and keep else ""
    if not fate:
        fate = reader.composing.why_not(cells, address) or lacking([s.asking for s in services], address)
    own = reader.composing.own_line(cells)
    odd = list(suspicions(own)) if own and not fate else []
    question = None if fate else bytes.fromhex(digest(subject_key(address)))
    line = "" if reader.composing.says_nothing(cells) else address.line()
    return Preview(shown_key(key), reader.name(row), cells, line, "", fate, odd), question


def _count(found: Previews, seen: Preview) -> None:
    found.kept += seen.fate == HELD
    found.incomplete += bool(seen.fate) and seen.fate != HELD
    found.odd.update(seen.odd)
