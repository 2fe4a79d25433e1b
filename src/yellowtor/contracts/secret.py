"""Texts that nobody may see: keys, tokens, passwords."""

MASK = "•••"


class Secret:
    """A text that repr, str and format show as a mask. Only reveal() returns it."""

    __slots__ = ("_text",)

    def __init__(self, text: str) -> None:
        self._text = text

    def reveal(self) -> str:
        """The text itself, for a request or a connection."""
        return self._text

    def __repr__(self) -> str:
        return f"Secret({MASK})"

    def __str__(self) -> str:
        return MASK

    def __format__(self, spec: str) -> str:
        return MASK

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other._text == self._text

    def __hash__(self) -> int:
        return hash(self._text)
