"""Why records are doubtful: each cause with its features, and with what would settle it."""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from yellowtor.answers.judging.features import Feature

RIVALS, NO_COUNTRY, OUTSIDE, COARSE = "several places", "no country", "outside the area", "too coarse"
ONE_POINT, FAR = "one point for many", "far from its town"


class Cause(NamedTuple):
    """what says it of one record or of many; remedy is what a person can do."""

    what: str
    remedy: str
    features: Sequence[str] = ()


CAUSES: Mapping[str, Cause] = {
    "street": Cause(
        "the street differs or is not confirmed",
        "check its name; address.words expands abbreviations",
        ("street differs", "street differs much", "street missing", "kind differs", "direction differs"),
    ),
    "house number": Cause(
        "the house number differs or is not confirmed",
        'check the number, or ask a service that knows houses too; judge.level = "segment" accepts the street',
        ("number near", "number differs", "number gap", "number missing", "level missing"),
    ),
    "no house number": Cause(
        "the record has no house number",
        'add the number, or accept the street: judge.level = "segment"',
        ("street only", "number not asked"),
    ),
    "town": Cause(
        "town or postcode differ or are not confirmed",
        "check the town, and add the postcode where it is missing",
        ("town differs", "town differs much", "town missing", "place unconfirmed"),
    ),
    "postcode": Cause(
        "another postcode is answered",
        "check the postcode",
        ("postcode differs", "postcode missing", "postcode area differs"),
    ),
    "region": Cause("another region is answered", "check the region", ("region differs", "place region differs")),
    "country": Cause(
        "another country is answered",
        "check the address: the services know it in another country only; ask.countries can limit them",
        ("country differs",),
    ),
    NO_COUNTRY: Cause(
        "places in several regions or countries fit, and the record names no country",
        "add fixed = { country = … } to [address]",
        ("country unknown",),
    ),
    "place name": Cause(
        "the name of the place differs",
        "check the name, and add a region or a country",
        ("place differs", "place differs much", "place unexplained", "finer than asked"),
    ),
    "other words": Cause(
        "the answer does not explain some words",
        "remove what is no address from the source",
        ("unexplained",),
    ),
    COARSE: Cause(
        "the point stands for more than the tolerance",
        "raise judge.tolerance_m, set judge.level, or ask a finer service too",
        ("coarse", "coarse as asked", "level unknown"),
    ),
    "interpolated": Cause(
        "the point is interpolated",
        "raise judge.tolerance_m, or ask a service with surveyed points too",
        ("interpolated",),
    ),
    "unsure service": Cause(
        "the service itself is not sure", "ask a second service: ask.services", ("partial", "low score")
    ),
    RIVALS: Cause(
        "several places fit about as well",
        "add what tells them apart: postcode, region or judge.area",
        ("rivals",),
    ),
    OUTSIDE: Cause("the point lies outside the job's area", "check the address, or judge.area"),
    ONE_POINT: Cause(
        "the service answers one point for many different streets",
        "it does not know these addresses: ask another service too, or pin them",
    ),
    FAR: Cause(
        "the point is far from the other records of its town",
        "check town and postcode, and add a region or a country",
    ),
    "distance": Cause("no address is near enough", "check the position, or raise judge.tolerance_m"),
}
OTHER = Cause("several small differences together", "look at one of them: yellowtor explain JOB KEY")
UNCONFIRMED = ("street missing", "number missing", "street only")  # from the coarsest part on
OF_FEATURE = {feature: name for name, cause in CAUSES.items() for feature in cause.features}


def heaviest(found: Iterable[Feature], weights: Mapping[str, float]) -> str:
    """The name of the cause that lowers the log-odds most; empty if nothing does.

    A point that is coarse because a finer part is not confirmed has this part as its cause.
    """
    effects: dict[str, float] = defaultdict(float)
    names = set()
    for one in found:
        effects[OF_FEATURE[one.name]] += weights.get(one.name, 0.0) * one.amount
        names.add(one.name)
    if not effects or min(effects.values()) >= 0:
        return ""
    worst = min(effects, key=lambda name: effects[name])
    if worst == COARSE:
        return next((OF_FEATURE[name] for name in UNCONFIRMED if name in names), worst)
    return NO_COUNTRY if worst == RIVALS and "country unknown" in names else worst
