"""Which look each marker has: the first rule that holds, else the scale, else that of its outcome."""

import math
from bisect import bisect_right
from collections.abc import Mapping, Sequence
from functools import lru_cache
from itertools import pairwise
from typing import Any

from yellowtor.contracts.marker import OUTCOME_LOOKS, Look, Shape
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import BadJob
from yellowtor.run.jobs.marker_settings import COLOURS, SCALE, ColourScale, LookRule

CLASSES = 5
NO_NUMBER = "no number"


class ScaleLooks:
    """The looks of a scale. least and most are those of all numbers."""

    def __init__(self, scale: ColourScale, least: float, most: float) -> None:
        self.breaks = list(scale.breaks) or round_breaks(least, most)
        colours = scale.colours or _spread(len(self.breaks) + 1)
        unit = f" {scale.unit}" if scale.unit else ""
        shown = [f"{one:,.10g}" for one in self.breaks]
        names = ["all"]
        if shown:
            between = [f"{low} to {high}" for low, high in pairwise(shown)]
            names = [f"below {shown[0]}", *between, f"{shown[-1]} and more"]
        self.looks = [Look(f"{name}{unit}", colour, Shape.CIRCLE) for name, colour in zip(names, colours, strict=True)]
        self.without = Look(NO_NUMBER, COLOURS["grey"], Shape.CROSS)

    def look(self, value: float | None) -> Look:
        """The look of a number; None is a record without one."""
        return self.without if value is None else self.looks[bisect_right(self.breaks, value)]


def round_breaks(least: float, most: float) -> list[float]:
    """Round numbers that part what is between least and most into about five classes.

    >>> round_breaks(3, 98)
    [20.0, 40.0, 60.0, 80.0]
    """
    if not most > least:
        return []
    rough = (most - least) / CLASSES
    power = 10.0 ** math.floor(math.log10(rough))
    step = min((power * times for times in (1, 2, 2.5, 5, 10)), key=lambda one: abs(one - rough))
    first = math.floor(least / step) + 1
    return [round(n * step, 12) for n in range(first, math.ceil(most / step))]


def _spread(count: int) -> list[str]:
    """Colours of the scale at equal steps, the darkest first."""
    if count == 1:
        return [SCALE[0]]
    return [_between(at * (len(SCALE) - 1) / (count - 1)) for at in range(count)]


def _between(place: float) -> str:
    low = min(int(place), len(SCALE) - 2)
    part = place - low
    one, other = (bytes.fromhex(SCALE[at][1:]) for at in (low, low + 1))
    return "#" + bytes(round(a + (b - a) * part) for a, b in zip(one, other, strict=True)).hex()


class RuleLooks:
    """The looks of the rules. icons are the pictures of the rules as data: URLs, by the rule's place."""

    def __init__(self, rules: Sequence[LookRule], icons: Mapping[int, str]) -> None:
        self._rules = rules
        self._icons = icons
        self._made = lru_cache(maxsize=10_000)(self._make)

    def look(self, rule: int, outcome: Outcome, text: str, turn: float) -> Look:
        """The look of the rule at this place for a marker with this outcome."""
        return self._made(rule, outcome, text[:3], turn)

    def _make(self, rule: int, outcome: Outcome, text: str, turn: float) -> Look:
        chosen = self._rules[rule]
        usual = OUTCOME_LOOKS[outcome]
        return Look(
            chosen.title(),
            chosen.colour or usual.colour,
            chosen.shape or usual.shape,
            chosen.size,
            text,
            turn,
            self._icons.get(rule, ""),
        )


def holds(when: Mapping[str, str | Sequence[str]], cells: Mapping[str, str], answer: Mapping[str, Any]) -> bool:
    """Whether a record has the texts that a condition names."""
    for name, wanted in when.items():
        texts = {wanted} if isinstance(wanted, str) else set(wanted)
        text = str(answer[name.removeprefix("answer.")]) if name.startswith("answer.") else cells[name]
        if text not in texts:
            return False
    return True


def check_when(rule: LookRule, columns: Sequence[str], answers: Sequence[str]) -> None:
    """Raise BadJob if the condition of a rule names what there is not."""
    if isinstance(rule.when, str):
        return
    for name in rule.when:
        ours = name.startswith("answer.") and name.removeprefix("answer.") in answers
        if not ours and columns.count(name) != 1:
            have = ", ".join(filter(None, [*columns, *(f"answer.{one}" for one in answers)]))
            raise BadJob(
                f"markers.looks.when names {name!r}, which is no column (there are: {have}). Nothing was sent."
            )
