"""What a run is made of, how it is to go, and its summary. Plain values."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.allowance.windows import Left
from yellowtor.answers.judging.thresholds import Calibration
from yellowtor.answers.ledger_rows import CauseCount
from yellowtor.contracts.clock import Clock
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.table import Table
from yellowtor.run.asking.ask_result import AskTotals
from yellowtor.run.jobs.job import Job
from yellowtor.run.phases.marking import MarkerParts
from yellowtor.run.phases.scan import ScanResult
from yellowtor.run.phases.write_result import Changes, WriteResult
from yellowtor.run.plan import Plan
from yellowtor.run.ports import Book, MarkerFiles, Service

if TYPE_CHECKING:
    from yellowtor.run.crew import Crew


@dataclass(frozen=True)
class Parts:
    """The parts of one run; the services in the order in which they are asked.

    `to` is the file for the answers (None: the source itself), `files` are all written files, `into` is the written
    table of a database. crew are other processes that share the work, if there are any.
    """

    job: Job
    table: Table
    services: Sequence[Service]
    book: Book
    clock: Clock
    markers: MarkerFiles
    leave: object
    to: Path | None
    files: tuple[Path, ...]
    into: str = ""
    open_copy: Callable[[Path], Table] | None = None
    dated: Callable[[Path], Path] | None = None
    calibrations: Mapping[str, Calibration] = field(default_factory=dict)
    marker_parts: MarkerParts = field(default_factory=MarkerParts)
    crew: "Crew | None" = None


@dataclass(frozen=True)
class Options:
    """How this run is to go. at_most limits the distinct questions; repair: see WriteBack.

    spend_at_most, in millionths, limits what it costs; agreed: it may cost more than the job wants to be asked about.
    failed_before: of what failed, replies from before this instant (ISO 8601, UTC; else the begin of the run) are asked
    for again. most_moved is the share of records that may move, in place of the job's. on is the
    cluster that shares the work; empty: none.
    """

    dry_run: bool = False
    at_most: int | None = None
    again_failed: bool = False
    repair: bool = False
    spend_at_most: int | None = None
    agreed: bool = False
    failed_before: str = ""
    log: Path | None = None
    most_moved: float | None = None
    on: str = ""


@dataclass(frozen=True)
class Summary:
    """The summary of a run. outcomes adds up to the records read; untouched are unchanged files.

    folder is that of the answers, or its URL, if they are in many files; in_folder: some of them are new.
    """

    scan: ScanResult
    plan: Plan
    asked: AskTotals
    outcomes: dict[Outcome, int]
    placed_by: dict[str, int]
    wrote: WriteResult | None
    files: tuple[Path, ...]
    folder: str
    in_folder: bool
    into: str
    backup: Path | None
    changes: Changes | None
    abandoned: tuple[str, ...] = ()
    in_reverse: bool = False
    untouched: frozenset[Path] = frozenset()
    left: tuple[Left, ...] = ()  # what the windows of the first service allow at the end
    began: str = ""
    causes: Sequence[CauseCount] = ()  # of doubt, with the most records first
    credits: Mapping[str, str] = field(default_factory=dict)  # that the terms of services require, by their names


def stamp_of(now: datetime) -> str:
    """An instant as the ledger keeps it."""
    return now.astimezone(UTC).isoformat(timespec="milliseconds")
