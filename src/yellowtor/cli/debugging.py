"""Whether the command was called with --debug."""

from contextvars import ContextVar

DEBUG = ContextVar("debug", default=False)
