"""Judges every address whose replies are not judged by today's thresholds.

Candidates are read from a stored reply once for each set of reading rules. Nothing is sent.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice

from yellowtor.addresses.keys import digest
from yellowtor.answers.judging.judgement import Judgement, judge, judgement_key
from yellowtor.answers.judging.offers import matched
from yellowtor.answers.judging.other_records import OtherRecords, among_others, town_key
from yellowtor.answers.judging.reverse_judgement import VERSION, judge_nearby
from yellowtor.answers.judging.service_choice import AskNext, Settled, settle
from yellowtor.answers.judging.thresholds import Calibration, Thresholds
from yellowtor.answers.ledger_rows import Judged, KeptReply, ReadAs, Unjudged
from yellowtor.answers.record_answers import EXTRA, NO_PARTS
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reading import Read
from yellowtor.answers.replies.reply import Reply
from yellowtor.answers.replies.reply_drift import SAMPLE, Drift
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.address import Address
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import WRITTEN_DECIMALS
from yellowtor.contracts.subject import AskedPosition, Subject
from yellowtor.run.phases.comparing import compare
from yellowtor.run.ports import JudgeBook, Service

Found = list[ReadAs]


@dataclass(frozen=True)
class JudgingRules:
    """How a job judges. context are the parts that it fixes; calibrations are by the service's name."""

    thresholds: Thresholds
    ask_next: AskNext
    context: frozenset[str] = frozenset()
    calibrations: Mapping[str, Calibration] = field(default_factory=dict)


class Judging:
    """Judges by one job's rules and the reading rules of its services, which are in the order of their turns."""

    def __init__(
        self,
        services: Sequence[Service],
        rules: JudgingRules,
        remark: Callable[[str], None] = lambda _: None,
        fault: Callable[[Exception], None] = lambda _: None,
        advanced: Callable[[int], None] = lambda _: None,
    ) -> None:
        self._services = {service.name: service for service in services}
        self._rules = rules
        self._thresholds = {
            service.name: replace(rules.thresholds, calibration=rules.calibrations.get(service.name))
            for service in services
        }
        self._remark = remark
        self._fault = fault
        self._advanced = advanced
        self._drifts: dict[str, Drift] = {}
        self._readings = {service.name: service.reading_key for service in services}
        self._in_reverse = any(service.asking.operation == "reverse" for service in services)
        self.key = digest(
            VERSION if self._in_reverse else "",
            *(judgement_key(self._thresholds[name], f"{name} {key}") for name, key in self._readings.items()),
        )
        if len(services) > 1:
            self.key = digest(self.key, repr(rules.ask_next))

    def judge_open(self, book: JudgeBook, pages: int | None = None) -> None:
        """Judge everything that is not judged by these rules, or this many pages of it."""
        if book.is_judged(self.key):
            return
        self._heed_drifts(book)
        for judged in islice(self._pages(book), pages):
            if pages is None:
                self._advanced(judged)
        if pages is None:
            if not self._in_reverse and compare(book.comparison):
                sum(self._pages(book))
            book.note_all_judged(self.key)

    def judge_share(self, book: JudgeBook) -> None:
        """Judge the addresses of this book that are not judged by these rules; other processes judge others."""
        self._heed_drifts(book)
        for judged in self._pages(book):
            self._advanced(judged)

    def _heed_drifts(self, book: JudgeBook) -> None:
        for service in self._services.values() if not self._drifts else ():
            earlier = book.answers_before(service.name, service.reading_key, SAMPLE)
            self._drifts[service.name] = Drift(service.name, earlier)

    def _pages(self, book: JudgeBook) -> Iterator[int]:
        """Judge page by page; the number of addresses of each."""
        for page in book.unjudged(self.key, self._readings):
            found: Found = []
            book.put_judged([self._judge(item, found) for item in page], self.key, found)
            yield len(page)

    def _judge(self, item: Unjudged, found: Found) -> Judged:
        """The judgement of an address; candidates that had to be read for it are added to found."""
        asked = item.subject
        replies = [(name, reply) for name in self._services if (reply := item.replies.get(name)) is not None]
        judged = {}
        for name, reply in replies:
            read = self._read(name, reply, found)
            judged[name] = self._judgement(name, asked, read)
        silent = [name for name in self._services if name in item.replies and name not in judged]
        settled = settle(judged, silent, self._rules.ask_next, self._rules.thresholds, compares=not self._in_reverse)
        ids = {name: reply.id for name, reply in replies}
        others = OtherRecords(item.streets, item.away_m)
        if any(others):
            settled = settled._replace(judgement=among_others(settled.judgement, others, self._rules.thresholds))
        return _kept(item, ids[settled.service], max(ids.values()), settled)

    def _judgement(self, service: str, asked: Subject, read: Read) -> Judgement:
        try:
            return judge_reply(asked, self._rules.context, read, self._thresholds[service])
        except Exception as error:  # noqa: BLE001 - one answer must not end the run
            self._fault(error)
            why = f"an unexpected fault ({type(error).__name__}) while judging: --debug shows where"
            return Judgement(Outcome.FAILED, (why,))

    def _read(self, name: str, reply: KeptReply, found: Found) -> Read:
        """What a kept reply says."""
        if not reply.status:
            return Read(reply.kind, message=reply.message)  # none came
        if reply.candidates is not None:
            return Read(reply.kind, list(reply.candidates), reply.message)
        read = self._read_anew(name, reply)
        for said in self._drifts[name].note(read.kind, read.candidates, read.unknown_levels):
            self._remark(said)
        found.append(ReadAs(reply.id, self._readings[name], read.candidates, read.kind, read.message))
        return read

    def _read_anew(self, name: str, reply: KeptReply) -> Read:
        """Read a stored reply by today's rules. If an unexpected fault occurs, it is unreadable."""
        try:
            read = self._services[name].read(Reply(reply.status, reply.headers, reply.body))
        except Exception as error:  # noqa: BLE001 - one reply must not end the run
            self._fault(error)
            return Read(Kind.UNREADABLE, message=f"an unexpected fault ({type(error).__name__}): --debug shows where")
        if read.kind is reply.kind and not read.kind.is_answer:
            return read._replace(message=reply.message)
        return read


