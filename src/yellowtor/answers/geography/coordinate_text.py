"""The grammar of numbers, angles and positions in text. A text is read whole or not at all; nothing is searched in it.

    number    plain decimal digits with a sign: 54.1, -8, +.5, −8.2 (U+2212), 1e-05
    angle     a number; degrees, minutes and seconds with their marks (54°6′30″) or colons; a hemisphere N, S, E or W
              before or after it; with a hemisphere also parts with blanks between them (54 06 30 N)
    position  two angles, apart by blanks, a comma or a semicolon, perhaps in brackets; of decimals with a height after
              the second comma; WKT points (OGC 06-103r4) with Z, M and SRID; `geo:` URIs (RFC 5870); ISO 6709 annex H

Only the last part of an angle may have decimals. Digits are those of ASCII.
"""

import re
from typing import NamedTuple

LONGEST = 200  # characters: no position needs more
_PLAIN = {
    mark: re.compile(rf"[+-]?(?:[0-9]+(?:{re.escape(mark)}[0-9]*)?|{re.escape(mark)}[0-9]+)(?:[eE][+-]?[0-9]{{1,3}})?")
    for mark in ".,"
}
_TOKENS = {
    mark: re.compile(
        rf"""(?P<number>(?:[0-9]+(?:{re.escape(mark)}[0-9]+)?|{re.escape(mark)}[0-9]+)(?:[eE]-[0-9]{{1,3}})?)
        |(?P<blank>\s+)|(?P<sign>[+-])|(?P<degree>[°º˚]|deg(?![a-z]))|(?P<second>["″”]|''|′′|’’|sec(?![a-z]))
        |(?P<minute>['′’]|min(?![a-z]))|(?P<hemisphere>[NSEW])|(?P<colon>:)|(?P<comma>,)|(?P<semicolon>;)""",
        re.VERBOSE | re.IGNORECASE,
    )
    for mark in ".,"
}
_WKT = re.compile(r"(?:SRID\s*=\s*([0-9]{1,6})\s*;\s*)?POINT\s*(ZM?|M)?\s*\(([^()]*)\)", re.IGNORECASE)
_GEO = re.compile(r"geo:([^,;\s]+),([^,;\s]+)(?:,([^,;\s]+))?((?:;[A-Za-z0-9-]+(?:=[^;\s]*)?)*)", re.IGNORECASE)
_ISO = re.compile(
    r"([+-])([0-9]{2}(?:[0-9]{2}){0,2})(\.[0-9]+)?([+-])([0-9]{3}(?:[0-9]{2}){0,2})(\.[0-9]+)?"
    r"(?:[+-][0-9]+(?:\.[0-9]+)?)?(?:CRSWGS_?84)?/",
    re.IGNORECASE,
)
AXES = {"N": "lat", "S": "lat", "E": "lon", "W": "lon"}


class Angle(NamedTuple):
    """A value in degrees, or in the units of its coordinate system; axis comes from its hemisphere, if it has one.

    plain: a decimal number without symbols, minutes or hemisphere.
    """

    value: float
    axis: str = ""
    plain: bool = True


class Pair(NamedTuple):
    """Two values in the order of a text, and the EPSG code in it (srid). axes: the text itself names the axes.

    plain: both are decimal numbers without symbols.
    """

    first: float
    second: float
    axes: tuple[str, str] | None = None
    plain: bool = True
    srid: int | None = None


def read_number(text: str, decimal: str = ".") -> float | None:
    """The number that a text is; None for every other text. Surrounding blanks do not count."""
    text = text.strip().replace("−", "-")
    if len(text) > LONGEST or not _PLAIN[decimal].fullmatch(text):
        return None
    return float(text.replace(decimal, "."))


def read_angle(text: str, decimal: str = ".") -> Angle | None:
    """The angle that a text is; None for every other text."""
    number = read_number(text, decimal)
    if number is not None:
        return Angle(number)
    reader = _Reader.of(text, decimal)
    angle = reader and reader.angle()
    return angle if angle and reader and reader.at_end() else None


def read_pair(text: str, decimal: str = ".") -> Pair | None:
    """The position that a text is, its values in the order of the text; None for every other text."""
    text = text.strip().replace("−", "-")
    if len(text) > LONGEST:
        return None
    for way in (_read_wkt, _read_geo, _read_iso):
        if pair := way(text):
            return pair
    if text[:1] + text[-1:] in {"()", "[]"}:
        text = text[1:-1].strip()
    reader = _Reader.of(text, decimal)
    return reader.pair() if reader else None


def _read_wkt(text: str) -> Pair | None:
    found = _WKT.fullmatch(text)
    if not found:
        return None
    numbers = [read_number(value) for value in found[3].split()]
    known = [number for number in numbers if number is not None]
    if len(known) < len(numbers) or len(known) not in ({2 + len(found[2])} if found[2] else {2, 3}):
        return None
    return Pair(known[0], known[1], srid=int(found[1]) if found[1] else None)


def _read_geo(text: str) -> Pair | None:
    found = _GEO.fullmatch(text)
    if not found:
        return None
    lat = read_number(found[1])
    lon = read_number(found[2])
    crs = re.search(r";crs=([^;]*)", found[4], re.IGNORECASE)
    height = read_number(found[3] or "0")
    if lat is None or lon is None or height is None or (crs and crs[1].lower() != "wgs84"):
        return None
    return Pair(lat, lon, ("lat", "lon"), plain=False)


