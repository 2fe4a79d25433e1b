"""Yellowtor turns stored address records into coordinates that can be trusted."""

from typing import TYPE_CHECKING, Any

from yellowtor.version import __version__

if TYPE_CHECKING:
    from yellowtor.api import place, place_partition

__all__ = ["__version__", "place", "place_partition"]


def __getattr__(name: str) -> Any:
    """The Python API is loaded when it is used: importing yellowtor does nothing."""
    if name in {"place", "place_partition"}:
        from yellowtor import api

        return getattr(api, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
