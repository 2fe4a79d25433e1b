"""The columns of a reference table as arrays: each text once, by its number; positions in degrees.

What is wrong with a row is counted, with the first examples, and the row is left out. Nothing is guessed.
"""

import math
import re
from array import array
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowtor.addresses.canonical import fold_blanks
from yellowtor.addresses.parsing.house_number import house_number
from yellowtor.addresses.parsing.parse import parse
from yellowtor.addresses.parsing.words import LONGEST, words_of
from yellowtor.answers.geography.levels import LEVELS, Level
from yellowtor.contracts.address import Address
from yellowtor.contracts.table import Row

NAMES = ("number", "street", "town", "district", "postcode", "region", "country")
NO_NUMBER = -1
MOST_NUMBER = (1 << 24) - 1
SHOWN = 3  # examples of a fault
MOST_NAMES = 2_000  # characters of alternative names
_NUMBER_FIRST = re.compile(r"(\d{1,6}[a-zA-Z]?)\s+([^\d]+)")
_NUMBER_LAST = re.compile(r"([^\d]+?),?\s+(\d{1,6}(?:\s?[a-zA-Z])?)")
_IDS = tuple[str, ...]


class TextNumbers:
    """TextNumbers by number; the empty text is 0."""

    def __init__(self) -> None:
        self.all: list[str] = [""]
        self._numbers: dict[str, int] = {"": 0}

    def number(self, text: str) -> int:
        """The number of a text, a new one if it is new."""
        known = self._numbers.get(text)
        if known is None:
            known = self._numbers[text] = len(self.all)
            self.all.append(text)
        return known


@dataclass(frozen=True, slots=True)
class RowRules:
    """Where each part is in a row (its index), and what holds for all rows.

    places: the columns of the parts and of all else that a description names, by the names that it gives them.
    """

    places: Mapping[str, int]
    fixed: Mapping[str, str] = field(default_factory=dict)
    level: Level | None = None
    levels: Mapping[str, Level] = field(default_factory=lambda: LEVELS)
    separator: str = ";"
    decimal: str = "."
    valid_on: str = ""  # ISO 8601: rows that are not valid on this day are left out


@dataclass
class RowFaults:
    """How many rows were left out, and the first of each kind."""

    counts: dict[str, int] = field(default_factory=dict)
    examples: dict[str, list[str]] = field(default_factory=dict)

    def note(self, what: str, example: str) -> None:
        self.counts[what] = self.counts.get(what, 0) + 1
        shown = self.examples.setdefault(what, [])
        if len(shown) < SHOWN:
            shown.append(example)


NO_POSITION, NO_NAME, OUTDATED = "no coordinates", "no street and no place", "not valid today"
TOO_LONG = f"a part of more than {LONGEST} characters"
BAD_POSITION, NULL_ISLAND, BAD_LEVEL = "coordinates that are no numbers", "coordinates 0,0", "an unknown level"