def _read_iso(text: str) -> Pair | None:
    """ISO 6709 annex H: ±DD.D±DDD.D/, ±DDMM.M±DDDMM.M/ or ±DDMMSS.S±DDDMMSS.S/, perhaps with a height."""
    found = _ISO.fullmatch(text)
    if not found:
        return None
    values = list[float]()
    for at, whole in ((1, 2), (4, 3)):
        sign, digits, fraction = (found[at + more] or "" for more in range(3))
        parts = [digits[:whole], *re.findall("..", digits[whole:])]
        parts[-1] += fraction
        size = _sum(parts)
        if size is None:
            return None
        values.append(-size if sign == "-" else size)
    return Pair(values[0], values[1], ("lat", "lon"), plain=False)


def _sum(parts: list[str]) -> float | None:
    """Degrees, minutes and seconds as degrees; None where they can't be that."""
    numbers = [float(part) for part in parts]
    if any(number >= 60 for number in numbers[1:]) or any(not part.isdigit() for part in parts[:-1]):
        return None
    degrees = numbers[0]
    for at, number in enumerate(numbers[1:], 1):
        degrees += number / 60.0**at
    return degrees


class _Reader:
    """Reads tokens from left to right; never goes back by more than one angle."""

    def __init__(self, tokens: list[tuple[str, str]], decimal: str) -> None:
        self._tokens = tokens
        self._decimal = decimal
        self._at = 0

    @classmethod
    def of(cls, text: str, decimal: str) -> "_Reader | None":
        """None for a text with anything in it that is not a token."""
        text = text.strip().replace("−", "-")
        tokens = []
        end = 0
        if len(text) > LONGEST:
            return None
        for found in _TOKENS[decimal].finditer(text):
            if found.start() != end:
                return None
            end = found.end()
            tokens.append((found.lastgroup or "", found[0].replace(decimal, ".")))
        return cls(tokens, decimal) if end == len(text) else None

    def at_end(self) -> bool:
        return self._at == len(self._tokens)

    def pair(self) -> Pair | None:
        first = self.angle()
        if first is None:
            return None
        apart = self._separator()
        second = self.angle()
        if second is None or not (apart or first.axis):
            return None
        if apart == "comma" and first.plain and second.plain and self._separator() == "comma":  # KML: then a height
            height = self.angle()
            decimals = [text for kind, text in self._tokens if kind == "number" and "." in text]
            if height is None or not height.plain or len(decimals) < 2:  # 8,2,54 may be 8.2 and 54
                return None
        axes = (first.axis, second.axis)
        if not self.at_end() or (any(axes) and set(axes) != {"lat", "lon"}):
            return None
        return Pair(first.value, second.value, axes if all(axes) else None, plain=first.plain and second.plain)

    def angle(self) -> Angle | None:
        front = self._take("hemisphere")
        if front:
            self._take("blank")
        sign = self._take("sign")
        degrees = self._take("number")
        if not degrees:
            return None
        parts = [degrees]
        marked = False
        if self._take_mark("degree"):
            marked = self._marked(parts)
        elif self._peek() == "colon":
            marked = self._colons(parts)
        elif front or self._blanks_end_with_hemisphere():
            self._by_blanks(parts)
        back = "" if front else self._hemisphere_behind()
        letter = (front or back).upper()
        size = _sum(parts)
        if size is None or (letter and sign):
            return None
        plain = not (marked or letter or len(parts) > 1)
        return Angle(-size if sign == "-" or letter in {"S", "W"} else size, AXES.get(letter, ""), plain)

    def _marked(self, parts: list[str]) -> bool:
        """Minutes and seconds with their marks."""
        for mark in ("minute", "second"):
            before = self._at
            self._take("blank")
            number = self._take("number")
            if not number or not self._take_mark(mark):
                self._at = before
                break
            parts.append(number)
        return True

    def _colons(self, parts: list[str]) -> bool:
        while len(parts) < 3 and self._peek() == "colon":
            self._take("colon")
            number = self._take("number")
            parts.append(number or "x")
            if not number:
                self._at = len(self._tokens) + 1  # a colon with nothing behind it: no angle
                parts.pop()
        return True

    def _by_blanks(self, parts: list[str]) -> None:
        while len(parts) < 3 and parts[-1].isdigit() and self._peek() == "blank" and self._peek(1) == "number":
            self._take("blank")
            parts.append(self._take("number"))

    def _blanks_end_with_hemisphere(self) -> bool:
        """Whether one or two numbers follow, blanks between, and then a hemisphere."""
        at = 0
        while at < 4 and self._peek(at) == "blank" and self._peek(at + 1) == "number":
            at += 2
        return at > 0 and self._peek(at + (self._peek(at) == "blank")) == "hemisphere"

    def _hemisphere_behind(self) -> str:
        before = self._at
        self._take("blank")
        found = self._take("hemisphere")
        if not found:
            self._at = before
        return found

    def _separator(self) -> str:
        """Blanks, a comma or a semicolon; a comma that is also the decimal mark needs a blank behind it."""
        blank = self._take("blank")
        mark = "comma" if self._take("comma") else "semicolon" if self._take("semicolon") else ""
        behind = self._take("blank") if mark else ""
        if mark == "comma" and self._decimal == "," and not behind:
            return ""
        return mark or ("blank" if blank else "")

    def _take_mark(self, kind: str) -> bool:
        before = self._at
        self._take("blank")
        if self._take(kind):
            return True
        self._at = before
        return False

    def _take(self, kind: str) -> str:
        if self._peek() != kind:
            return ""
        self._at += 1
        return self._tokens[self._at - 1][1]

    def _peek(self, ahead: int = 0) -> str:
        at = self._at + ahead
        return self._tokens[at][0] if at < len(self._tokens) else ""
