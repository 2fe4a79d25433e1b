"""Yellowtor turns stored address records into coordinates that can be trusted."""

from typing import TYPE_CHECKING, Any

from yellowtor.version import __version__

if TYPE_CHECKING:
    from yellowtor.api import place

__all__ = ["__version__", "place"]


def __getattr__(name: str) -> Any:
    """The Python API is loaded when it is used: importing yellowtor does nothing."""
    if name == "place":
        from yellowtor.api import place

        return place
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
