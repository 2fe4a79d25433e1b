"""The candidates of an address for a person to choose from: lettered, each with its differences from the question."""

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from yellowtor.addresses.canonical import canonical
from yellowtor.addresses.side_by_side import AlignedPart, side_by_side
from yellowtor.answers.judging.confidence import estimate
from yellowtor.answers.judging.evidence import evidence_alone, said
from yellowtor.answers.judging.thresholds import Thresholds
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.contracts.position import Position, distance_m
from yellowtor.contracts.review_file import LETTERS

SAME_M = 1.0  # two candidates with one label and so near are one
AGREE = frozenset({"agrees", "not asked"})
DIFFER = frozenset({"agrees in part", "differs", "not confirmed"})


class Difference(NamedTuple):
    """A part in which an answer is not as asked. The answer is empty if it does not confirm the part."""

    part: str
    asked: str
    answered: str

    def __str__(self) -> str:
        return f"{self.part}: {self.asked or '–'} → {self.answered or '–'}"


class Offer(NamedTuple):
    """A candidate with its letter, and the confidence that it would have if it were the only one.

    words are those of its text, each with whether it agrees with the question, or adds to it. away_m is the distance
    from the first one, reach_m how far from the position the place may be.
    """

    letter: str
    service: str
    position: Position
    level: str
    matched: str
    confidence: float
    differences: Sequence[Difference]
    words: Sequence[tuple[str, bool]]
    away_m: float
    reach_m: float


def offers_of(
    asked: Address, found: Mapping[str, tuple[Sequence[Candidate], Thresholds]], chosen: Position | None
) -> list[Offer]:
    """The candidates of all services (by name), at most five: the answer at `chosen` first, then the likeliest."""
    weighed = sorted(_weighed(asked, found, chosen), key=lambda one: one[:2])
    kept: list[tuple[str, Candidate, float]] = []
    for _, odds, service, candidate in weighed:
        if len(kept) < len(LETTERS) and not any(_is_same(candidate, other) for _, other, _ in kept):
            kept.append((service, candidate, -odds))
    return [
        _offer(letter, service, asked, candidate, confidence, kept[0][1].position)
        for letter, (service, candidate, confidence) in zip(LETTERS, kept, strict=False)
    ]


def _weighed(
    asked: Address, found: Mapping[str, tuple[Sequence[Candidate], Thresholds]], chosen: Position | None
) -> Iterator[tuple[bool, float, str, Candidate]]:
    for service, (candidates, thresholds) in found.items():
        for candidate in candidates:
            confidence = estimate(evidence_alone(asked, candidate, thresholds.area), thresholds).value
            yield candidate.position.rounded() != chosen, -confidence, service, candidate


def _offer(
    letter: str, service: str, asked: Address, candidate: Candidate, confidence: float, first: Position
) -> Offer:
    answered = side_by_side(asked, said(candidate))
    text = matched(candidate)
    fine = [part.answered for part in answered if part.agreement in AGREE]  # or the question says nothing of it
    return Offer(
        letter,
        service,
        candidate.position.rounded(),
        str(candidate.level or ""),
        text,
        confidence,
        list(_differences(answered)),
        list(compared_words(text, " ".join([asked.line(), *fine]))),
        distance_m(first, candidate.position),
        candidate.reach_m,
    )


def _differences(answered: Sequence[AlignedPart]) -> Iterator[Difference]:
    for part in answered:
        if part.agreement in DIFFER:
            yield Difference(part.name, part.question, part.answered)


def compared_words(text: str, other: str) -> Iterator[tuple[str, bool]]:
    """The words of a text, each with whether the other text has it too.

    >>> list(compared_words("12 Kelp Ln, Holm", "12 kelp lane holm"))
    [('12', True), ('Kelp', True), ('Ln,', False), ('Holm', True)]
    """
    known = set(canonical(other).split())
    for word in text.split():
        yield word, set(canonical(word).split()) <= known


def _is_same(one: Candidate, other: Candidate) -> bool:
    return matched(one) == matched(other) and distance_m(one.position, other.position) < SAME_M


def matched(candidate: Candidate) -> str:
    """The address that a candidate answers: its label, else its parts in one line."""
    if candidate.label:
        return candidate.label
    parts = {p: t for p, t in candidate.parts.items() if p != "country_code"}
    return Address(**parts).line()
