"""Decisions as people write them into a row of a table: a letter, a place, another address, or that nothing fits."""

from collections.abc import Mapping
from enum import StrEnum
from typing import NamedTuple

from yellowtor.answers.geography.cell_coordinates import read_place
from yellowtor.contracts.address import PARTS
from yellowtor.contracts.position import Position
from yellowtor.contracts.review_file import ALL, AT, CHOICES, LETTERS, NEW


class What(StrEnum):
    """What a person decides. The values are those of the column `decision`, beside the letters."""

    CANDIDATE = "candidate"
    PLACE = "place"
    ADDRESS = "address"
    NOTHING = "nothing"
    SKIP = "skip"


class RowDecision(NamedTuple):
    """A decision. letter and position belong to a candidate, position to a place, parts to an address."""

    what: What
    letter: str = ""
    position: Position | None = None
    parts: Mapping[str, str] = {}
    why: str = ""


def decision_for_group(cells: Mapping[str, str]) -> str:
    """What a row decides for its whole group: a letter, or `nothing`; empty if it decides for itself only."""
    said = cells.get("decision", "").strip().casefold()
    return said.removeprefix(ALL).strip() if said.startswith(ALL) else ""


def read_decision(cells: Mapping[str, str], for_group: str = "") -> RowDecision | None:
    """The decision in a row; None if there is none. for_group is the one of its group, for a row without its own.

    Raises ValueError with what is wrong.
    """
    said = cells.get("decision", "").strip().casefold().removeprefix(ALL).strip()
    why = " ".join(cells.get("why", "").split())
    typed = coordinates_in(cells)
    parts = {part: text for part in PARTS if (text := " ".join(cells.get(f"{NEW}{part}", "").split()))}
    said = said or ("place" if typed else "address" if parts else for_group)
    return _checked(said, typed, parts, cells, why) if said else None


def _checked(said: str, typed: str, parts: Mapping[str, str], cells: Mapping[str, str], why: str) -> RowDecision:
    if typed and said != What.PLACE:
        raise ValueError(f"it has coordinates, and its decision is {said!r}: use one of them")
    if parts and said not in {What.ADDRESS, What.PLACE}:
        raise ValueError(f"it has a new address, and its decision is {said!r}: use one of them")
    if said in LETTERS and len(said) == 1:
        return _candidate(said, cells, why)
    if said == What.PLACE:
        if not typed:
            raise ValueError("it has no coordinates for its decision 'place'")
        return RowDecision(What.PLACE, position=_position(typed), why=why)
    if said == What.ADDRESS:
        if not parts:
            raise ValueError("it has no new address for its decision 'address'")
        return RowDecision(What.ADDRESS, parts=parts, why=why)
    if said in {What.NOTHING, What.SKIP}:
        return RowDecision(What(said), why=why)
    raise ValueError(f"{said!r} is no decision (there are: {', '.join(CHOICES)})")


def coordinates_in(cells: Mapping[str, str]) -> str:
    """The coordinates of a row as one text: from `coordinates`, or from `latitude` and `longitude`."""
    typed = cells.get("coordinates", "").strip()
    pair = [cells.get(name, "").strip() for name in ("latitude", "longitude")]
    return typed or ("; ".join(pair) if any(pair) else "")


def _candidate(letter: str, cells: Mapping[str, str], why: str) -> RowDecision:
    at = cells.get(f"{letter}{AT}", "").strip()
    if not at:
        raise ValueError(f"it has no candidate {letter}")
    return RowDecision(What.CANDIDATE, letter, _position(at), why=why)


def _position(text: str) -> Position:
    read = read_place(text)
    if read.position is None or read.finding is not None:
        said = f" ({read.finding.value})" if read.finding else ""
        raise ValueError(f"{text!r} is not a latitude, longitude{said}")
    return read.position.rounded()
