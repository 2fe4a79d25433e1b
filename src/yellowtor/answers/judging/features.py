"""What speaks against a candidate, as numbers of 0 and more, each with its reason. Nothing else enters a confidence.

More agreement makes no number larger, and no weight is above 0: so more agreement never lowers a confidence.
"""

import math
from collections.abc import Iterator
from typing import NamedTuple

from yellowtor.addresses.alignment import EXPLAINED, Alignment
from yellowtor.answers.geography.levels import Level, Method
from yellowtor.answers.judging.evidence import Evidence
from yellowtor.contracts.position import length

FEATURES = (
    "street differs", "street differs much", "street missing", "kind differs", "direction differs", "number near",
    "number differs", "number gap", "number missing", "town differs", "town differs much", "town missing",
    "postcode differs", "postcode missing", "region differs", "country differs", "country unknown",
    "place unconfirmed", "place differs", "place differs much", "place region differs", "finer than asked",
    "street only", "number not asked", "unexplained", "coarse", "coarse as asked", "level missing", "interpolated",
    "level unknown", "partial", "low score", "rivals", "postcode area differs", "place unexplained",
)  # fmt: skip
GOOD = 0.85  # a name that agrees less is another one, or a bad error
INTERPOLATED_M = 100.0  # how far off a point between neighbours may well be
NUMBER_LEVEL = Level.THOROUGHFARE_ACCESS


class Feature(NamedTuple):
    """amount is 0 where nothing speaks against the candidate; reason is for people, empty where there is none."""

    name: str
    amount: float
    reason: str


def features(evidence: Evidence, tolerance_m: float, accepted: Level | None = None) -> Iterator[Feature]:
    """The features of this evidence, the same ones for the same evidence.

    accepted is the coarsest level that the job accepts: whatever is finer was not asked. None: the finest part asked.
    """
    alignment = evidence.alignment
    if accepted is None or accepted.rank < Level.ADDRESS_AREA.rank:
        yield from _street(alignment)
    if accepted is None or accepted.rank < Level.SEGMENT.rank:
        yield from _number(alignment)
    yield from _town(alignment)
    yield from _codes(alignment)
    yield from _level(evidence, tolerance_m, accepted)
    if evidence.partial:
        yield Feature("partial", 1.0, "the service says that only a part matched")
    if evidence.score is not None and evidence.score < 0.5:
        yield Feature("low score", 0.5 - evidence.score, f"the service itself is not sure ({evidence.score:.2f} of 1)")
    if evidence.rivals:
        places = "another place fits" if evidence.rivals == 1 else f"{evidence.rivals} other places fit"
        reason = f"{places} about as well, up to {length(evidence.spread_m)} away"
        yield Feature("rivals", -math.log(max(evidence.share, 1e-6)), reason if evidence.share < 0.98 else "")


def _differing(name: str, value: float, prefix: str) -> Iterator[Feature]:
    reason = f"{name} agrees" if value >= 0.97 else f"{name} agrees in part ({value:.2f})"
    if value < GOOD:
        yield Feature(f"{prefix} differs much", GOOD - value, "")
        reason = reason if value > 0.5 else f"another {name} is answered"
    yield Feature(f"{prefix} differs", 1 - value, reason)


def _street(alignment: Alignment) -> Iterator[Feature]:
    if alignment.street is not None:
        yield from _differing("street", alignment.street, "street")
    elif "street" in alignment.asked:
        yield Feature("street missing", 1.0, "the street is not confirmed")
    if alignment.kind is False:
        yield Feature("kind differs", 1.0, "another kind of street is answered")
    if alignment.direction is False:
        yield Feature("direction differs", 1.0, "the street's direction differs")


def _number(alignment: Alignment) -> Iterator[Feature]:
    if "number" not in alignment.asked:
        if "street" in alignment.asked:
            yield Feature("street only", 1.0, "no house number was asked")
            if alignment.answered_number:
                yield Feature("number not asked", 1.0, "a house is answered that was not asked")
        return
    if alignment.number is None:
        yield Feature("number missing", 1.0, "the house number is not confirmed")
    elif alignment.number >= 0.5:
        yield Feature("number near", 1 - alignment.number, alignment.number_reason)
    else:
        yield Feature("number differs", 1.0, alignment.number_reason)
        yield Feature("number gap", min(math.log1p(alignment.number_gap) / math.log(101), 1.0), "")


