"""The version of the program."""

__version__ = "0.1.0"
