"""Texts that a spreadsheet does not take for formulas."""

FORMULA = frozenset("=+-@\t\r")  # what a formula begins with


def shielded(text: str) -> str:
    """The text; one that a spreadsheet would take for a formula gets an apostrophe first.

    >>> shielded("=1+1"), shielded("Kelp Lane")
    ("'=1+1", 'Kelp Lane')
    """
    return f"'{text}" if text[:1] in FORMULA else text