def _town(alignment: Alignment) -> Iterator[Feature]:
    """The town; of a question without a street it is the name that is asked about (place)."""
    name = "town" if "street" in alignment.asked else "place"
    if alignment.town is not None:
        yield from _differing("town", alignment.town, name)
    elif "town" in alignment.asked:
        yield Feature("town missing", 1.0, "the town is not confirmed")
    confirmed = max(alignment.town or 0.0, alignment.postcode or 0.0)
    if name == "town" and confirmed < 1:
        yield Feature(
            "place unconfirmed",
            min(1.0, 2 * (1 - confirmed)),
            "neither town nor postcode agrees" if confirmed < 0.5 else "",
        )


def _codes(alignment: Alignment) -> Iterator[Feature]:
    if alignment.postcode is not None:
        if alignment.postcode < 0.2:
            yield Feature("postcode area differs", 1.0, "")
        agrees = "postcode agrees" if alignment.postcode >= 0.9 else "postcode agrees in part"
        yield Feature(
            "postcode differs",
            1 - alignment.postcode,
            agrees if alignment.postcode > 0.5 else "another postcode is answered",
        )
    elif "postcode" in alignment.asked:
        yield Feature("postcode missing", 1.0, "the postcode is not confirmed")
    if alignment.region is not None and alignment.region < GOOD:
        name = "region differs" if "street" in alignment.asked else "place region differs"
        yield Feature(name, 1 - alignment.region, "another region is answered")
    if alignment.country is None:
        yield Feature("country unknown", 1.0, "")
    elif alignment.country < GOOD:
        yield Feature("country differs", 1.0, "another country is answered")
    if alignment.unexplained:
        words = ", ".join(mark.text for mark in alignment.marks if mark.explained < EXPLAINED)
        name = "unexplained" if "street" in alignment.asked else "place unexplained"
        yield Feature(name, alignment.unexplained, f"not explained: {words}")


def _level(evidence: Evidence, tolerance_m: float, accepted: Level | None) -> Iterator[Feature]:
    alignment = evidence.alignment
    asked = accepted or asked_level(alignment)
    level = level_of(evidence)
    reach = evidence.reach_m if evidence.level else level.reach_m
    if accepted and level.rank <= accepted.rank:
        reach = 0.0
    named = f"an {level}" if str(level)[0] in "aeiou" else f"a {level}"
    steps = 0 if level.rank <= asked.rank else 1 if level.rank <= Level.SEGMENT.rank else 2
    if steps:
        yield Feature("level missing", float(steps), "")
    if alignment.answered_number and "number" not in alignment.asked and "street" in alignment.asked:
        reach = max(reach, Level.SEGMENT.reach_m)
    if reach > tolerance_m:
        name = "coarse as asked" if not steps and asked.rank > Level.SEGMENT.rank else "coarse"
        yield Feature(name, math.log2(reach / tolerance_m), f"the point stands for {named}, up to {length(reach)} away")
    else:
        yield Feature("coarse", 0.0, f"the point stands for {named}")
    finer = evidence.level.rank <= Level.SEGMENT.rank if evidence.level else alignment.answered_street
    if finer and "street" not in alignment.asked:
        yield Feature("finer than asked", 1.0, "no street was asked")
    if evidence.method is Method.INTERPOLATED:
        share = min(INTERPOLATED_M / tolerance_m, 2.0)
        yield Feature("interpolated", share, "the point is interpolated between neighbours")
    if evidence.level is None:
        yield Feature("level unknown", 1.0, "the service does not state what the point stands for")


def asked_level(alignment: Alignment) -> Level:
    """The coarsest level that answers what was asked: a house for a house number, a street for a street."""
    if "number" in alignment.asked:
        return NUMBER_LEVEL
    if "street" in alignment.asked:
        return Level.SEGMENT
    return Level.ADMIN_UNIT_4 if "town" in alignment.asked else Level.ADMIN_UNIT_1


def level_of(evidence: Evidence) -> Level:
    """What the point stands for; of a place that does not state it, by what it confirms."""
    alignment = evidence.alignment
    if evidence.level:
        return evidence.level
    if (alignment.number or 0) >= 0.5 and alignment.street is not None:
        return Level.THOROUGHFARE_ACCESS
    return Level.SEGMENT if alignment.street is not None else Level.ADDRESS_AREA
