"""The command `plan`: what a run would do, cost, and when it would be done; as a table, as JSON, as a picture."""

import json
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import asdict
from datetime import datetime
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from yellowtor.allowance.forecast import Forecast
from yellowtor.allowance.price import money
from yellowtor.allowance.windows import Left, Window
from yellowtor.cli.clustering import shared
from yellowtor.cli.console import Progress, amount_of, columns, duration, stderr, stdout, write_out
from yellowtor.cli.inputs import check_ending
from yellowtor.cli.report_json import plan_json
from yellowtor.run.parts import Options
from yellowtor.run.plan import Plan
from yellowtor.run.run_job import PlannedRun, plan_run
from yellowtor.wiring.run_parts import PartsOptions, job_parts


def plan_command(path: Path, options: Options, what_if: list[str], *, as_json: bool, png: Path | None) -> None:
    progress = Progress(stderr())
    with ExitStack() as stack:
        parts, remarks = stack.enter_context(job_parts(path, PartsOptions(options.again_failed, sends=False)))
        for remark in remarks:
            progress.remark(remark)
        if options.on:
            parts = stack.enter_context(shared(path, parts, options, progress))
        with progress.shown():
            planned = plan_run(parts, options, what_if, progress)
        windows = parts.book.requests[planned.plan.service].windows
        now = parts.clock.now()
    if png:
        check_ending(png, "--png", ".png")
        draw(planned, windows, now, png)
    if as_json:
        write_out(json.dumps(_json(planned), ensure_ascii=False, indent=2))
    else:
        show(stdout(), planned)
        if png:
            stderr().print(f"drawn: {png}", soft_wrap=True)


def draw(planned: PlannedRun, windows: Sequence[Window], now: datetime, png: Path) -> None:
    from yellowtor.markers.curve import Ceiling, CurveLine, draw_curve

    plan = planned.plan
    lines = [CurveLine(plan.service, plan.forecast.curve)]
    lines += [CurveLine(f"{later.service} (at most)", later.forecast.curve) for later in plan.later if later.most]
    lines += [CurveLine(other.what, other.forecast.curve, faint=True) for other in planned.otherwise]
    calendar = [(w, left) for w, left in zip(windows, plan.left, strict=True) if not w.rolling and not w.money]
    ceilings = [Ceiling(f"{w.limit:,} a {w.name}", left.left, w.limit, w.end) for w, left in calendar]
    title = f"{plan.forecast.requests:,} requests to {plan.service}, done by {_when(plan.forecast)} UTC"
    draw_curve(png, title, now, lines, ceilings)


def show(console: Console, planned: PlannedRun) -> None:
    plan = planned.plan
    scan = planned.scan
    console.print(_records(plan, scan.records))
    console.print()
    console.print(_services(plan))
    spent = [left for left in plan.left if left.left < left.limit or not left.left]
    for left in spent:
        console.print(Text(f"  {_left(left, plan.currency)}", "bright_black"))
    if planned.otherwise:
        console.print()
        console.print(_otherwise(planned))
    console.print()
    console.print(_end(plan))
    if plan.forecast.stretches > 1:
        console.print(
            "`run --wait` sleeps until the quota is renewed. Without it, records wait, and the next run continues."
        )


def _end(plan: Plan) -> str:
    """When the run is complete, and how certain that is."""
    made = [(plan.service, plan.forecast), *((later.service, later.forecast) for later in plan.later)]
    slow = {name: forecast.reply_s for name, forecast in made if forecast.requests and forecast.reply_s}
    unknown = [name for name, forecast in made if forecast.requests and forecast.ends_at and forecast.seconds is None]
    ends = plan.ends_at[:16].replace("T", " ")
    if not any(forecast.requests for _, forecast in made):
        return "There is nothing to ask."
    if not ends:
        return "These limits make completion impossible."
    if unknown:
        return f"The duration is unknown: {' and '.join(unknown)} has no pace, and no reply so far."
    if slow:
        said = " and ".join(f"those of {name} {_brief(reply_s)}" for name, reply_s in slow.items())
        return f"Complete by about {ends} UTC, if replies take as long as the last ones: {said}."
    return f"Complete by {ends} UTC at the latest."


