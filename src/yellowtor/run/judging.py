"""Between asking and writing back: judge every reply that today's thresholds have not judged.

Candidates are read from the kept reply once for each set of reading rules; nothing is sent, whatever
changed.
"""

import json
from collections.abc import Callable
from itertools import islice
from typing import Any

from yellowtor.addresses.address import Address
from yellowtor.answers.candidate import Candidate
from yellowtor.answers.drift import SAMPLE, Drift
from yellowtor.answers.outcome import Judgement, Thresholds, judge
from yellowtor.answers.position import WRITTEN_DECIMALS
from yellowtor.answers.reading import Read
from yellowtor.answers.reply import Reply
from yellowtor.answers.work import EXTRA, Judged, Unjudged
from yellowtor.run.ports import JudgeBook, Service


class Judging:
    """Judges by one job's thresholds and one service's reading rules."""

    def __init__(
        self, service: Service, thresholds: Thresholds, context: frozenset[str],
        remark: Callable[[str], None] = lambda _: None,
    ) -> None:  # fmt: skip
        self._service, self._thresholds, self._context = service, thresholds, context
        self._remark = remark
        self._drift: Drift | None = None
        self.key = thresholds.judgement_key(service.reading_key)

    def judge(self, address: Address, read: Read) -> Judgement:
        return judge(address, self._context, read.kind, read.message, read.candidates, self._thresholds)

    def judge_open(self, book: JudgeBook, pages: int | None = None) -> None:
        """Judge all that is not judged so, or so many pages of it."""
        if book.is_judged(self.key):
            return
        if self._drift is None:
            earlier = book.answers_before(self._service.name, self._service.reading_key, SAMPLE)
            self._drift = Drift(self._service.name, [_candidates(text) for text in earlier])
        for page in islice(book.unjudged(self.key, self._service.reading_key), pages):
            judged, found = [], []
            for item in page:
                read, fresh = self._read(item)
                if fresh:
                    for said in self._drift.note(read.kind, read.candidates):
                        self._remark(said)
                    text = json.dumps([c.as_dict() for c in read.candidates], ensure_ascii=False)
                    found.append((item.reply_id, self._service.reading_key, text))
                judged.append(_kept(item, self.judge(Address(**json.loads(item.address)), read)))
            book.put_judged(judged, self.key, found)
        if pages is None:
            book.note_all_judged(self.key)

    def _read(self, item: Unjudged) -> tuple[Read, bool]:
        """What the kept reply says; and whether it was read just now."""
        if not item.kind.is_answer:
            return Read(item.kind, message=item.message), False
        if item.candidates is None:
            read = self._service.read(Reply(item.status, json.loads(item.headers), item.body))
            return read, True
        return Read(item.kind, _candidates(item.candidates), item.message), False


def _candidates(text: str) -> list[Candidate]:
    return [Candidate.from_dict(data) for data in json.loads(text)]


def _kept(item: Unjudged, judgement: Judgement) -> Judged:
    candidate, confidence = judgement.candidate, judgement.confidence
    position = candidate.position if candidate else None
    return Judged(
        question=item.question,
        reply_id=item.reply_id,
        outcome=judgement.outcome.value,
        lat=round(position.lat, WRITTEN_DECIMALS) if position else None,
        lon=round(position.lon, WRITTEN_DECIMALS) if position else None,
        confidence=confidence.value if confidence else None,
        basis=confidence.basis if confidence else "",
        level=str(candidate.level or "") if candidate else "",
        matched=matched(candidate) if candidate else "",
        parts=json.dumps(_parts(candidate), ensure_ascii=False) if candidate else "{}",
        reasons=json.dumps(judgement.reasons, ensure_ascii=False),
    )


def _parts(candidate: Candidate) -> dict[str, str]:
    """The parts of the matched address, and the description's own fields."""
    return {**candidate.parts, **{f"{EXTRA}{name}": text for name, text in candidate.extra.items()}}


def matched(candidate: Candidate) -> str:
    """The address that a candidate answers: its label, else its parts in one line."""
    if candidate.label:
        return candidate.label
    parts: dict[str, Any] = {p: t for p, t in candidate.parts.items() if p != "country_code"}
    return Address(**parts).line()