def judge_reply(asked: Subject, context: frozenset[str], read: Read, thresholds: Thresholds) -> Judgement:
    """Judge a reply about an address or a position."""
    if isinstance(asked, AskedPosition):
        return judge_nearby(asked.position, read.kind, read.message, read.candidates, thresholds)
    assert isinstance(asked, Address), "there is nothing else"
    return judge(asked, context, read.kind, read.message, read.candidates, thresholds)


def _kept(item: Unjudged, reply_id: int, newest: int, settled: Settled) -> Judged:
    judgement = settled.judgement
    candidate = judgement.candidate
    confidence = judgement.confidence
    position = candidate.position if candidate else None
    return Judged(
        address=item.address,
        reply_id=reply_id,
        newest=newest,
        enough=settled.enough,
        outcome=judgement.outcome,
        lat=round(position.lat, WRITTEN_DECIMALS) if position else None,
        lon=round(position.lon, WRITTEN_DECIMALS) if position else None,
        confidence=confidence.value if confidence else None,
        basis=confidence.basis if confidence else "",
        level=str(candidate.level or "") if candidate else "",
        matched=matched(candidate) if candidate else "",
        parts=_parts(candidate) if candidate else NO_PARTS,
        reasons=judgement.reasons,
        cause=judgement.cause,
        town=town_key(item.subject),
    )


def _parts(candidate: Candidate) -> dict[str, str]:
    """The parts of the matched address, and the description's own fields."""
    return {**candidate.parts, **{f"{EXTRA}{name}": text for name, text in candidate.extra.items()}}
