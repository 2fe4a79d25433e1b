"""Confidence: the probability that the point lies within the job's tolerance of the true place.

First version: a product of factors, each from one named feature of the evidence and each with its reason.
It is marked "estimate" until it is calibrated on addresses whose truth is known.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass

from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.judging.evidence import Evidence

VERSION = "estimate-3"  # enters the judgement key: another formula judges kept replies anew
NAMES = {"number": "house number", "street": "street", "town": "town", "postcode": "postcode", "region": "region"}
Factor = tuple[float, str]  # from 0 to 1, and the reason
CERTAIN = 0.98  # no service is surer than this about anything


@dataclass(frozen=True, slots=True)
class Confidence:
    """A probability from 0 to 1, and the readable reasons for it, heaviest first."""

    value: float
    reasons: tuple[str, ...]
    basis: str = "estimate"


def estimate(evidence: Evidence, tolerance_m: float) -> Confidence:
    """The confidence that this evidence gives within tolerance_m metres."""
    factors = [
        *fineness(evidence.level, evidence.method, evidence.reach_m, tolerance_m),
        *_agreement(evidence),
        *_rivals(evidence),
        *_area(evidence),
        *own_word(evidence.score, partial=evidence.partial),
    ]
    value = CERTAIN * math.prod(factor for factor, _ in factors)
    reasons = tuple(reason for factor, reason in sorted(factors, key=lambda f: f[0]) if reason)
    return Confidence(round(value, 3), reasons)


def fineness(level: Level | None, method: Method | None, reach_m: float, tolerance_m: float) -> Iterator[Factor]:
    """The factor of the level: the ratio of the tolerance to its reach in metres."""
    named = str(level) if level else "unknown level"
    named = f"an {named}" if named[0] in "aeiou" else f"a {named}"
    if reach_m > tolerance_m:
        yield 0.95 * tolerance_m / reach_m, f"the point stands for {named}, up to {length(reach_m)} away"
    else:
        yield 1.0, f"the point stands for {named}"
    if method is Method.INTERPOLATED:
        yield 0.7, "the point is interpolated between neighbours"


def _agreement(evidence: Evidence) -> Iterator[Factor]:
    agreement = evidence.agreement
    if evidence.asked_number and agreement.number is None:
        yield 0.5, "the house number is not confirmed"
    if agreement.number is not None:
        yield (1.0, "house number agrees") if agreement.number == 1 else (0.1, "another house number is answered")
    for part, strict in (("street", 2.0), ("town", 2.0)):
        value = getattr(agreement, part)
        if value is None:
            yield 0.6, f"the {part} is not confirmed"
        else:
            yield _similar(value, strict), _agrees(NAMES[part], value)
    if agreement.postcode is not None:
        yield 0.4 + 0.6 * agreement.postcode, _agrees("postcode", agreement.postcode)
    if agreement.region is not None and agreement.region < 0.8:
        yield 0.5, "another region is answered"
    if agreement.country is not None and agreement.country < 0.8:
        yield 0.02, "another country is answered"


def _similar(value: float, strict: float) -> float:
    """From the similarity of two names to the probability that they mean one thing.

    Names that differ in one letter of ten are nearly always one; those alike by less than half are not.
    """
    if value >= 0.97:
        return 1.0
    return max(0.02, 1 - strict * (1 - value) ** 1.25) if value > 0.5 else 0.05


def _agrees(name: str, value: float) -> str:
    if value == 1:
        return f"{name} agrees"
    return f"{name} agrees in part ({value:.2f})" if value > 0.5 else f"another {name} is answered"


def _rivals(evidence: Evidence) -> Iterator[Factor]:
    if evidence.rivals:
        places = "another place fits" if evidence.rivals == 1 else f"{evidence.rivals} other places fit"
        yield 1 / (1 + evidence.rivals), f"{places} as well, up to {length(evidence.spread_m)} away"


def _area(evidence: Evidence) -> Iterator[Factor]:
    if evidence.inside is False:
        yield 0.02, "the point lies outside the job's area"


def own_word(score: float | None, *, partial: bool) -> Iterator[Factor]:
    """What the service says of itself counts against an answer, never for it."""
    if partial:
        yield 0.7, "the service says that only a part matched"
    if score is not None and score < 0.5:
        yield 0.5 + score, f"the service itself is not sure ({score:.2f} of 1)"


def length(metres: float) -> str:
    """Metres as people say them."""
    return f"{metres / 1000:.1f} km" if metres >= 1000 else f"{metres:.0f} m"
