"""Which looks people with another colour vision can't tell apart.

Protanopia and deuteranopia are simulated after G. M. Machado, M. M. Oliveira and L. A. F. Fernandes ("A
Physiologically-based Model for Simulation of Color Vision Deficiency", 2009) at a severity of 1. Distances are those of
OKLab (B. Ottosson, 2020).
"""

from collections.abc import Iterator, Sequence
from itertools import combinations

from yellowtor.contracts.marker import Look

Rgb = tuple[float, float, float]
USUAL = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
PROTANOPIA = ((0.152286, 1.052583, -0.204868), (0.114503, 0.786281, 0.099216), (-0.003882, -0.048116, 1.051998))
DEUTERANOPIA = ((0.367322, 0.860646, -0.227968), (0.280085, 0.672501, 0.047413), (-0.011820, 0.042940, 0.968881))
TO_CONES = ((0.4122214708, 0.5363325363, 0.0514459929), (0.2119034982, 0.6806995451, 0.1073969566),
            (0.0883024619, 0.2817188376, 0.6299787005))  # fmt: skip
TO_LAB = ((0.2104542553, 0.7936177850, -0.0040720468), (1.9779984951, -2.4285922050, 0.4505937099),
          (0.0259040371, 0.7827717662, -0.8086757660))  # fmt: skip
LEAST = 0.07  # between two colours that can be told apart at a glance


def told_apart(one: str, other: str) -> bool:
    """Whether everybody can tell two colours (#rrggbb) apart.

    >>> told_apart("#0072b2", "#e69f00"), told_apart("#d00000", "#5a7a00")
    (True, False)
    """
    return all(_distance(one, other, vision) >= LEAST for vision in (USUAL, PROTANOPIA, DEUTERANOPIA))


def alike(looks: Sequence[Look]) -> Iterator[tuple[Look, Look]]:
    """Pairs of looks that differ by their colour only, and not enough."""
    for one, other in combinations(looks, 2):
        same = (one.shape, one.text, one.icon, one.size_px, one.turn) == (
            other.shape,
            other.text,
            other.icon,
            other.size_px,
            other.turn,
        )
        if same and not one.icon and not told_apart(one.colour, other.colour):
            yield one, other


def _distance(one: str, other: str, vision: Sequence[Sequence[float]]) -> float:
    pairs = zip(_lab(one, vision), _lab(other, vision), strict=True)
    return float(sum((a - b) ** 2 for a, b in pairs) ** 0.5)


def _lab(colour: str, vision: Sequence[Sequence[float]]) -> Rgb:
    """A colour as somebody sees it, in OKLab."""
    seen = _times(vision, tuple(_linear(int(colour[at : at + 2], 16) / 255) for at in (1, 3, 5)))
    cones = _times(TO_CONES, tuple(min(1.0, max(0.0, part)) for part in seen))
    return _times(TO_LAB, tuple(part ** (1 / 3) for part in cones))


def _linear(part: float) -> float:
    return part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4


def _times(matrix: Sequence[Sequence[float]], vector: Sequence[float]) -> Rgb:
    first, second, third = (sum(a * b for a, b in zip(row, vector, strict=True)) for row in matrix)
    return first, second, third
