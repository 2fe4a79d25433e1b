"""How the stand-in finds places: simply, and without any code of the tool.

Like real services it returns something whenever it can: a misspelt street, a town if the street is unknown, the
largest place for a bare name, the whole country if nothing else fits.
"""

import difflib
import math
import re
import unicodedata
from collections import defaultdict
from dataclasses import dataclass
from typing import Any

from yellowtor.standin.world import METRES_PER_DEGREE, AddressPoint, Town

DOORSTEP_M = 140.0  # how far off a door is still said to be here
OUTSKIRTS_M = 3_000.0  # and the middle of a town
_SHORT = {
    "st": "street",
    "str": "street",
    "rd": "road",
    "ln": "lane",
    "av": "avenue",
    "ave": "avenue",
    "ter": "terrace",
    "hbr": "harbour",
}


def plain(text: str) -> str:
    """Lower case, accents off, punctuation as blanks, common abbreviations in full."""
    text = text.lower().replace("ø", "o").replace("æ", "ae").replace("å", "a")
    text = "".join(c for c in unicodedata.normalize("NFKD", text) if not unicodedata.combining(c))
    return " ".join(_SHORT.get(word, word) for word in re.sub(r"[^a-z0-9]+", " ", text).split())


@dataclass
class Street:
    town: Town
    name: str
    doors: dict[str, AddressPoint]


