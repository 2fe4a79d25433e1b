"""URI templates (RFC 6570), expanded by the library, and quickly where that comes to the same.

A template is expanded once around marks, one for each variable that changes; after that a request costs a quoting of
each value. Whether that gives what the library gives is tried out when the template is made, for values and for missing
ones; where it doesn't, the library does all.
"""

import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

import uritemplate

_MARK = re.compile(r"Yellowtor(\d+)Mark")


class UrlTemplate:
    """A template with its constant values filled in."""

    def __init__(self, text: str, constant: Mapping[str, str]) -> None:
        self._template = uritemplate.URITemplate(text)
        self._constant: dict[str, Any] = dict(constant)
        self._changing = sorted(set(self._template.variable_names) - set(constant))
        marks = {name: f"Yellowtor{at}Mark" for at, name in enumerate(self._changing)}
        self._pieces = _MARK.split(self._whole(marks))  # a text, the number of a variable, a text, …
        self._names = [self._changing[int(number)] for number in self._pieces[1::2]]
        probes = {name: f"{mark}/ é&=+,%20{mark}" for name, mark in marks.items()}
        self._quick = set(self._names) == set(self._changing) and self._whole(probes) == self._put_in(probes)
        self._may_miss = self._quick and all(
            self._whole(some) == self._put_in(some) for some in ({}, *({name: text} for name, text in probes.items()))
        )

    def expand(self, values: Mapping[str, str]) -> str:
        """The template with these values of the variables that change."""
        if self._may_miss or (self._quick and all(map(values.get, self._names))):
            return self._put_in(values)
        return self._whole(values)

    def _put_in(self, values: Mapping[str, str]) -> str:
        pieces = list(self._pieces)
        pieces[1::2] = [quote(values.get(name, ""), safe="") for name in self._names]
        return "".join(pieces)

    def _whole(self, values: Mapping[str, str]) -> str:
        return self._template.expand({**self._constant, **values})
