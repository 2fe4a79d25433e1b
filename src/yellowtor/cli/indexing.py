"""The command `index`: build the index of a reference table, or show what it contains."""

import json
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

from rich.text import Text

from yellowtor.cli.console import Progress, columns, stderr, stdout, write_out
from yellowtor.errors import BadJob
from yellowtor.services.reference_settings import ReferenceDescription
from yellowtor.wiring.references import build_index_of, ensure_index, index_counts, index_size, reference_place
from yellowtor.wiring.services import read_description

if TYPE_CHECKING:
    from yellowtor.reference.build import IndexCounts


def index_command(path: Path, *, stats: bool, as_json: bool) -> None:
    description = read_description(path)
    if not isinstance(description, ReferenceDescription):
        raise BadJob(f"{path} describes a service that is asked by requests: it has no [reference]. Nothing was built.")
    place = reference_place(description, path)
    progress = Progress(stderr())
    with progress.shown():
        if stats:
            ensure_index(place, progress)
        else:
            build_index_of(place, progress)
    counts = index_counts(place)
    if as_json:
        write_out(json.dumps({**asdict(counts), "folder": str(place.index), "bytes": index_size(place)}, indent=2))
        return
    console = stdout() if stats else stderr()
    table = columns("", "")
    table.columns[1].justify = "right"
    for name, value in _lines(counts):
        table.add_row(name, value)
    console.print(Text(f"{description.service.name}: {place.shown_as}", "bold"))
    console.print(table)
    for what, examples in counts.examples.items():
        console.print(Text(f"  {what}: {'; '.join(examples)}", "bright_black"), soft_wrap=True)
    console.print(Text(f"  {index_size(place) / 1e6:,.1f} MB in {place.index}", "bright_black"), soft_wrap=True)


def _lines(counts: "IndexCounts") -> list[tuple[str, str]]:
    """What is in the index, and what was left out, in words."""
    lines = [
        ("rows", counts.rows),
        ("addresses", counts.addresses),
        ("streets", counts.streets),
        ("places", counts.places),
        ("repeated addresses, left out", counts.duplicates),
        ("one address at two places", counts.two_places),
        ("impossible positions, left out", counts.impossible),
        *((f"{what}, left out", count) for what, count in counts.left_out.items()),
    ]
    shown = [(name, f"{value:,}") for name, value in lines if value or name in {"rows", "addresses", "places"}]
    for title, own in (("country", counts.countries), ("level", counts.levels)):
        shown += [(f"{title}: {name or 'not stated'}", f"{count:,}") for name, count in own.items()]
    return shown
