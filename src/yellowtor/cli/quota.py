"""The command `quota`: what is left, and what it was used for."""

import json
from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path

from rich.console import Console
from rich.table import Table
from rich.text import Text

from yellowtor.allowance.price import money
from yellowtor.cli.console import note, stderr, stdout, write_out
from yellowtor.opening import CLOCK
from yellowtor.run.quota import Quota, quotas
from yellowtor.wiring import job_usage

BAR = 40  # characters of the longest


def quota_command(job: Path, *, as_json: bool) -> None:
    with job_usage(job) as (services, book):
        found = quotas(services, book, CLOCK.now())
    if as_json:
        write_out(json.dumps([asdict(quota) for quota in found], ensure_ascii=False, indent=2))
        return
    for quota in found:
        _show(stdout(), quota)
    if not any(quota.windows for quota in found):
        note(stderr(), "no window limits these services: their descriptions name none")


def _show(console: Console, quota: Quota) -> None:
    pace = f"{quota.per_second:g} a second" if quota.per_second else "no pace"
    shared = f"{', '.join(quota.services)} · " if list(quota.services) != [quota.account] else ""
    cost = f" · {money(quota.cost, quota.currency)} this month" if quota.currency else ""
    console.print(Text(quota.account, "bold").append(f"  {shared}{pace}{cost}", "bright_black"))
    if quota.windows:
        table = _table("window", "used", "left", "of", "more at (UTC)")
        for left in quota.windows:
            style = "bright_red" if not left.left else "yellow" if left.left < left.limit / 10 else ""
            cells = (f"{left.limit - left.left:,}", f"{left.left:,}", f"{left.limit:,}")
            more = left.resets_at[:16].replace("T", " ") or "–"
            table.add_row(*(Text(cell, style) for cell in (f"  {left.window}", *cells, more)))
        console.print(table)
    for title, counts in (
        ("by day", quota.by_day),
        ("by job, this month", quota.by_job),
        ("by reply, this month", quota.by_kind),
    ):
        _bars(console, title, counts)
    console.print()


def _bars(console: Console, title: str, counts: Mapping[str, int]) -> None:
    if not counts:
        return
    console.print()
    table = _table(title, "requests", "")
    for name, count in counts.items():
        bar = "━" * max(1, round(BAR * count / max(counts.values())))
        table.add_row(f"  {_short(name)}", f"{count:,}", Text(bar, "bright_black"))
    console.print(table)


def _short(name: str) -> str:
    path = Path(name)
    return str(path.relative_to(Path.cwd())) if path.is_relative_to(Path.cwd()) else name


def _table(*names: str) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in names:
        first = name == names[0]
        table.add_column(
            f"  {name}" if first else name, justify="left" if first or not name else "right", overflow="fold"
        )
    return table
