"""The command `pairs`: addresses that are one address written differently, in one table or in two."""

import csv
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from rich.text import Text

from yellowtor.cli.console import Progress, columns, note, stderr, stdout
from yellowtor.files import written_aside
from yellowtor.reference.pairs import BATCH, AddressPair, pairs_of
from yellowtor.run.jobs.job import Job
from yellowtor.settings import read_settings
from yellowtor.spreadsheet_text import shielded
from yellowtor.wiring.outputs import check_output
from yellowtor.wiring.pairing import JobAddresses, addresses_of
from yellowtor.wiring.references import check_installed

HEADER = ("confidence", "records", "address", "other records", "other address", "differences")
SHOWN_KEYS = 20  # of records with one address


def pairs_command(path: Path, other: Path | None, *, at_least: float, to: Path | None, most: int) -> None:
    check_installed()
    if to is not None:
        for job_file in filter(None, (path, other)):
            check_output(to, read_settings(job_file, Job, "job"), job_file, None)
    progress = Progress(stderr())
    with progress.shown():
        ones = addresses_of(path, progress)
        others = addresses_of(other, progress) if other else None
        progress.phase("Comparing", len(ones.addresses))
        found: list[AddressPair] = []
        compared = 0
        for pairs in pairs_of(ones.addresses, others.addresses if others else None, at_least):
            found += pairs
            progress.advanced(min(BATCH, len(ones.addresses) - compared))
            compared += BATCH
    found.sort(key=lambda pair: (-pair.confidence, pair.one, pair.other))
    rows = list(_rows(found, ones, others or ones))
    if to is not None:
        with written_aside(to) as aside, aside.open("w", encoding="utf-8", newline="") as file:
            _write(file, rows)
        note(stderr(), f"{len(rows):,} pairs are in {to}")
        return
    if not stdout().is_terminal:
        _write(sys.stdout, rows)
    else:
        _show(rows[:most])
    cut = stdout().is_terminal and len(rows) > most
    left = f"; the first {most:,} are shown, --to FILE.csv writes all" if cut else ""
    stderr().print(
        f"{len(rows):,} pairs of {len(ones.addresses):,} addresses with a confidence of at least {at_least:g}{left}",
        soft_wrap=True,
    )


def _rows(found: list[AddressPair], ones: JobAddresses, others: JobAddresses) -> Iterator[list[str]]:
    for pair in found:
        yield [
            f"{pair.confidence:.3f}",
            _keys(ones.keys[pair.one]),
            ones.addresses[pair.one].line(),
            _keys(others.keys[pair.other]),
            others.addresses[pair.other].line(),
            pair.differences,
        ]


def _keys(keys: list[str]) -> str:
    more = f" and {len(keys) - SHOWN_KEYS:,} more" if len(keys) > SHOWN_KEYS else ""
    return ", ".join(keys[:SHOWN_KEYS]) + more


def _write(file: IO[str], rows: list[list[str]]) -> None:
    write = csv.writer(file)
    write.writerow(HEADER)
    write.writerows([shielded(cell) for cell in row] for row in rows)


def _show(rows: list[list[str]]) -> None:
    table = columns("sure", "record", "address", "differs", left=frozenset({"record", "address", "differs"}))
    for sure, keys, address, other_keys, other_address, differences in rows:
        table.add_row(f"  {sure}", Text(keys), Text(address), Text(differences, "bright_black"))
        table.add_row("", Text(other_keys), Text(other_address), "")
    stdout().print(table)
