"""Confidence: the probability that the point lies within the job's tolerance of the true place.

A logistic model over what speaks against the candidate (features.py), calibrated by a monotone curve. Its weights are
in model.json; `tools/fit_confidence.py` fits them on made-up worlds.
"""

import json
import math
from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from yellowtor.answers.judging.causes import OUTSIDE, heaviest
from yellowtor.answers.judging.evidence import Evidence
from yellowtor.answers.judging.features import Feature, features
from yellowtor.answers.judging.thresholds import Calibration, Thresholds

CERTAIN = 0.999  # nothing is more certain: the service's own data may be wrong
PERHAPS = 0.5  # a house that the service does not know may not exist
OUTSIDE_AREA = 0.02  # the most for a point outside the job's area


@dataclass(frozen=True, slots=True)
class Confidence:
    """A probability from 0 to 1, and the readable reasons for it, heaviest first. cause is the heaviest by its name."""

    value: float
    reasons: tuple[str, ...]
    basis: str = "estimate"
    cause: str = ""


@dataclass(frozen=True)
class Model:
    """intercept and weights (none above 0) give log-odds; curve are pairs of log-odds and probability, both rising."""

    version: str
    intercept: float
    weights: Mapping[str, float]
    curve: Sequence[tuple[float, float]]

    def log_odds(self, found: Sequence[Feature]) -> float:
        """The log-odds that these features give."""
        return self.intercept + sum(self.weights.get(one.name, 0.0) * one.amount for one in found)

    def probability(self, log_odds: float) -> float:
        """The calibrated probability, on straight lines between the points of the curve."""
        xs = [x for x, _ in self.curve]
        if not xs:
            return 1 / (1 + math.exp(-max(-40.0, min(40.0, log_odds))))
        at = bisect_right(xs, log_odds)
        if at in {0, len(xs)}:
            return self.curve[min(at, len(xs) - 1)][1]
        (x0, y0), (x1, y1) = self.curve[at - 1], self.curve[at]
        return y0 + (y1 - y0) * (log_odds - x0) / (x1 - x0)


@cache
def model() -> Model:
    """The model that ships with the program."""
    data = json.loads((files(__package__) / "model.json").read_text(encoding="utf-8"))
    return Model(data["version"], data["intercept"], data["weights"], [(x, y) for x, y in data["curve"]])


def fit(evidence: Evidence, thresholds: Thresholds) -> float:
    """The log-odds of a candidate alone."""
    found = features(evidence, thresholds.tolerance_m, thresholds.level)
    return model().log_odds([one for one in found if one.name != "rivals"])


def estimate(evidence: Evidence, thresholds: Thresholds) -> Confidence:
    """The confidence that this evidence gives. Never above the candidate's share."""
    found = list(features(evidence, thresholds.tolerance_m, thresholds.level))
    weights = model().weights
    value = value_of(found, evidence.share, thresholds)
    reasons = sorted((one for one in found if one.reason), key=lambda one: weights.get(one.name, 0.0) * one.amount)
    said = [one.reason for one in reasons]
    cause = heaviest(found, weights) if value < thresholds.place_at else ""
    if evidence.inside is False:
        value = min(value, OUTSIDE_AREA)
        said.insert(0, "the point lies outside the job's area")
        cause = OUTSIDE
    known = thresholds.calibration
    basis = f"calibrated on {known.decisions:,}" if known else "estimate"
    return Confidence(round(value, 3), tuple(said), basis, cause)


def value_of(found: Sequence[Feature], share: float, thresholds: Thresholds) -> float:
    """The probability that these features give to a candidate with this share of the fit."""
    value = calibrated(model().probability(model().log_odds(found)), thresholds.calibration)
    if {"number missing", "coarse"} <= {one.name for one in found if one.amount}:
        value = min(value, PERHAPS)
    return min(value, share, CERTAIN)


def calibrated(value: float, calibration: Calibration | None) -> float:
    """A probability, corrected by a person's decisions about a service."""
    if calibration is None:
        return value
    value = min(max(value, 1e-6), 1 - 1e-6)
    odds = calibration.slope * math.log(value / (1 - value)) + calibration.shift
    return 1 / (1 + math.exp(-max(-40.0, min(40.0, odds))))
