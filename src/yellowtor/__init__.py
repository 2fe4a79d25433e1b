"""Yellowtor turns stored address records into coordinates that can be trusted."""

__version__ = "0.1.0"
