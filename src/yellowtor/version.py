"""The version, for whoever says it."""

__version__ = "0.1.0"
