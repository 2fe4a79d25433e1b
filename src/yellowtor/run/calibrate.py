"""The verb `calibrate`: compares the confidences of a job's services with the positions that a person has pinned."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.judging.calibrating import (
    LEAST,
    Decision,
    calibration_error,
    fit_calibration,
    held_out,
)
from yellowtor.answers.judging.thresholds import Calibration
from yellowtor.contracts.position import distance_m
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.judging import judge_reply
from yellowtor.run.ports import RecordBook, Service


@dataclass(frozen=True)
class ServiceCalibration:
    """What the decisions say of one service.

    before are its confidences as they ship, after the corrected ones, each by decisions that it was not made from;
    errors are the calibration errors of both. calibration is None if there are too few decisions.
    """

    service: str
    before: Sequence[Decision]
    after: Sequence[Decision]
    errors: tuple[float, float]
    calibration: Calibration | None


def calibrate(job: Job, services: Sequence[Service], book: RecordBook) -> Sequence[ServiceCalibration]:
    """Calibrate each service by the pins of the job's records that it has answered."""
    thresholds = replace(job.judge.thresholds(), calibration=None)
    found: Mapping[str, list[Decision]] = {service.name: [] for service in services}
    for record in book.pinned():
        for service in services:
            kept = book.kept(service.asking.question_key(subject_key(record.subject)))
            if kept is None:
                continue
            judgement = judge_reply(record.subject, job.context(), service.read(kept[0]), thresholds)
            if judgement.candidate is None or judgement.confidence is None:
                continue
            there = record.position
            right = there is not None and distance_m(judgement.candidate.position, there) <= thresholds.tolerance_m
            found[service.name].append(Decision(judgement.confidence.value, right))
    return [_calibrated(name, decisions) for name, decisions in found.items()]


def _calibrated(service: str, before: Sequence[Decision]) -> ServiceCalibration:
    if len(before) < LEAST:
        return ServiceCalibration(service, before, (), (calibration_error(before), 0.0), None)
    after = held_out(before)
    errors = (calibration_error(before), calibration_error(after))
    return ServiceCalibration(service, before, after, errors, fit_calibration(before))
