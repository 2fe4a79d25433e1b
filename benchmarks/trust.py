"""Confidence on made-up worlds that the fit never saw: other seeds, countries, errors and services.

python benchmarks/trust.py [RECORDS [FILE.png]]      default 6000; the picture is the reliability diagram
"""

import random
import sys
from collections import defaultdict
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))

from fit_confidence import Question, candidate, evidence_of, is_right, questions
from trust_world import ERRORS, MANNERS, Service, place_name, world

from yellowtor.answers.judging.calibrating import Decision
from yellowtor.answers.judging.confidence import estimate, model
from yellowtor.answers.judging.evidence import evidence_alone
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.contracts.position import Position, distance_m
from yellowtor.markers.reliability import Diagram, draw_reliability

COUNTRIES = ("IT", "NL", "CZ", "PT", "US", "DE")


def area_under_curve(values, right) -> float:
    """The probability that a right answer has a higher value than a wrong one."""
    order = np.argsort(values, kind="stable")
    ranks = np.empty(len(values))
    ranks[order] = np.arange(1, len(values) + 1)
    for value in np.unique(values):
        same = values == value
        ranks[same] = ranks[same].mean()
    positive = right.sum()
    negative = len(right) - positive
    return (
        float((ranks[right].sum() - positive * (positive + 1) / 2) / (positive * negative))
        if positive and negative
        else 1.0
    )


def calibration_error(values, right) -> float:
    """Expected calibration error in ten bins of equal width."""
    total = 0.0
    for low in np.arange(0, 1, 0.1):
        inside = (values >= low) & (values < low + 0.1 if low < 0.89 else values <= 1)
        if inside.any():
            total += inside.sum() * abs(values[inside].mean() - right[inside].mean())
    return total / len(values)


def line(name: str, values, right) -> str:
    values, right = np.array(values), np.array(right, bool)
    high = values >= 0.9
    recall = (high & right).sum() / max(1, right.sum())
    precision = right[high].mean() if high.any() else 1.0
    return (f"{name:<16} {len(values):>6,} {right.mean():>7.3f} {high.mean():>8.3f} {recall:>8.3f} {precision:>10.4f} "
        f"{calibration_error(values, right):>7.3f} {area_under_curve(values, right):>7.3f}")  # fmt: skip


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 6_000
    asked = [q for seed in (101, 102) for q in questions(seed, COUNTRIES, MANNERS, ERRORS, count // 2)]
    groups: dict[str, list[tuple[float, bool]]] = defaultdict(list)
    nowhere = []
    for one in asked:
        best, evidence = evidence_of(one, model())
        value = estimate(evidence, Thresholds(one.tolerance_m, 0.9)).value
        right = is_right(one, best)
        row = (value, right)
        if one.record.truth is None:
            nowhere.append(value)
        for group in ("all", f"by {one.manner}", *(one.record.errors or ("no error",))):
            groups[group].append(row)
    print(f"{'':<16} {'asked':>6} {'right':>7} {'at 0.9':>8} {'recall':>8} {'precision':>10} {'error':>7} {'AUROC':>7}")
    for name in sorted(groups, key=lambda g: (g != "all", not g.startswith("by"), g)):
        print(line(name, *zip(*groups[name], strict=True)))
    high = sum(v > 0.5 for v in nowhere) / max(1, len(nowhere))
    print(f"without a right answer: {high:.3f} above 0.5 (wanted: at most 0.02)")
    _names()
    if len(sys.argv) > 2:
        shown = [
            Diagram(title, [Decision(value, right) for value, right in groups[name]])
            for title, name in (("all", "all"), ("a service that answers only labels", "by label"))
        ]
        draw_reliability(Path(sys.argv[2]), "Confidence on made-up countries that the fit never saw", shown)


def _names() -> None:
    r = random.Random(7)
    made = world(103, COUNTRIES)
    service = Service(made, "best five", 9)
    alone, shared = [], []
    for _ in range(1_500):
        one, same = place_name(r, made)
        found = [candidate(shown) for shown in service.find(one.asked)]
        question = Question(one, found, 2_000.0, "", [evidence_alone(one.asked, c, None) for c in found])
        best, evidence = evidence_of(question, model())
        value = estimate(evidence, Thresholds(2_000.0, 0.9)).value
        right = distance_m(Position(*one.truth), best.position) <= 2_000
        (alone if same == 1 else shared).append((value, right, same))
    print(f"place names of one place: {sum(v >= 0.9 for v, _, _ in alone) / len(alone):.3f} at 0.9 (wanted: 0.95)"
        f", {np.mean([right for v, right, _ in alone if v >= 0.9]):.4f} of them right")  # fmt: skip
    over = sum(v > 1 / n + 0.005 for v, _, n in shared)
    print(f"names of several places: {over} of {len(shared)} above their share (wanted: 0)")


if __name__ == "__main__":
    main()
