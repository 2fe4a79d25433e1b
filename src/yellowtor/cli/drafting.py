"""The command `draft`: finds the source and the service, asks if it is unsure, writes the job with reasons."""

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

import typer
from rich.table import Table
from rich.text import Text

from yellowtor.addresses.guess import find_header, guess_columns
from yellowtor.cli.console import note, stderr, write_out
from yellowtor.contracts.secret import Secret
from yellowtor.database_url import DatabaseUrl
from yellowtor.errors import BadJob, BadSource
from yellowtor.run.draft import LABELS, PARTS, Draft, Sample, draft_job
from yellowtor.run.draft_reference import MORE, ReferenceDraft, draft_reference, is_reference
from yellowtor.run.jobs.record_settings import STANDARD, Records
from yellowtor.settings import parse_toml
from yellowtor.tables.folder import FolderTable, is_folder
from yellowtor.tables.remote_folder import is_remote
from yellowtor.tables.workbook.read_ahead import WORKBOOKS
from yellowtor.wiring.process import PROCESS
from yellowtor.wiring.tables import database_password, file_table, folder_of

ROWS = 5_000  # that guesses are made from
LOOKED_AT_ROWS = 200  # of each sheet
LOOKED_AT = 40  # tables of a database


@dataclass(frozen=True)
class DraftWish:
    """What the command line asks for; written_as is `job` or `reference`, None: what the source looks like."""

    source: str
    into: Path | None
    service: Path | None
    table: str | None
    sheet: str | None
    password: str | None
    written_as: str | None


def draft_command(wish: DraftWish) -> None:
    source, into = wish.source, wish.into
    if into and into.exists():
        raise BadJob(f"{into} already exists. Name another file with --into, or remove it. Nothing was written.")
    folder = into.absolute().parent if into else Path.cwd()
    sample, target = _sample_of(wish, folder)
    if wish.written_as == "reference" or (wish.written_as is None and not wish.service and is_reference(sample)):
        draft: Draft = draft_reference(sample, Path(source).name.partition(".")[0] if "://" not in source else source)
        about = "Nearly all rows have coordinates: this describes a reference table (--as job writes a job instead)."
    else:
        described, about = _service(wish.service, folder)
        draft = draft_job(sample, described, target, _choose)
    if into:
        try:
            into.write_text(draft.text, encoding="utf-8")
        except OSError as error:
            raise BadJob(f"{into} can't be written: {error.strerror}. Nothing was written.") from error
    else:
        write_out(draft.text)
    _show(draft, sample, about, into)


def _sample_of(wish: DraftWish, folder: Path) -> tuple[Sample, str]:
    """The beginning of the source, and a name for what gets the answers."""
    source, path = wish.source, Path(wish.source)
    if "://" in source and not is_remote(source):
        sample = _database_sample(source, folder, wish.table, wish.password)
        return sample, f"{sample.said['table']}_positions"
    if is_remote(source) or is_folder(path):
        return _folder_sample(source, folder)
    sample = _file_sample(path, folder, wish.sheet)
    endings = "".join(path.suffixes[-2:]) if path.suffix == ".gz" else path.suffix
    return sample, f"{path.name.removesuffix(endings)}-placed{endings}" if path != STANDARD else "-"


def _folder_sample(source: str, folder: Path) -> tuple[Sample, str]:
    """The beginning of the files of a folder or of a pattern; and a folder beside it."""
    there, pattern = folder_of(Path(source), Path.cwd(), searched=True)
    target = f"{there.name}-placed"
    to, _ = folder_of(Path(target), Path.cwd(), searched=False)
    table = FolderTable(there, pattern, to, {})
    rows = list(islice((row for batch in table.batches() for row in batch), ROWS))
    said = source
    if not is_remote(source):
        target, said = (Path(os.path.relpath(Path(one).absolute(), folder)).as_posix() for one in (target, source))
    return Sample(source, {"file": said}, table.header, rows), target


def _choose(question: str, options: Sequence[str]) -> str:
    """On a terminal a person chooses; elsewhere the first is taken, and that is said."""
    if PROCESS.input is None and stderr().is_terminal:
        while (
            answer := typer.prompt(f"{question} ({', '.join(options)})", default=options[0], err=True)
        ) not in options:
            note(stderr(), f"{answer!r} is not one of them")
        return str(answer)
    note(stderr(), f"{question} Took {options[0]!r}; it might be {' or '.join(map(repr, options[1:]))}")
    return options[0]


def _file_sample(path: Path, folder: Path, sheet: str | None) -> Sample:
    block = None
    if sheet is None and path.suffix.lower() in WORKBOOKS:
        sheet, block = _pick_sheet(path)
    table = file_table(path, Records(file=path, key="?", sheet=sheet, block=block))
    for remark in table.remarks:
        note(stderr(), remark)
    rows = list(islice((row for batch in table.batches() for row in batch), ROWS))
    there = Path(os.path.relpath(path.absolute(), folder)).as_posix() if path != STANDARD else "-"
    said: dict[str, Any] = {"file": there}
    if sheet:
        said["sheet"] = sheet
    if block:
        said["block"] = block
    return Sample(str(path), said, table.header, rows)


