"""`compare --sample`: both jobs are asked about the same few records; what that says of the whole, and its cost."""

from typing import Any

import typer

from yellowtor.allowance.price import money
from yellowtor.cli.commands import signals
from yellowtor.cli.comparing import CompareWish, finish
from yellowtor.cli.console import Progress, note, stderr, stdout
from yellowtor.errors import BadJob
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.compare import Comparison, Estimate, estimate
from yellowtor.run.jobs.job import Job
from yellowtor.run.plan import Plan, costs
from yellowtor.run.sample import DrawnSample
from yellowtor.settings import read_settings
from yellowtor.wiring.comparing import SideName, known_positions
from yellowtor.wiring.reviewing import decision_table
from yellowtor.wiring.sampling import SampledSide, ask_sample, draw_sample


def sample_command(wish: CompareWish, *, as_json: bool) -> None:
    """Draw the sample from the first job, ask both about it, and estimate the whole."""
    names = [SideName.parse(text) for text in (wish.one, wish.other)]
    if any(name.when for name in names):
        raise typer.BadParameter("asks about records as they are now: no @ behind a job", param_hint="--sample")
    jobs = [name for name in names if name.is_job]
    if not jobs:
        raise BadJob("One of the two must be a job. Nothing was compared.")
    first = jobs[0]
    watch = Progress(stderr())
    sample = draw_sample(first.path, wish.sample or 0, wish.seed)
    stop = Cancellation()
    with signals(stop), watch.shown():
        sides = [ask_sample(name.path, sample.keys, watch, stop, agreed=wish.yes) for name in jobs]
    found = _compared(names, sides, sample)
    whole = {side.name: _cost(side.whole) for side in sides}
    moved = estimate(_strata(sample, found))
    more = {"sample": _sample_json(sample, moved, sides)}
    finish(found, wish, first, more, as_json=as_json)
    if not as_json:
        _say(sample, moved, sides, whole)
    for side in sides:
        if side.waiting:
            note(stderr(), f"{side.name}: {side.waiting:,} questions of the sample wait; run the command again later")


def _compared(names: list[SideName], sides: list[SampledSide], sample: DrawnSample) -> Comparison:
    """The sampled records on both sides; a table of known positions may be one of them."""
    jobs = iter(sides)
    job = read_settings(next(name.path for name in names if name.is_job), Job, "job")
    found = []
    truth = None
    for at, name in enumerate(names):
        if name.is_job:
            found.append(next(jobs).standings)
        else:
            truth = at
            found.append(known_positions(decision_table(name.path), job)[0])
    comparison = Comparison((str(names[0]), str(names[1])), job.judge.tolerance_m, truth=truth, keeps_keys=True)
    for key in sorted(sample.keys):
        here = [side.get(key) for side in found]
        if here[0] and here[1]:
            comparison.add(key, here[0], here[1])
        elif here[0] or here[1]:
            comparison.only[0 if here[0] else 1] += 1
    return comparison


def _strata(sample: DrawnSample, found: Comparison) -> list[tuple[int, int, int]]:
    """Of each stratum its records, the drawn ones that were compared, and those of them that moved."""
    return [
        (
            stratum.records,
            len(stratum.drawn.keys() & found.placed_keys),
            len(stratum.drawn.keys() & found.moved_keys),
        )
        for stratum in sample.strata.values()
    ]


def _say(sample: DrawnSample, moved: Estimate, sides: list[SampledSide], whole: dict[str, str]) -> None:
    out = stdout()
    records = sum(stratum.records for stratum in sample.strata.values())
    out.print()
    out.print(
        f"A sample of {len(sample.keys):,} of {records:,} records in {len(sample.strata):,} strata. Of all that have a "
        f"position on both sides, about {moved.share:.1%} are farther apart than the tolerance (95 % interval "
        f"{moved.low:.1%} to {moved.high:.1%}).",
        soft_wrap=True,
    )
    for side in sides:
        out.print(
            f"{side.name}: {side.requests:,} requests for the sample; the whole: {whole[side.name]}", soft_wrap=True
        )


def _cost(plan: Plan) -> str:
    """What the whole job would ask and cost now."""
    requests = plan.forecast.requests
    more = sum(later.most for later in plan.later)
    said = f"{requests:,} requests" + (f", and up to {more:,} to later services" if more else "")
    amounts = [money(amount, currency) for currency, amount in costs(plan).items()]
    return f"{said}, at most {' and '.join(amounts)}" if amounts else said


def _sample_json(sample: DrawnSample, moved: Estimate, sides: list[SampledSide]) -> dict[str, Any]:
    return {
        "records": sum(stratum.records for stratum in sample.strata.values()),
        "drawn": len(sample.keys),
        "strata": len(sample.strata),
        "moved_share": round(moved.share, 5),
        "low": round(moved.low, 5),
        "high": round(moved.high, 5),
        "sides": [
            {
                "name": side.name,
                "requests": side.requests,
                "waiting": side.waiting,
                "whole_requests": side.whole.forecast.requests,
                "whole_cost": {currency: amount / 1e6 for currency, amount in costs(side.whole).items()},
            }
            for side in sides
        ],
    }
