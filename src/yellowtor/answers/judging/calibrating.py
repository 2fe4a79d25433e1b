"""Corrects confidences by a person's decisions: logistic calibration (Platt, 1999), drawn to no correction."""

import math
import statistics
from collections.abc import Sequence
from typing import NamedTuple

from yellowtor.answers.judging.confidence import calibrated
from yellowtor.answers.judging.thresholds import Calibration

LEAST = 50  # decisions about a service that allow a correction
SPREADS = (0.5, 1.0)  # of slope and shift, before any decision is known
LEAST_SLOPE = 0.05  # a correction never turns the order around
STEPS = 50
SMALLEST = 1e-6  # part of a step
FOLDS = 5
BINS = 10


class Decision(NamedTuple):
    """The confidence of an answer, and whether a person found it right."""

    value: float
    right: bool


class Bin(NamedTuple):
    """The answers whose confidence is in one of ten equal parts: their mean confidence, how many were right."""

    confidence: float
    right: float
    answers: int


def fit_calibration(decisions: Sequence[Decision]) -> Calibration:
    """The correction of a service's log-odds: the most probable one, by Newton's method with halved steps."""
    points = [(_log_odds(one.value), float(one.right)) for one in decisions]
    slope, shift = 1.0, 0.0
    loss = _loss(points, slope, shift)
    for _ in range(STEPS):
        by_slope, by_shift = _newton_step(points, slope, shift)
        size = 1.0
        while size > SMALLEST:
            new = max(LEAST_SLOPE, slope - size * by_slope), shift - size * by_shift
            if (lower := _loss(points, *new)) < loss:
                break
            size /= 2
        else:
            break
        (slope, shift), loss = new, lower
    return Calibration(round(slope, 4), round(shift, 4), len(decisions))


def _loss(points: Sequence[tuple[float, float]], slope: float, shift: float) -> float:
    """The negative logarithm of the probability of the decisions and of the correction."""
    found = ((slope - 1) / SPREADS[0]) ** 2 / 2 + (shift / SPREADS[1]) ** 2 / 2
    for x, right in points:
        z = slope * x + shift
        found += max(z, 0.0) + math.log1p(math.exp(-abs(z))) - right * z
    return found


def _newton_step(points: Sequence[tuple[float, float]], slope: float, shift: float) -> tuple[float, float]:
    precise = (SPREADS[0] ** -2, SPREADS[1] ** -2)
    by_slope, by_shift = (slope - 1) * precise[0], shift * precise[1]
    a, b, c = precise[0], 0.0, precise[1]
    for x, right in points:
        p = 1 / (1 + math.exp(-max(-40.0, min(40.0, slope * x + shift))))
        by_slope += (p - right) * x
        by_shift += p - right
        spread = p * (1 - p)
        a, b, c = a + spread * x * x, b + spread * x, c + spread
    determinant = a * c - b * b
    return (c * by_slope - b * by_shift) / determinant, (a * by_shift - b * by_slope) / determinant


def held_out(decisions: Sequence[Decision]) -> list[Decision]:
    """Each decision with the confidence that a correction without it would give: one of five parts is left out."""
    corrected = list(decisions)
    for fold in range(FOLDS):
        others = [one for at, one in enumerate(decisions) if at % FOLDS != fold]
        found = fit_calibration(others)
        for at in range(fold, len(decisions), FOLDS):
            one = decisions[at]
            corrected[at] = one._replace(value=calibrated(one.value, found))
    return corrected


def bins(decisions: Sequence[Decision]) -> list[Bin]:
    """The reliability of confidences, lowest first; parts without an answer are left out."""
    parts: dict[int, list[Decision]] = {}
    for one in decisions:
        parts.setdefault(min(int(one.value * BINS), BINS - 1), []).append(one)
    return [
        Bin(statistics.fmean(one.value for one in mine), statistics.fmean(one.right for one in mine), len(mine))
        for _, mine in sorted(parts.items())
    ]


def calibration_error(decisions: Sequence[Decision]) -> float:
    """The expected calibration error in ten equal parts (Naeini et al., 2015)."""
    return sum(abs(one.confidence - one.right) * one.answers for one in bins(decisions)) / max(1, len(decisions))


def _log_odds(value: float) -> float:
    value = min(max(value, 1e-6), 1 - 1e-6)
    return math.log(value / (1 - value))