class Matcher:
    """Answers questions from a gazetteer."""

    def __init__(self, points: list[AddressPoint], towns: list[Town]) -> None:
        self.towns: dict[str, list[Town]] = defaultdict(list)
        self.streets: dict[tuple[str, str], dict[str, Street]] = defaultdict(dict)
        self.by_street: dict[str, list[Street]] = defaultdict(list)
        self.codes: dict[str, set[str]] = defaultdict(set)
        self.countries = {plain(t.country): t for t in towns} | {t.country_code.lower(): t for t in towns}
        self.doors: dict[tuple[int, int], list[AddressPoint]] = defaultdict(list)
        at = {(t.name, t.region): t for t in towns}
        for town in sorted(towns, key=lambda t: -t.population):
            self.towns[plain(town.name)].append(town)
        for point in points:
            town = at[point.town, point.region]
            street = plain(point.street)
            known = self.streets[town.name, town.region]
            if street not in known:
                known[street] = Street(town, point.street, {})
                self.by_street[street].append(known[street])
            known[street].doors[point.number.lower()] = point
            self.doors[_square(point.lat, point.lon)].append(point)
            self.codes[plain(point.postcode)].add(town.region + "/" + town.name)

    def find(self, question: str, limit: int) -> list[dict[str, Any]]:
        """Up to limit places for a question in one line, best first."""
        chunks = [plain(chunk) for chunk in question.split(",")]
        chunks = [chunk for chunk in chunks if chunk]
        country = next((self.countries[c] for c in chunks[1:] if c in self.countries), None)
        chunks = [c for i, c in enumerate(chunks) if not (i and c in self.countries)]
        towns = self._towns(chunks[1:] or chunks, country)
        number, street = _number(chunks[0]) if chunks else ("", "")
        found = [place for s in self._streets(street, towns) if (place := self._place(s, number))]
        if not found and towns:
            found = [_town(town) for town in towns]
        if not found and street:
            everywhere = sorted(self.by_street.get(street, []), key=lambda s: -s.town.population)
            found = [self._place(s, number) for s in everywhere]
        if not found and country:
            found = [self._country(country)]
        return found[:limit]

    def near(self, north: float, east: float, limit: int) -> list[dict[str, Any]]:
        """Up to `limit` doors around a position, the nearest first; else its town, if any."""
        row, column = _square(north, east)
        around = [d for r in range(row - 1, row + 2) for c in range(column - 1, column + 2) for d in self.doors[r, c]]
        doors = sorted((apart, d.number, d) for d in around if (apart := _apart(north, east, d)) <= DOORSTEP_M)
        if doors:
            return [_place(door, "door", 4) for _, _, door in doors[:limit]]
        towns = sorted((_apart(north, east, t), t.name, t) for ts in self.towns.values() for t in ts)
        return [_town(town) for apart, _, town in towns[:1] if apart <= OUTSKIRTS_M]

    def _towns(self, chunks: list[str], country: Town | None) -> list[Town]:
        """The towns that a question may mean, those of its country first, then the most populous."""
        towns: list[Town] = []
        for chunk in chunks:
            code = next((c for c in self.codes if f" {c} " in f" {chunk} "), "")
            name = " ".join(f" {chunk} ".replace(f" {code} ", " ").split()) if code else chunk
            near = [name] if name in self.towns else difflib.get_close_matches(name, self.towns, 2, 0.8)
            towns += [town for n in near for town in self.towns[n]]
            if code:
                towns.sort(key=lambda t: f"{t.region}/{t.name}" not in self.codes[code])
            if code and not towns:
                wanted = self.codes[code]
                towns += [t for ts in self.towns.values() for t in ts if f"{t.region}/{t.name}" in wanted]
        if country:
            towns.sort(key=lambda t: t.country_code != country.country_code)
        return towns

    def _streets(self, street: str, towns: list[Town]) -> list[Street]:
        if not street:
            return []
        exact = []
        near = []
        for town in towns:
            known = self.streets[town.name, town.region]
            if street in known:
                exact.append(known[street])
            else:
                near += [known[name] for name in difflib.get_close_matches(street, known, 1, 0.78)]
        return exact + near

    def _place(self, street: Street, number: str) -> dict[str, Any]:
        if number and number in street.doors:
            return _place(street.doors[number], "door", 4)
        doors = list(street.doors.values())
        middle = doors[len(doors) // 2]
        if not number:
            return _place(middle, "way", 330, number="")
        digits = int(re.match(r"\d*", number)[0] or 0)  # type: ignore[index]
        same_side = {int(n): d for n, d in street.doors.items() if n.isdigit() and int(n) % 2 == digits % 2}
        below = [n for n in same_side if n < digits]
        above = [n for n in same_side if n > digits]
        if below and above and number.isdigit():
            one = same_side[max(below)]
            other = same_side[min(above)]
            lat = (one.lat + other.lat) / 2
            lon = (one.lon + other.lon) / 2
            return _place(one, "between doors", 15, number=number, at=(lat, lon))
        return _place(middle, "way", 330, number="")

    def _country(self, town: Town) -> dict[str, Any]:
        mine = [t for ts in self.towns.values() for t in ts if t.country_code == town.country_code]
        lat = sum(t.lat for t in mine) / len(mine)
        lon = sum(t.lon for t in mine) / len(mine)
        bits = {"nation": town.country, "nation_code": town.country_code}
        return _answer("nation", lat, lon, 60_000, town.country, bits)


def _square(north: float, east: float) -> tuple[int, int]:
    """The square of a grid of 0.002 degrees, about 150 m wide here, in which a position lies."""
    return math.floor(north / 0.002), math.floor(east / 0.002)


def _apart(north: float, east: float, there: AddressPoint | Town) -> float:
    """Metres on the flat: near enough for what is near."""
    wide = (east - there.lon) * math.cos(math.radians(north))
    return math.hypot(north - there.lat, wide) * METRES_PER_DEGREE


def _number(chunk: str) -> tuple[str, str]:
    """The number and the street of "14 b kelp lane" or "kelp lane 14b"."""
    found = re.match(r"(\d+ ?[a-z]?) (.+)$", chunk) or re.match(r"(.+?) (\d+ ?[a-z]?)$", chunk)
    if not found:
        return "", chunk
    number, street = found.groups() if found[1][0].isdigit() else found.groups()[::-1]
    return number.replace(" ", ""), street


def _place(
    door: AddressPoint,
    precision: str,
    reach_m: float,
    number: str | None = None,
    at: tuple[float, float] | None = None,
) -> dict[str, Any]:
    lat, lon = at or (door.lat, door.lon)
    shown = door.number if number is None else number
    label = f"{shown} {door.street}".strip() + f", {door.postcode} {door.town}, {door.region}, {door.country}"
    bits = {
        "no": shown,
        "way": door.street,
        "settlement": door.town,
        "post": door.postcode,
        "district": door.region,
        "nation": door.country,
        "nation_code": door.country_code,
    }
    return _answer(precision, lat, lon, reach_m, label, {k: v for k, v in bits.items() if v})


def _town(town: Town) -> dict[str, Any]:
    bits = {
        "settlement": town.name,
        "district": town.region,
        "nation": town.country,
        "nation_code": town.country_code,
    }
    return _answer("settlement", town.lat, town.lon, 700, f"{town.name}, {town.region}, {town.country}", bits)


def _answer(precision: str, lat: float, lon: float, reach_m: float, label: str, bits: dict[str, str]) -> dict[str, Any]:
    tall = reach_m / METRES_PER_DEGREE
    frame = [lon - tall * 1.48, lat - tall, lon + tall * 1.48, lat + tall]
    return {
        "words": label,
        "precision": precision,
        "spot": {"north": round(lat, 6), "east": round(lon, 6)},
        "frame": [round(side, 6) for side in frame],
        "bits": bits,
    }
