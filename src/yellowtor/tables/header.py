"""The names of a table's columns. They stay as they are: empty or repeated ones are columns like the others."""

from collections.abc import Sequence

from yellowtor.errors import BadSource


def checked_header(names: Sequence[str], where: str) -> list[str]:
    """The names as they are. Raises BadSource when there are none."""
    if not any(names):
        raise BadSource(f"{where} has no header in its first row. Nothing was sent.")
    return list(names)
