"""What a preview found, for people and as JSON."""

import json
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from yellowtor.run.preview import Preview, Previews

ROWS = 20  # problems that are shown


def show_preview(console: Console, found: Previews) -> None:
    """A few records whole, then what would not be asked or looks odd, then the counts."""
    for seen in found.first:
        console.print(_record(seen))
    if found.problems:
        console.print(Text("Would not be asked, or look odd", "bold"))
        console.print(_problems(found.problems[:ROWS]))
        if len(found.problems) > ROWS:
            console.print(f"… and {len(found.problems) - ROWS} more (all of them: --json)", style="bright_black")
        console.print()
    console.print(_counts(found))
    console.print("Nothing was sent, nothing written.")


def _record(seen: Preview) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False, title_justify="left", title_style="bold")
    table.title = Text(seen.key, "bold").append(f"  {seen.name}" if seen.name else "", "default")
    table.add_column(style="bright_black")
    table.add_column(overflow="fold")
    for column, cell in seen.cells.items():
        table.add_row(f"  {column}", Text(cell.replace("\r\n", "⏎").replace("\n", "⏎")))
    table.add_row("  address", Text(seen.address, "bold"))
    if seen.parsed:
        table.add_row("  parsed", Text(" · ".join(f"{name} {text}" for name, text in seen.parsed.items())))
    if seen.fate:
        table.add_row("  not asked", Text(seen.fate, "yellow"))
    else:
        table.add_row("  request", Text(seen.request))
    for why in seen.odd:
        table.add_row("  odd", Text(why, "yellow"))
    table.add_row()
    return table


def _problems(problems: Sequence[Preview]) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in ("  record", "address", "why"):
        table.add_column(name, overflow="fold")
    for seen in problems:
        why = "; ".join([*([f"not asked: {seen.fate}"] if seen.fate else []), *seen.odd])
        table.add_row(Text(f"  {seen.key}"), Text(seen.address), Text(why, "yellow"))
    return table


def _counts(found: Previews) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False)
    table.add_column()
    table.add_column(justify="right")
    rows = [
        ("records", found.records),
        ("have coordinates already: not asked", found.kept),
        ("incomplete: not asked", found.incomplete),
        ("distinct questions", found.questions),
        *((f"looks odd: {why}", count) for why, count in found.odd.most_common()),
    ]
    for label, count in rows:
        table.add_row(label, f"{count:,}")
    return table


def preview_json(found: Previews) -> str:
    data: dict[str, Any] = asdict(found) | {"odd": dict(found.odd)}
    return json.dumps(data, indent=2, ensure_ascii=False)
