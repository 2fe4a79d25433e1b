"""The command `quota`: what is left and what was used."""

import csv
import json
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import asdict
from datetime import UTC, timedelta
from decimal import Decimal
from pathlib import Path
from typing import TextIO

from rich.console import Console
from rich.text import Text

from yellowtor.allowance.price import MILLION, money
from yellowtor.allowance.windows import Left
from yellowtor.answers.ledger_rows import Charged
from yellowtor.cli.console import amount_of, columns, note, short, stderr, stdout, write_out
from yellowtor.cli.inputs import check_ending
from yellowtor.files import written_aside
from yellowtor.run.jobs.record_settings import STANDARD
from yellowtor.run.plan import currency_of
from yellowtor.run.quota import DAYS, Quota, quotas
from yellowtor.wiring.ledgers import job_usage
from yellowtor.wiring.process import CLOCK

BAR = 40  # characters of the longest


def quota_command(job: Path, *, as_json: bool, png: Path | None) -> None:
    with job_usage(job) as (services, book):
        found = quotas(services, book, CLOCK.now())
    if png:
        check_ending(png, "--png", ".png")
        _draw(found, png)
    if as_json:
        write_out(json.dumps([asdict(quota) for quota in found], ensure_ascii=False, indent=2))
        return
    for quota in found:
        _show(stdout(), quota)
    if not any(quota.windows for quota in found):
        note(stderr(), "no window limits these services: their descriptions name none")


def requests_command(job: Path, into: Path) -> None:
    """The record of every request, as delimited text (RFC 4180)."""
    fields = [name for name in Charged._fields if name != "cost"]
    with job_usage(job) as (services, book), _opened(into) as file:
        currencies = {service.account: currency_of(service, CLOCK.now()) for service, _ in services}
        write = csv.writer(file)
        count = 0
        write.writerow([*fields, "cost", "currency"])
        for page in book.requests(list(currencies)):
            count += len(page)
            for one in page:
                cost = f"{Decimal(one.cost) / MILLION:f}" if currencies[one.account] else ""
                write.writerow([*(getattr(one, name) for name in fields), cost, currencies[one.account]])
    stderr().print(f"{count:,} requests written" + ("" if into == STANDARD else f" to {into}"), soft_wrap=True)


@contextmanager
def _opened(into: Path) -> Iterator[TextIO]:
    if into == STANDARD:
        yield sys.stdout
        return
    check_ending(into, "--requests", ".csv")
    with written_aside(into) as aside, aside.open("w", encoding="utf-8", newline="") as file:
        yield file


def _draw(found: Sequence[Quota], png: Path) -> None:
    from yellowtor.markers.curve import Usage, draw_usage

    usages = []
    for quota in found:
        cost = f", {money(quota.cost, quota.currency)} this month" if quota.currency else ""
        fills = [(w.window, w.limit - w.left, w.limit, _words(w, quota.currency)) for w in quota.windows]
        usages.append(Usage(f"{quota.account}: what was used{cost}", _every_day(quota.by_day), fills))
    draw_usage(png, usages)
    stderr().print(f"drawn: {png}", soft_wrap=True)


def _every_day(counts: Mapping[str, int]) -> dict[str, int]:
    """With the days on which nothing was sent."""
    last = CLOCK.now().astimezone(UTC).date()
    days = [(last - timedelta(days=back)).isoformat() for back in reversed(range(DAYS))]
    return {day: counts.get(day, 0) for day in days}


def _words(left: Left, currency: str) -> str:
    used = amount_of(left, left.limit - left.left, currency)
    limit = amount_of(left, left.limit, currency)
    return f"{used} of {limit}"


def _show(console: Console, quota: Quota) -> None:
    pace = f"{quota.per_second:g} a second" if quota.per_second else "no pace"
    shared = f"{', '.join(quota.services)} · " if list(quota.services) != [quota.account] else ""
    cost = f" · {money(quota.cost, quota.currency)} this month" if quota.currency else ""
    console.print(Text(quota.account, "bold").append(f"  {shared}{pace}{cost}", "bright_black"))
    if quota.windows:
        table = columns("window", "used", "left", "of", "more at (UTC)")
        for left in quota.windows:
            style = "bright_red" if not left.left else "yellow" if left.left < left.limit / 10 else ""
            amounts = (left.limit - left.left, left.left, left.limit)
            cells = [amount_of(left, amount, quota.currency) for amount in amounts]
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
    table = columns(title, "requests", "")
    for name, count in counts.items():
        bar = "━" * max(1, round(BAR * count / max(counts.values())))
        table.add_row(f"  {short(name)}", f"{count:,}", Text(bar, "bright_black"))
    console.print(table)
