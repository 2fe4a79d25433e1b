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
    """The correction of a service's log-odds: the most probable one, by Newton's method."""
    odds = [_log_odds(one.value) for one in decisions]
    slope, shift = 1.0, 0.0
    for _ in range(STEPS):
        gradient = [(slope - 1) / SPREADS[0] ** 2, shift / SPREADS[1] ** 2]
        matrix = [1 / SPREADS[0] ** 2, 0.0, 1 / SPREADS[1] ** 2]
        for x, one in zip(odds, decisions, strict=True):
            p = 1 / (1 + math.exp(-max(-40.0, min(40.0, slope * x + shift))))
            gradient = [gradient[0] + (p - one.right) * x, gradient[1] + (p - one.right)]
            spread = p * (1 - p)
            matrix = [matrix[0] + spread * x * x, matrix[1] + spread * x, matrix[2] + spread]
        determinant = matrix[0] * matrix[2] - matrix[1] ** 2
        steps = (
            (matrix[2] * gradient[0] - matrix[1] * gradient[1]) / determinant,
            (matrix[0] * gradient[1] - matrix[1] * gradient[0]) / determinant,
        )
        slope, shift = max(LEAST_SLOPE, slope - steps[0]), shift - steps[1]
        if max(map(abs, steps)) < 1e-9:
            break
    return Calibration(round(slope, 4), round(shift, 4), len(decisions))


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
