"""A line template: an address in one line, written as columns in braces with punctuation between them.

What stays empty takes its punctuation along: "{Street} {Number}, {Postcode} {Town}" without a number and a
postcode gives "Kelp Lane, Ørlvík".
"""

import re
from collections.abc import Callable, Sequence
from functools import cached_property

_FIELD = re.compile(r"\{([^{}]+)\}")
_EMPTY = re.compile(r"[(\[]\s*[)\]]")  # brackets around nothing
_RUN = re.compile(r"\s*[,;/–](?:\s*[,;/–])+")  # separators that nothing parts any more
_BLANK_BEFORE = re.compile(r"\s+(?=[,;)\]])")
EDGES = " ,;/–-"


class LineTemplate:
    """A template in which `{Column}` is replaced by the cell of that column.

    Raises ValueError for unpaired or empty braces, and for a template without a column.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        if "{" in _FIELD.sub("", text) or "}" in _FIELD.sub("", text):
            raise ValueError(f"{text!r}: each brace needs its partner, with the name of a column between them")
        if not self.columns:
            raise ValueError(f'{text!r} names no column: write "{{Street}}, {{Town}}"')

    @cached_property
    def columns(self) -> Sequence[str]:
        """The columns it names, each once, in order."""
        return list(dict.fromkeys(name.strip() for name in _FIELD.findall(self.text)))

    def fill(self, cell: Callable[[str], str]) -> str:
        """The line with the text of each column; empty if all texts are empty."""
        texts = {name: cell(name) for name in self.columns}
        if not any(texts.values()):
            return ""
        line = _FIELD.sub(lambda found: texts[found[1].strip()], self.text)
        line = _EMPTY.sub(" ", line)
        line = _BLANK_BEFORE.sub("", " ".join(line.split()))
        return _RUN.sub(_strongest, line).strip(EDGES)


def _strongest(run: "re.Match[str]") -> str:
    return "," if "," in run[0] else run[0].strip()[0]
