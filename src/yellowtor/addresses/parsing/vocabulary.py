"""The words of addresses by their meaning, from the tables in words/. They are read when they are first needed."""

import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any


@dataclass(frozen=True)
class Vocabulary:
    """Meanings of words in plain Latin letters (see `latin()`), each a set, since a word may have several.

    kinds are those of streets, attached are words that end longer ones, with the kind of each. marked are all words
    without which there is no unit; boxed are the first words of care-of lines and post office boxes.
    """

    kinds: Mapping[str, frozenset[str]]
    attached: Mapping[str, str]
    endings: tuple[str, ...]  # the same words
    directions: Mapping[str, str]
    short: Mapping[str, frozenset[str]]
    ordinals: Mapping[str, str]
    unit: frozenset[str]
    unit_side: frozenset[str]
    floor: frozenset[str]
    care_of: re.Pattern[str]
    po_box: re.Pattern[str]
    marked: frozenset[str]
    boxed: frozenset[str]
    saint: frozenset[str]
    connecting: frozenset[str]
    place_kind: frozenset[str]


@cache
def vocabulary() -> Vocabulary:
    """The tables, read once."""
    streets = _read("street_kinds")
    other = _read("other_words")
    kinds = _by_word(streets["kinds"])
    attached = {
        word: streets["attached"]["same"].get(word) or min(kinds[word]) for word in streets["attached"]["words"]
    }
    return Vocabulary(
        kinds=kinds,
        attached=dict(sorted(attached.items(), key=lambda item: -len(item[0]))),
        endings=tuple(attached),
        directions={word: direction for direction, words in _read("directions").items() for word in words},
        short=_by_word(other["short"]),
        ordinals={word: number for number, words in other["ordinals"].items() for word in words},
        care_of=re.compile(rf"({_any(one for one in other['care_of'] if len(one) > 2)})\s(.*)$"),
        po_box=re.compile(rf"(?:^|\s)(?:{_any(other['po_box'])}) (?:no |nr )?(?:\d[\d ]*)(?:$|\s)"),
        marked=frozenset([*other["unit"], *other["unit_side"], *other["floor"]]),
        boxed=frozenset(text.split()[0] for text in [*other["care_of"], *other["po_box"]]),
        **{name: frozenset(other[name]) for name in _SETS},
    )


_SETS = ("unit", "unit_side", "floor", "saint", "connecting", "place_kind")


@cache
def postcode_forms() -> Mapping[str, re.Pattern[str]]:
    """The form of a whole postcode by country (ISO 3166-1 alpha-2)."""
    return {country: re.compile(_form(text), re.IGNORECASE) for country, text in _read("postcodes").items()}


def _form(text: str) -> str:
    alternatives = [
        "".join({"9": r"\d", "A": "[a-z]", " ": "[ -]?", "-": "[ -]?"}[sign] for sign in one) for one in text.split("|")
    ]
    return "(?:" + "|".join(sorted(alternatives, key=len, reverse=True)) + ")"


def _any(phrases: Iterable[str]) -> str:
    return "|".join(re.escape(one) for one in sorted(phrases, key=len, reverse=True))


def _by_word(table: Mapping[str, list[str]]) -> dict[str, frozenset[str]]:
    found: dict[str, set[str]] = {}
    for meaning, words in table.items():
        for word in [meaning, *words]:
            found.setdefault(word, set()).add(meaning)
    return {word: frozenset(meanings) for word, meanings in found.items()}


def _read(name: str) -> dict[str, Any]:
    return tomllib.loads((files(__package__) / "words" / f"{name}.toml").read_text(encoding="utf-8"))
