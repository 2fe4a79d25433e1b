"""Other processes that share the work of a run, on this machine or on many; and what is given to them. Plain values."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

from yellowtor.answers.ledger_rows import Turn
from yellowtor.run.asking.ask_result import AskResult
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.phases.scan import PartScan
from yellowtor.run.phases.write_result import WriteResult
from yellowtor.run.ports import Watcher

if TYPE_CHECKING:
    from yellowtor.run.ports import Service


@dataclass(frozen=True)
class AskOrder:
    """Whom to ask what. at_most limits the distinct questions; failed_before: see Options.

    judges: what is answered is judged meanwhile, and counted.
    """

    turn: Turn
    at_most: int | None = None
    failed_before: str = ""
    judges: bool = True


@dataclass(frozen=True)
class PieceOrder:
    """A file to be written: its name and number, its fingerprint and records at the scan, and the state of its answers.

    repair: see WriteBack.
    """

    name: str
    number: int
    source: str
    records: int
    answers: str
    repair: bool = False


@dataclass(frozen=True)
class PieceWritten:
    """The result for a file; untouched: it was complete already, and was left as it is."""

    result: WriteResult
    untouched: bool


class Crew(Protocol):
    """Shares a run's work. Each method returns when all of it is done, and raises what one of the processes raised.

    abandoned are the subjects of requests that workers had in flight when they died.
    """

    abandoned: Sequence[str]

    def scan(self, pieces: Mapping[str, int], watch: Watcher, *, writes: bool) -> Sequence[PartScan]: ...
    def ask(self, service: "Service", order: AskOrder, watch: Watcher, stop: Cancellation) -> AskResult: ...
    def judge(self, watch: Watcher) -> None: ...
    def write(self, orders: Sequence[PieceOrder], watch: Watcher) -> Sequence[PieceWritten]: ...