def _pick_sheet(path: Path) -> tuple[str | None, str | None]:
    """The sheet that looks most like addresses, if it is not the first; its block, if titles stand above."""
    from yellowtor.tables.workbook.cell_range import letters
    from yellowtor.tables.workbook.workbook_file import beginnings

    sheets = [(beginning, *find_header(beginning.rows)) for beginning in beginnings(path, LOOKED_AT_ROWS)]
    if not sheets:
        return None, None
    most = max(parts for _, _, parts in sheets)
    likely = [one for one in sheets if one[2] == most] if most else sheets[:1]
    if len(sheets) > 1:
        listing = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
        for column in ("sheet", "parts of an address in it"):
            listing.add_column(column)
        for beginning, _, parts in sheets:
            listing.add_row(Text(beginning.sheet), Text(f"{parts or '–'}", "default" if parts else "bright_black"))
        stderr().print(listing)
        stderr().print()
    names = [one[0].sheet for one in likely]
    name = _choose("Which sheet holds the records?", names) if len(likely) > 1 else names[0]
    chosen, at, _ = next(one for one in sheets if one[0].sheet == name)
    first = next((column for column, cell in enumerate(chosen.rows[at]) if cell.strip()), 0) if at else 0
    block = f"{letters(chosen.left + first)}{chosen.top + at + 1}" if at else None
    return name if name != sheets[0][0].sheet else None, block


def _database_sample(url: str, folder: Path, table: str | None, password_from: str | None) -> Sample:
    from yellowtor.tables.database.database import sample_of, tables_of
    from yellowtor.tables.database.database_source import DatabaseLocation, Named

    password = database_password(password_from, folder)
    if table is None:
        table = _pick_table([str(named) for named in tables_of(url, password, folder)], url, password, folder)
    place = DatabaseLocation(DatabaseUrl(url, password), Named.parse(table))
    header, rows, keys = sample_of(place, folder, ROWS)
    said = {"database": url, "password_from": password_from, "table": table}
    return Sample(
        f"{table} in {place.shown()}", {k: v for k, v in said.items() if v}, header, rows, keys, database=True
    )


def _pick_table(names: Sequence[str], url: str, password: Secret | None, folder: Path) -> str:
    """The table that looks most like addresses, of those that are there."""
    from yellowtor.tables.database.database import sample_of
    from yellowtor.tables.database.database_source import DatabaseLocation, Named

    found: dict[str, Sequence[str]] = {}
    for name in names[:LOOKED_AT]:
        header, rows, _ = sample_of(DatabaseLocation(DatabaseUrl(url, password), Named.parse(name)), folder, 200)
        found[name] = [part for part in PARTS if part in guess_columns(header, rows)]
    listing = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for column in ("table", "parts of an address in it"):
        listing.add_column(column)
    for name, parts in found.items():
        listing.add_row(Text(name), Text(", ".join(parts) or "–", "default" if parts else "bright_black"))
    stderr().print(listing)
    likely = sorted((name for name, parts in found.items() if parts), key=lambda name: -len(found[name]))
    if not likely:
        raise BadSource("No table there has a column that looks like a part of an address. Name one with --table.")
    if len(names) > LOOKED_AT:
        note(stderr(), f"only the first {LOOKED_AT} of {len(names)} tables were looked at; name one with --table")
    return _choose("Which table holds the records?", likely) if len(likely) > 1 else likely[0]


def _service(given: Path | None, folder: Path) -> tuple[str, str]:
    """The service description as the job names it, and what to say about it."""
    if given is not None:
        return Path(os.path.relpath(given.absolute(), folder)).as_posix(), ""
    found = [path for path in sorted(folder.glob("*.toml")) if _toml(path).keys() & {"forward", "reference"}]
    if len(found) == 1:
        return found[0].name, f"The service is that of {found[0].name}, the only description here."
    if found:
        names = sorted((path.name for path in found), key=lambda name: (len(name), name))
        return _choose("Which description is that of the service?", names), ""
    return "service.toml", "Put the name of your service description into the job: it says service.toml now."


def _toml(path: Path) -> Mapping[str, Any]:
    try:
        return parse_toml(path.read_text(encoding="utf-8-sig"))
    except (OSError, ValueError):
        return {}


def _show(draft: Draft, sample: Sample, about: str, into: Path | None) -> None:
    console = stderr()
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in ("", "column", "why"):
        table.add_column(name, overflow="fold")
    for part in (*PARTS, *LABELS, *MORE):
        if guess := draft.guesses.get(part):
            table.add_row(Text(part, "bold"), Text(guess.column), Text(guess.why, "bright_black"))
    console.print(table)
    unused = [name for name in sample.header if name and name not in {g.column for g in draft.guesses.values()}]
    if unused:
        console.print(f"Not used: {', '.join(unused)}", style="bright_black", soft_wrap=True)
    console.print()
    for key, line in draft.addresses:
        console.print(Text(f"{key}  ", "bright_black").append(line, "default"), soft_wrap=True)
    console.print()
    if about:
        console.print(about, soft_wrap=True)
    if into and isinstance(draft, ReferenceDraft):
        console.print(
            f"Wrote {into}. Next: yellowtor index {into}, then name it as ask.service of a job", soft_wrap=True
        )
    elif into:
        console.print(
            f"Wrote {into}. Next: yellowtor preview {into}, then yellowtor run {into} --at-most 10", soft_wrap=True
        )
