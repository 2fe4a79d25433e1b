"""A block of cells on a sheet, as spreadsheets write it: B4, B4:H or B4:H200."""

import re
from dataclasses import dataclass
from functools import lru_cache

from yellowtor.errors import BadSource

_BLOCK = re.compile(r"\$?([A-Z]{1,3})\$?(\d+)(?::\$?([A-Z]{1,3})\$?(\d+)?)?", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Block:
    """Rows and columns from 0; the header is in the first row. last_* are the last that belong to it (None: open)."""

    first_row: int
    first_column: int
    last_row: int | None = None
    last_column: int | None = None


def column_number(letters: str) -> int:
    """A column's number from 0: A is 0, AA is 26."""
    number = 0
    for letter in letters.upper():
        number = number * 26 + ord(letter) - 64
    return number - 1


@lru_cache
def letters(column: int) -> str:
    """A column's letters: 0 is A, 26 is AA."""
    text = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        text = chr(65 + rest) + text
    return text


def parse_block(text: str) -> Block:
    """The block in a text. Raises BadSource if it is none, or ends before it begins."""
    found = _BLOCK.fullmatch(text.strip())
    if found:
        left, top, right, bottom = found.groups()
        block = Block(
            int(top) - 1,
            column_number(left),
            int(bottom) - 1 if bottom else None,
            column_number(right) if right else None,
        )
        if (
            block.first_row >= 0
            and (block.last_row is None or block.last_row > block.first_row)
            and (block.last_column is None or block.last_column >= block.first_column)
        ):
            return block
    raise BadSource(f"records.block = {text!r} is not a block of cells, such as B4, B4:H or B4:H200. Nothing was sent.")
