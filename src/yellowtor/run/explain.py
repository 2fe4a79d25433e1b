"""The verb `explain`: the whole story of one record, from its columns to its outcome. Nothing is sent."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.decisions import Correction
from yellowtor.answers.judging.explaining import Explanation, explain
from yellowtor.answers.judging.other_records import ALONE, OtherRecords
from yellowtor.answers.judging.thresholds import Calibration, Thresholds
from yellowtor.answers.ledger_rows import RequestMade
from yellowtor.answers.record_answers import Answer
from yellowtor.answers.replies.reading import Read
from yellowtor.contracts.address import Address
from yellowtor.contracts.subject import Subject
from yellowtor.contracts.table import Table
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.row_reader import find_record, key_as_shown
from yellowtor.run.ports import RecordBook, Service


@dataclass(frozen=True)
class FromService:
    """What one service was asked about a record and what it said. read is None if no reply is kept."""

    service: str
    requests: Sequence[RequestMade]
    received_at: str
    read: Read | None
    explanation: Explanation | None


@dataclass(frozen=True)
class Story:
    """All that is known of a record. why_not says why nothing is asked about it; empty if something is.

    answer is how the ledger has it: None if no run has read it. correction is how a person has corrected the address:
    then subject is the corrected one.
    """

    key: str
    name: str
    cells: Mapping[str, str]
    subject: Subject
    why_not: str
    services: Sequence[FromService]
    answer: Answer | None
    correction: Correction | None = None


def explain_record(
    job: Job,
    table: Table,
    services: Sequence[Service],
    book: RecordBook,
    key: str,
    calibrations: Mapping[str, Calibration],
) -> Story:
    """The story of the record with this key. Raises BadSource if the table has none."""
    thresholds = {
        service.name: replace(job.judge.thresholds(), calibration=calibrations.get(service.name))
        for service in services
    }
    name, cells, subject, why_not = find_record(job, table, key)
    stored = key_as_shown(key)
    correction = book.correction(subject_key(subject)) if not why_not else None
    subject = correction.corrected if correction else subject
    answer = book.answer(stored)
    others = {answer.service: OtherRecords(*book.others(stored))} if answer else {}
    asked = [
        _from(service, subject, book, thresholds[service.name], others.get(service.name, ALONE))
        for service in ([] if why_not else services)
    ]
    return Story(key, name, cells, subject, why_not, asked, answer, correction)


def _from(
    service: Service, subject: Subject, book: RecordBook, thresholds: Thresholds, others: OtherRecords
) -> FromService:
    question = service.asking.question_key(subject_key(subject))
    requests = book.requests(question)
    kept = book.kept(question)
    if kept is None:
        return FromService(service.name, requests, "", None, None)
    reply, received_at = kept
    read = service.read(reply)
    explanation = None
    if read.kind.is_answer and read.candidates and isinstance(subject, Address):
        explanation = explain(subject, read.candidates, thresholds, others)
    return FromService(service.name, requests, received_at, read, explanation)
