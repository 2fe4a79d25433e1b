"""The command `compare`: its result for people, as JSON, as a picture and as a page."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from yellowtor.answers.judging.calibrating import bins, calibration_error
from yellowtor.cli.console import columns, note, short, stderr, stdout, write_out
from yellowtor.cli.inputs import check_ending
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import length
from yellowtor.run.compare import WORST, ComparedPair, Comparison, compare, estimate
from yellowtor.wiring.comparing import SideName, open_sides
from yellowtor.wiring.comparison_page import write_page


@dataclass(frozen=True)
class CompareWish:
    """What the command line says about a comparison."""

    one: str
    other: str
    sample: int | None
    seed: int
    png: Path | None
    page: Path | None
    yes: bool


def compare_command(wish: CompareWish, *, as_json: bool) -> None:
    """Compare two sides, or samples of two jobs that are asked about."""
    for path, option, ending in ((wish.png, "--png", ".png"), (wish.page, "--page", ".html")):
        if path:
            check_ending(path, option, ending)
    if wish.sample is not None:
        from yellowtor.cli.sampling import sample_command

        sample_command(wish, as_json=as_json)
        return
    one, other = SideName.parse(wish.one), SideName.parse(wish.other)
    with open_sides(one, other) as (first, second, job, remarks):
        for remark in remarks:
            note(stderr(), remark)
        found = compare(first, second, job.judge.tolerance_m)
    finish(found, wish, one if one.is_job else other, {}, as_json=as_json)


def finish(found: Comparison, wish: CompareWish, side: SideName, more: dict[str, Any], *, as_json: bool) -> None:
    """Write the picture and the page, and say what was found."""
    if wish.png:
        from yellowtor.markers.comparison_picture import draw_comparison

        draw_comparison(wish.png, found.names, found.distances, found.tolerance_m, found.outcomes)
    if wish.page:
        write_page(wish.page, found, side.path)
    if as_json:
        write_out(json.dumps({**comparison_json(found), **more}, ensure_ascii=False, indent=2))
        return
    show(stdout(), found)
    for path in filter(None, (wish.png, wish.page)):
        stderr().print(f"wrote {short(path)}", soft_wrap=True)


def show(console: Console, found: Comparison) -> None:
    """Counts, distances, outcomes, what is right, the farthest."""
    one, other = found.names
    console.print(Text("A  ", "bold").append(one, "default"))
    console.print(Text("B  ", "bold").append(other, "default"))
    both = len(found.distances)
    console.print(f"\n{found.records:,} records on both sides; only A has {found.only[0]:,}, only B {found.only[1]:,}")
    if not both:
        console.print("No record has a position on both sides.")
    else:
        share = found.moved / both
        console.print(
            f"{both:,} have a position on both; {found.moved:,} ({share:.1%}) are farther apart than the tolerance of "
            f"{length(found.tolerance_m)}",
            soft_wrap=True,
        )
        steps = [f"{share:.0%} within {_metres(away)}" for share, away in found.quantiles.items()]
        console.print(f"{', '.join(steps)}, the farthest {_metres(max(found.distances))}", soft_wrap=True)
    console.print()
    console.print(_matrix(found))
    if found.decisions:
        console.print()
        _show_right(console, found)
    if worst := found.farthest[:WORST]:
        console.print()
        console.print(_farthest(worst))


def _metres(away: float) -> str:
    return f"{away:.1f} m" if away < 10 else length(away)


def _matrix(found: Comparison) -> Table:
    """How many records have which outcome on A (rows) and on B (columns)."""
    there = [outcome for outcome in (*Outcome, None) if any(outcome in pair for pair in found.outcomes)]
    across = [outcome for outcome in there if any(pair[1] is outcome for pair in found.outcomes)]
    table = columns("A \\ B", *(str(outcome or "nothing") for outcome in across))
    for row in there:
        counts = [found.outcomes.get((row, column), 0) for column in across]
        if any(counts):
            shown = [
                Text(f"{count:,}" if count else "·", "bold" if column is row else "")
                for column, count in zip(across, counts, strict=True)
            ]
            table.add_row(f"  {row or 'nothing'}", *shown)
    return table


def _show_right(console: Console, found: Comparison) -> None:
    """How many of the positions are right, by their confidence."""
    decisions = found.decisions
    right = sum(one.right for one in decisions)
    seen = estimate([(len(decisions), len(decisions), right)])
    console.print(
        f"{right:,} of {len(decisions):,} positions are right ({seen.share:.1%}; 95 % interval {seen.low:.1%} to "
        f"{seen.high:.1%}); calibration error {calibration_error(decisions):.3f}",
        soft_wrap=True,
    )
    table = columns("confidence", "positions", "right")
    for part in bins(decisions):
        table.add_row(f"  {part.confidence:.2f}", f"{part.answers:,}", f"{part.right:.1%}")
    console.print(table)


def _farthest(worst: Sequence[ComparedPair]) -> Table:
    """The pairs that are farthest apart, with both addresses."""
    table = columns("apart", "key", "asked", "A answers", "B answers", left={"key", "asked", "A answers", "B answers"})
    for pair in worst:
        asked = pair.one.address or pair.other.address
        answered = [one.matched or _place(one) for one in (pair.one, pair.other)]
        table.add_row(f"  {_metres(pair.away_m)}", *map(Text, (pair.key.replace("\x1f", " / "), asked, *answered)))
    return table


def _place(standing: Any) -> str:
    position = standing.position
    return f"{position.lat:.6f}, {position.lon:.6f}" if position else ""


def comparison_json(found: Comparison) -> dict[str, Any]:
    """The comparison for machines."""
    decisions = found.decisions
    return {
        "a": found.names[0],
        "b": found.names[1],
        "tolerance_m": found.tolerance_m,
        "records": found.records,
        "only_a": found.only[0],
        "only_b": found.only[1],
        "both_placed": len(found.distances),
        "moved": found.moved,
        "quantiles_m": {str(share): round(away, 2) for share, away in found.quantiles.items()},
        "farthest_m": round(max(found.distances), 2) if found.distances else None,
        "outcomes": [
            {"a": one and one.value, "b": other and other.value, "records": count}
            for (one, other), count in sorted(found.outcomes.items(), key=lambda item: -item[1])
        ],
        "right": sum(one.right for one in decisions) if decisions else None,
        "judged": len(decisions) or None,
        "calibration_error": round(calibration_error(decisions), 4) if decisions else None,
        "bins": [part._asdict() for part in bins(decisions)] if decisions else [],
        "farthest": [
            {
                "key": pair.key,
                "away_m": round(pair.away_m, 2),
                **{
                    side: {
                        "address": one.address,
                        "matched": one.matched,
                        "latitude": one.position and one.position.lat,
                        "longitude": one.position and one.position.lon,
                        "outcome": one.outcome and one.outcome.value,
                        "service": one.service,
                    }
                    for side, one in (("a", pair.one), ("b", pair.other))
                },
            }
            for pair in found.farthest[:WORST]
        ],
    }