class RowColumns:
    """Takes rows in, a batch at a time."""

    def __init__(self, rules: RowRules) -> None:
        self.texts = TextNumbers()
        self.areas = TextNumbers()
        self.rows = 0
        self.faults = RowFaults()
        self.unknown_levels: dict[str, int] = {}
        self.rules = rules
        self._ids = {name: array("i") for name in (*NAMES, "alternatives", "id", "area")}
        self._numbers = {name: array("q") for name in ("low", "high", "level", "row")}
        self._floats = {name: array("d") for name in ("x", "y", "population")}
        self._split: dict[str, tuple[str, str]] = {}

    def add(self, rows: Sequence[Row]) -> None:
        """Take these rows in. Raises nothing: faults are counted."""
        for row in rows:
            self.rows += 1
            self._add(row)

    def array(self, name: str) -> NDArray[Any]:
        """A column: numbers of texts (NAMES, `alternatives`, `id`), or numbers.

        `low` and `high` of the house number; `level` (its rank); `x`, `y`; `population`; `row` in the table.
        """
        if name in self._ids:
            return np.frombuffer(self._ids[name], np.int32) if self._ids[name] else np.zeros(0, np.int32)
        if name in self._numbers:
            return np.frombuffer(self._numbers[name], np.int64) if self._numbers[name] else np.zeros(0, np.int64)
        return np.frombuffer(self._floats[name], np.float64) if self._floats[name] else np.zeros(0, np.float64)

    def _add(self, row: Row) -> None:
        rules = self.rules
        at = rules.places
        if rules.valid_on and not self._is_valid(row):
            self.faults.note(OUTDATED, self._said(row))
            return
        position = self._position(row)
        parts = self._parts(row) if position else None
        level = self._level(row) if parts else None
        if position is None or parts is None or level is None:
            return
        low, high = _numbers(parts["number"])
        for name in NAMES:
            self._ids[name].append(self.texts.number(parts[name]))
        for name in ("alternatives", "id"):
            self._ids[name].append(self.texts.number(_cell(row[at[name]])[:MOST_NAMES]) if name in at else 0)
        self._ids["area"].append(self.areas.number(row[at["area"]]) if "area" in at and not parts["street"] else 0)
        for column, value in (("low", low), ("high", high), ("level", level), ("row", self.rows)):
            self._numbers[column].append(value)
        self._floats["x"].append(position[1])
        self._floats["y"].append(position[0])
        self._floats["population"].append(_amount(row[at["population"]]) if "population" in at else 0.0)

    def _parts(self, row: Row) -> dict[str, str] | None:
        """The parts of the row's address; None if there is nothing in them."""
        at = self.rules.places
        parts = {name: _cell(row[at[name]]) if name in at else "" for name in NAMES}
        for name, text in self.rules.fixed.items():
            parts[name] = parts[name] or text
        if max(map(len, parts.values())) > LONGEST:
            self.faults.note(TOO_LONG, self._said(row))
            return None
        if parts["street"] and not parts["number"]:
            parts["number"], parts["street"] = self._split_street(parts["street"])
        if not any(words_of(parts[name]) for name in ("street", "town", "district", "postcode", "region")):
            self.faults.note(NO_NAME, self._said(row))
            return None
        return parts

    def _position(self, row: Row) -> tuple[float, float] | None:
        at = self.rules.places
        y, x = row[at["latitude"]].strip(), row[at["longitude"]].strip()
        if not x or not y:
            self.faults.note(NO_POSITION, self._said(row))
            return None
        if self.rules.decimal == ",":
            x, y = x.replace(",", "."), y.replace(",", ".")
        try:
            found = (float(y), float(x))
        except ValueError:
            found = (math.nan, math.nan)
        if not (math.isfinite(found[0]) and math.isfinite(found[1])) or "_" in x + y:
            self.faults.note(BAD_POSITION, f"{self._said(row)}: {y!r}, {x!r}")
            return None
        return found

    def _level(self, row: Row) -> int | None:
        """The rank of the level that the row states; 0: none is stated."""
        rules = self.rules
        if "level" not in rules.places:
            return rules.level.rank if rules.level else 0
        text = row[rules.places["level"]].strip()
        if not text:
            return rules.level.rank if rules.level else 0
        if level := rules.levels.get(text):
            return level.rank
        self.unknown_levels[text] = self.unknown_levels.get(text, 0) + 1
        self.faults.note(BAD_LEVEL, f"{self._said(row)}: {text!r}")
        return None

    def _is_valid(self, row: Row) -> bool:
        at = self.rules.places
        begin = row[at["valid_from"]].strip()[:10] if "valid_from" in at else ""
        end = row[at["valid_until"]].strip()[:10] if "valid_until" in at else ""
        return not (begin and begin > self.rules.valid_on) and not (end and end < self.rules.valid_on)

    def _split_street(self, text: str) -> tuple[str, str]:
        """The house number in a street's text, and the rest of it."""
        if not any(map(str.isdigit, text)):
            return "", text
        if found := _NUMBER_LAST.fullmatch(text):
            return found[2], found[1]
        if found := _NUMBER_FIRST.fullmatch(text):
            return found[1], found[2]
        return _parsed(text)

    def _said(self, row: Row) -> str:
        """A row as messages show it."""
        at = self.rules.places
        shown = [row[at[name]].strip() for name in NAMES if name in at]
        return f"row {self.rows:,} ({', '.join(filter(None, shown))[:80]})"


def _cell(text: str) -> str:
    """A cell without blanks around it and without characters that nobody sees."""
    return text.strip() if text.isprintable() else fold_blanks(text)


def _parsed(text: str) -> tuple[str, str]:
    parsed = parse(Address(street=text))
    if not parsed.number or not parsed.street:
        return "", text
    rest = re.sub(rf"(?i)(?<![\w])#?{re.escape(parsed.number)}(?![\w])", " ", text, count=1)
    if rest == text:
        return parsed.number, " ".join(parsed.street).title()
    return parsed.number, " ".join(rest.split()).strip(" ,")


def _numbers(text: str) -> tuple[int, int]:
    """The house number and the end of its range."""
    found = house_number(text) if text else None
    if found is None or found.high > MOST_NUMBER:
        return NO_NUMBER, NO_NUMBER
    return found.low, found.high


def _amount(text: str) -> float:
    try:
        value = float(text.replace(" ", "").replace("\u202f", "") or 0)
    except ValueError:
        return 0.0
    return value if math.isfinite(value) and value > 0 else 0.0
