"""URI templates (RFC 6570), expanded by the library, and quickly where only one variable ever changes.

A template in which the address stands as `{q}` alone is expanded once around a mark; after that a request
costs one quoting. Whether that gives what the library gives is tried out when the template is made; where
it doesn't, the library does all.
"""

from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

import uritemplate

_MARK = "Yellowtor0Mark"
_PROBE = f"{_MARK}/ é&=+,%20{_MARK}"


class UrlTemplate:
    """A template with its constant values filled in."""

    def __init__(self, text: str, constant: Mapping[str, str]) -> None:
        self._template = uritemplate.URITemplate(text)
        self._constant: dict[str, Any] = dict(constant)
        self._changing = sorted(set(self._template.variable_names) - set(constant))
        self._around: tuple[str, str] | None = None
        if len(self._changing) == 1:
            before, _, after = self._whole({self._changing[0]: _MARK}).partition(_MARK)
            if self._whole({self._changing[0]: _PROBE}) == before + quote(_PROBE, safe="") + after:
                self._around = before, after

    def expand(self, values: Mapping[str, str]) -> str:
        """The template with these values of the variables that change."""
        if self._around and (value := values.get(self._changing[0])):
            return self._around[0] + quote(value, safe="") + self._around[1]
        return self._whole(values)

    def _whole(self, values: Mapping[str, str]) -> str:
        return self._template.expand({**self._constant, **values})
