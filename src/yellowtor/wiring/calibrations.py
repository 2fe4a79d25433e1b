"""The file in which a job keeps what was learned from a person's decisions about its services. It is JSON."""

from collections.abc import Mapping
from pathlib import Path

from pydantic import BaseModel, Field, ValidationError

from yellowtor.answers.judging.thresholds import Calibration
from yellowtor.errors import BadJob
from yellowtor.files import written_aside
from yellowtor.run.jobs.job import Job


class StoredCalibration(BaseModel):
    """One correction, as the file has it."""

    slope: float = Field(gt=0, lt=100)
    shift: float = Field(gt=-100, lt=100)
    decisions: int = Field(ge=1)
    made_on: str = ""


class CalibrationFile(BaseModel):
    """The corrections by the service's name; earlier are those that they replaced."""

    services: dict[str, StoredCalibration]
    earlier: list[dict[str, StoredCalibration]] = []


def calibrations_of(job: Job, folder: Path) -> Mapping[str, Calibration]:
    """The corrections that the job uses, by the service's name. Raises BadJob."""
    if job.judge.calibration is None:
        return {}
    services = _read(folder / job.judge.calibration).services
    return {name: Calibration(one.slope, one.shift, one.decisions) for name, one in services.items()}


def write_calibrations(path: Path, found: Mapping[str, Calibration], today: str) -> None:
    """Put these corrections in the file; the ones that they replace are kept in it under `earlier`. Raises BadJob."""
    content = _read(path) if path.exists() else CalibrationFile(services={})
    if replaced := {name: content.services[name] for name in found if name in content.services}:
        content.earlier.append(replaced)
    for name, one in found.items():
        content.services[name] = StoredCalibration(
            slope=one.slope, shift=one.shift, decisions=one.decisions, made_on=today
        )
    with written_aside(path) as aside:
        aside.write_text(content.model_dump_json(indent=2) + "\n", encoding="utf-8")


def _read(path: Path) -> CalibrationFile:
    try:
        return CalibrationFile.model_validate_json(path.read_bytes())
    except OSError as error:
        why = error.strerror or error
        raise BadJob(f"judge.calibration: {path} can't be read: {why}. Nothing was sent.") from error
    except ValidationError as error:
        raise BadJob(
            f"judge.calibration: {path} is no file that `yellowtor calibrate` has written. Nothing was sent."
        ) from error
