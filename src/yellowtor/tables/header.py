"""The names of a table's columns, checked."""

from collections.abc import Sequence

from yellowtor.errors import BadSource


def checked_header(names: Sequence[str], where: str) -> list[str]:
    """The names as they are. Raises BadSource when there are none, or one stands twice."""
    if not any(names):
        raise BadSource(f"{where} has no header in its first row. Nothing was sent.")
    twice = sorted({name for name in names if name and names.count(name) > 1})
    if twice:
        raise BadSource(f"{where} has more than one column called {', '.join(map(repr, twice))}. Nothing was sent.")
    return list(names)