def _brief(seconds: float) -> str:
    return duration(seconds) if seconds >= 2 else f"{1000 * seconds:,.0f} ms"


def _records(plan: Plan, records: int) -> Table:
    table = columns("records", f"{records:,}")
    for label, count in (
        ("pinned", plan.pinned),
        ("kept: own coordinates", plan.kept),
        ("incomplete, not asked", plan.incomplete),
        ("to answer", plan.to_answer),
    ):
        if count:
            table.add_row(f"  {label}", f"{count:,}")
    table.add_row("  distinct questions", f"{plan.answered_by_ledger + plan.open_questions:,}")
    table.add_row("    answered by the ledger", f"{plan.answered_by_ledger:,}")
    table.add_row("    to be asked", f"{plan.open_questions:,}")
    return table


def _services(plan: Plan) -> Table:
    table = _forecasts("service", "questions")
    table.add_row(f"  {plan.service}", f"{plan.open_questions:,}", *_ahead(plan.cost, plan.currency, plan.forecast))
    for later in plan.later:
        span = f"{later.most:,}"
        if later.least < later.most:
            span = f"{later.least:,} to {span}, about {later.expected:,}"
        cost, *rest = _ahead(later.cost, later.currency, later.forecast)
        if later.currency and later.expected_cost < later.cost:
            cost = f"{_cost(later.expected_cost, later.currency).removesuffix(later.currency).strip()} to {cost}"
        table.add_row(f"  {later.service}", span, cost, *rest)
    return table


def _otherwise(planned: PlannedRun) -> Table:
    table = _forecasts("what if")
    plan = planned.plan
    table.add_row("  as it is", *_ahead(plan.cost, plan.currency, plan.forecast))
    for other in planned.otherwise:
        table.add_row(f"  {other.what}", *_ahead(other.forecast.cost, plan.currency, other.forecast))
    return table


def _forecasts(*names: str) -> Table:
    table = columns(*names, "cost", "takes", "done (UTC)")
    table.columns[0].no_wrap = table.columns[-1].no_wrap = True
    return table


def _ahead(cost: int, currency: str, forecast: Forecast) -> tuple[str, str, str]:
    """What asking costs, how long it takes, and when it is done."""
    asking = duration(forecast.seconds) if forecast.seconds is not None and forecast.stretches == 1 else ""
    if forecast.stretches > 1 and forecast.curve:
        asking = _long((forecast.curve[-1][1] - forecast.curve[0][0]).total_seconds())
        asking += f" in {forecast.stretches:,} stretches"
    known = forecast.requests and (forecast.seconds is not None or not forecast.ends_at)
    return _cost(cost, currency), asking or "–", _when(forecast) if known else "–"


def _long(seconds: float) -> str:
    days = seconds / 86_400
    return f"{days:.0f} days" if days >= 3 else duration(seconds)


def _when(forecast: Forecast) -> str:
    return forecast.ends_at[:16].replace("T", " ") or "never"


def _cost(cost: int, currency: str) -> str:
    return money(cost, currency) if currency else "–"


def _left(left: Left, currency: str) -> str:
    amount, limit = (amount_of(left, some, currency) for some in (left.left, left.limit))
    more = f"; renewed at {left.resets_at[:16].replace('T', ' ')} UTC" if left.resets_at else ""
    return f"{left.window}: {amount} of {limit} left{more}"


def _json(planned: PlannedRun) -> dict[str, Any]:
    otherwise = []
    for other in planned.otherwise:
        forecast = asdict(other.forecast)
        del forecast["curve"], forecast["goes_on_at"]
        otherwise.append({"what": other.what, **forecast})
    scan = {name: getattr(planned.scan, name) for name in ("records", "new", "changed", "vanished")}
    return {"records": scan, **plan_json(planned.plan), "what_if": otherwise}
