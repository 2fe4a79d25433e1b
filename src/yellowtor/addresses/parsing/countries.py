"""Countries and regions by their names and codes, in many languages.

words/countries.json is made by tools/make_countries.py from ISO 3166-1, ISO 3166-2 and CLDR.
"""

import json
from collections.abc import Mapping
from functools import cache, lru_cache
from importlib.resources import files

from yellowtor.addresses.latin import latin

NO_CODES: frozenset[str] = frozenset()


@lru_cache(maxsize=4_096)
def country_code(text: str) -> str:
    """The alpha-2 code of a country named in any of the languages or by a code; empty if it is unknown.

    >>> country_code("U.S.A."), country_code("Deutschland")
    ('US', 'DE')
    """
    name = latin(text.replace(".", ""))
    return next(iter(_codes("countries").get(name, ())), "") if name else ""


@lru_cache(maxsize=4_096)
def region_codes(text: str) -> frozenset[str]:
    """The ISO 3166-2 codes that a name or a code (CA, US-CA) of a region may mean; empty if it is unknown."""
    return frozenset(_codes("regions").get(latin(text), NO_CODES))


def regions_agree(one: frozenset[str], other: frozenset[str]) -> bool:
    """Whether two sets of ISO 3166-2 codes may mean one region, or one that is in the other."""
    return bool(_with_parents(one) & other or one & _with_parents(other))


def _with_parents(codes: frozenset[str]) -> frozenset[str]:
    parents = _tables()["parents"]
    return codes.union(*(parents.get(code, ()) for code in codes))


@cache
def _tables() -> Mapping[str, Mapping[str, list[str]]]:
    data: Mapping[str, Mapping[str, list[str]]] = json.loads(
        (files(__package__) / "words" / "countries.json").read_text(encoding="utf-8")
    )
    return data


@cache
def _codes(kind: str) -> Mapping[str, set[str]]:
    """The codes that each name may mean."""
    meant: dict[str, set[str]] = {}
    for code, names in _tables()[kind].items():
        for name in names:
            meant.setdefault(name, set()).add(code)
    return meant
