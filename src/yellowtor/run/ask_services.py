"""Asks the services one after the other, each about what those before it did not answer well enough."""

from collections.abc import Iterator, Mapping
from contextlib import suppress
from itertools import islice

from yellowtor.allowance.windows import tightest
from yellowtor.answers.ledger_rows import Question, Turn
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.outcome import Outcome
from yellowtor.run.asking.ask_result import AskResult
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.crew import AskOrder
from yellowtor.run.jobs.job import Job
from yellowtor.run.parts import Options, Parts
from yellowtor.run.phases.judging import Judging
from yellowtor.run.plan import currency_of, forecast_run
from yellowtor.run.ports import Service, Watcher


def ask_all(
    parts: Parts,
    questions: int,
    options: Options,
    at_most: int | None,
    judging: Judging,
    watch: Watcher,
    stop: Cancellation,
) -> Iterator[AskResult]:
    """Ask the services one after the other, each about what those before it did not answer well enough.

    questions is the number of open questions of the first service; of each service, at_most are asked. Unasked
    questions go to the next service only if the job says so, and the service was set aside or its quota is spent.
    """
    judged_by = judging.key if len(parts.services) > 1 else ""
    waited_for = list[str]()
    for at, service in enumerate(parts.services):
        if stop:
            return
        if at:
            watch.phase("Judging")
            judge_all(parts, judging, watch)
        turn = Turn(service.name, service.reading_key, tuple(waited_for), judged_by)
        if at:
            questions, _ = parts.book.questions.collect(turn, failed_before=options.failed_before)
        result = AskResult(service.name)
        if questions:
            order = AskOrder(turn, at_most, options.failed_before)
            result = ask_one(parts, service, questions, judging, watch, stop, order)
            result.currency = currency_of(service, parts.clock.now())
            result.differences = tuple(parts.book.requests[service.name].differences)
            yield result
        if not _passes_on(result, parts.job):
            waited_for.append(service.name)


def _passes_on(result: AskResult, job: Job) -> bool:
    """Whether what a service was not asked about may go to the next."""
    if result.stopped_by is Kind.WINDOW_SPENT:
        return job.ask.next.spent
    return (result.stopped_by is not None or bool(result.left_open)) and job.ask.next.failed


def judge_all(parts: Parts, judging: Judging, watch: Watcher) -> None:
    """Judge everything that is not judged by today's rules."""
    if parts.crew and not parts.book.judging.is_judged(judging.key):
        parts.crew.judge(watch)
    judging.judge_open(parts.book.judging)


def ask_one(
    parts: Parts,
    service: Service,
    questions: int,
    judging: Judging,
    watch: Watcher,
    stop: Cancellation,
    order: AskOrder,
) -> AskResult:
    """Ask one service what was collected for it."""
    import asyncio  # a run that has all its answers does without

    from yellowtor.run.asking.ask import Asker
    from yellowtor.run.asking.background_judging import judge_meanwhile

    at_most = order.at_most
    wanted = questions if at_most is None else min(questions, at_most)
    left = tightest(parts.book.requests[service.name].left())
    watch.asks(service.name, wanted, left, forecast_run(parts.book, service, wanted, parts.clock.now()))
    if parts.crew:
        return parts.crew.ask(service, order, watch, stop)
    open_: Iterator[Question] = islice(parts.book.questions.all(), at_most)

    def judge() -> Mapping[Outcome, int]:
        judging.judge_open(parts.book.judging, pages=1)
        return parts.book.outcomes.counts()

    async def whole() -> AskResult:
        async with service, parts.book.writer(service.name) as writer:
            judges = judge_meanwhile(judge, writer, parts.clock, watch) if order.judges else asyncio.sleep(0)
            meanwhile = asyncio.create_task(judges)
            try:
                return await Asker(service, writer, parts.clock, watch).ask(open_, stop)
            finally:
                meanwhile.cancel()
                with suppress(asyncio.CancelledError):
                    await meanwhile

    return asyncio.run(whole())
