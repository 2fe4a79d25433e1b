"""The command `run --share`: helps another run of the job to ask; that run scans, judges and writes."""

from dataclasses import dataclass

from yellowtor.answers.ledger_rows import Turn
from yellowtor.run.ask_services import ask_all
from yellowtor.run.asking.ask_result import AskTotals
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.parts import Options, Parts, stamp_of
from yellowtor.run.ports import Watcher
from yellowtor.run.run_job import judging_of

LOOK_S = 1.0  # between two looks for what the other has found to be open


@dataclass(frozen=True)
class SharedRun:
    """The result of helping. left_alone: the run that should write the answers died."""

    asked: AskTotals
    left_alone: bool


def ask_shared(parts: Parts, options: Options, watch: Watcher, stop: Cancellation) -> SharedRun:
    """Ask open questions while the other run is alive; each sees what the other has in flight.

    If the other dies before it wrote the answers, the open questions are asked to the end.
    """
    book = parts.book
    services = parts.services
    turns = []
    settled = 0
    judging = judging_of(parts, watch)
    turn = Turn(services[0].name, services[0].reading_key, (), judging.key if len(services) > 1 else "")
    before = stamp_of(book.clock.now()) if options.again_failed else ""
    watch.phase("Looking")
    while not stop:
        others, gone = book.others()
        if len(services) > 1 or options.again_failed:
            judging.judge_open(book.judging)
        open_, _ = book.questions.collect(turn, failed_before=before)
        limit = None if options.at_most is None else options.at_most - settled
        done = list(ask_all(parts, open_, options, limit, judging, watch, stop)) if limit != 0 else []
        turns += done
        now_settled = sum(result.settled for result in done)
        settled += now_settled
        if not others or limit == 0 or any(result.stopped_by for result in done):
            return SharedRun(AskTotals(tuple(turns)), left_alone=gone > 0)
        if not now_settled:
            watch.phase("Looking")
            stop.wait(LOOK_S)
    return SharedRun(AskTotals(tuple(turns)), left_alone=False)
