"""What a value of a reply says, as text."""

from typing import Any


def plain(found: Any) -> Any:
    """A node of XML as its text, without comments; every other value as it is."""
    return found.xpath("string()") if hasattr(found, "xpath") else found


def as_written(value: Any) -> str:
    """A value as text: true for a boolean, 5 for a number; empty for objects and lists."""
    if type(value) is str:
        return value.strip()
    value = plain(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value).strip() if isinstance(value, str | int | float) else ""
