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

from yellowtor.answers.judging.evidence import Evidence
from yellowtor.answers.judging.features import Feature, features

OUTSIDE = 0.02  # the most for a point outside the job's area


@dataclass(frozen=True, slots=True)
class Confidence:
    """A probability from 0 to 1, and the readable reasons for it, heaviest first."""

    value: float
    reasons: tuple[str, ...]
    basis: str = "estimate"


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


def fit(evidence: Evidence, tolerance_m: float) -> float:
    """The log-odds of a candidate alone."""
    return model().log_odds([one for one in features(evidence, tolerance_m) if one.name != "rivals"])


def estimate(evidence: Evidence, tolerance_m: float) -> Confidence:
    """The confidence that this evidence gives within tolerance_m metres. Never above the candidate's share."""
    found = list(features(evidence, tolerance_m))
    weights = model().weights
    value = min(model().probability(model().log_odds(found)), evidence.share)
    reasons = [one for one in found if one.reason]
    reasons.sort(key=lambda one: weights.get(one.name, 0.0) * one.amount)
    said = [one.reason for one in reasons]
    if evidence.inside is False:
        value = min(value, OUTSIDE)
        said.insert(0, "the point lies outside the job's area")
    return Confidence(round(value, 3), tuple(said))
