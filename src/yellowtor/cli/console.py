"""All output goes through here: data to standard output, everything else to standard error."""

import math
import shutil
import sys
import time
import traceback
from collections.abc import Iterator, Mapping
from collections.abc import Set as AbstractSet
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from rich.console import Console, ConsoleOptions, ConsoleRenderable, RenderHook
from rich.live import Live
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from yellowtor.allowance.forecast import Forecast
from yellowtor.allowance.price import money
from yellowtor.allowance.windows import Left
from yellowtor.cli.debugging import DEBUG
from yellowtor.cli.eventlog import EventLog
from yellowtor.contracts.outcome import Outcome
from yellowtor.markers.style import MARKS
from yellowtor.run.parts import Summary

EVERY_S = 3.0  # between two plain lines, if standard error is not a terminal


class _Harmless(RenderHook):
    """Shows characters that control a terminal as pictures of themselves: texts come from records and replies."""

    def process_renderables(self, renderables: list[ConsoleRenderable]) -> list[ConsoleRenderable]:
        return [_Pictured(renderable) for renderable in renderables]


class _Pictured:
    def __init__(self, inner: ConsoleRenderable) -> None:
        self._inner = inner

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> Iterator[Segment]:
        for text, style, control in console.render(self._inner, options):
            yield Segment(text if control else text.translate(PICTURES), style, control)


PICTURES = {code: 0x2400 + code for code in range(32) if chr(code) not in "\n\t"} | {0x7F: 0x2421}
PICTURES |= dict.fromkeys([*range(0x80, 0xA0), *range(0x202A, 0x202F), *range(0x2066, 0x206A)], 0xFFFD)


def stdout() -> Console:
    return _console(Console(highlight=False, markup=False, soft_wrap=True))


def stderr() -> Console:
    return _console(Console(stderr=True, highlight=False, markup=False))


def _console(made: Console) -> Console:
    made.push_render_hook(_Harmless())
    return made


def mark(outcome: Outcome) -> Text:
    """An outcome with its sign, in its colour."""
    style = MARKS[outcome]
    return Text(f"{style.sign} {outcome.value}", style.style)


def note(console: Console, text: str) -> None:
    """A remark about what was found or assumed."""
    console.print(f"note: {text}", style="yellow", soft_wrap=True)


class Progress:
    """Watches a run: one live line on a terminal, a plain line every few seconds elsewhere."""

    def __init__(self, console: Console, log: EventLog | None = None, *, debug: bool | None = None) -> None:
        self._console = console
        self._debug = DEBUG.get() if debug is None else debug
        self._log = log
        self._asked = ""
        self._left: Left | None = None
        self._forecast: Forecast | None = None
        self._phase = ""
        self._total: int | None = None
        self._count = 0
        self._files = ""
        self._sent = self._counted = 0
        self._outcomes: Mapping[Outcome, int] = {}
        self._until: datetime | None = None
        self._why = ""
        self._live = console.is_terminal
        self._faulted = False
        self._started = self._shown_at = time.monotonic()

    def phase(self, name: str, total: int | None = None) -> None:
        self._phase = name
        self._total = total
        self._count = 0
        self._files = ""
        self._asked = ""
        self.event("phase", {"name": name, "total": total})
        self._started = time.monotonic()

    def asks(self, service: str, total: int, left: Left | None, forecast: Forecast) -> None:
        self.phase("Asking", total)
        self._asked = service
        self._forecast = forecast
        self._left = left
        self._sent = 0
        self._counted = 0

    def advanced(self, count: int) -> None:
        self._count += count
        self._plain()

    def file_done(self, name: str, done: int, total: int) -> None:
        """Tell of one of many files, and how many are done."""
        self._files = f" · {done:,} of {total:,} files"
        self.event("file", {"phase": self._phase, "name": name, "done": done, "of": total})
        self._plain()

    def outcomes(self, counts: Mapping[Outcome, int]) -> None:
        self._outcomes = counts

    def sent(self, requests: int, counted: int) -> None:
        self._sent += requests
        self._counted += counted

    def waits(self, until: datetime, why: str) -> None:
        """Nothing is done until then, for this reason."""
        self.phase("Waiting")
        self._until = until
        self._why = why
        if not self._live:
            self._console.print(self.line().plain, soft_wrap=True)

    def remark(self, text: str) -> None:
        note(self._console, text)
        self.event("note", {"text": text})

    @property
    def keeps_log(self) -> bool:
        return self._log is not None

    def event(self, name: str, facts: Mapping[str, object]) -> None:
        if self._log:
            self._log.event(name, facts)

    def fault(self, error: Exception) -> None:
        """Say once that there was one; with --debug where each was, but not its text, which may hold a key."""
        if not self._faulted:
            note(self._console, f"an unexpected fault ({type(error).__name__}) met one question, which has failed")
        self._faulted = True
        if self._debug:
            self._console.print("".join(traceback.format_tb(error.__traceback__)), soft_wrap=True)

    def _plain(self) -> None:
        if self._live or time.monotonic() - self._shown_at < EVERY_S:
            return
        self._shown_at = time.monotonic()
        self._console.print(self.line().plain, soft_wrap=True)

    def line(self) -> Text:
        """Where the run is: phase, count, outcomes, rate, allowance left, time left."""
        seconds = max(time.monotonic() - self._started, 1e-6)
        text = Text().append(f"{self._phase:<7} ", "bold").append(f"{self._asked} " if self._asked else "")
        if self._until is not None:
            ahead = duration((self._until - datetime.now(UTC)).total_seconds())
            return text.append(f"{self._why}; continues at {self._until:%Y-%m-%d %H:%M:%S} UTC, in {ahead}")
        if not self._phase:
            return Text()
        text.append(f"{self._count:,}" + (f" of {self._total:,}" if self._total else "") + self._files)
        if not self._asked:
            return text
        for outcome in (Outcome.PLACED, Outcome.DOUBTFUL, Outcome.UNPLACED, Outcome.FAILED):
            if outcome in self._outcomes:
                text.append("  ").append(mark(outcome)).append(f" {self._outcomes[outcome]:,}")
        text.append(f"  · {self._sent / seconds:.1f}/s")
        if self._left is not None:
            text.append(f" · {max(0, self._left.left - self._counted):,} left {self._left.words}")
        if self._total and self._forecast:
            text.append(_to_go(self._forecast, self._total, self._count, seconds))
        return text

    @contextmanager
    def shown(self) -> Iterator[None]:
        """Keep the line on the screen while the body runs."""
        if not self._console.is_terminal:
            yield
            return
        with Live(get_renderable=self.line, console=self._console, transient=True, refresh_per_second=8):
            yield


def _to_go(forecast: Forecast, total: int, done: int, took_s: float) -> str:
    """The time left: from the plan, or from the measured rate if that is lower."""
    waits = forecast.requests > forecast.at_once
    now = math.ceil(total * forecast.at_once / max(1, forecast.requests)) if waits else total
    each_s = max((forecast.seconds or 0) / max(1, now), took_s / done if done else 0)
    later = f" · all by {forecast.ends_at[:16].replace('T', ' ')} UTC" if waits and forecast.ends_at else ""
    return (f" · {duration(max(0, now - done) * each_s)} to go" if each_s else "") + later


def duration(seconds: float) -> str:
    """Seconds as people say them: 8 s, 3 min, 2 h 10 min."""
    minutes = round(seconds / 60)
    if seconds < 90:
        return f"{max(0, round(seconds))} s"
    return f"{minutes} min" if minutes < 120 else f"{minutes // 60} h {minutes % 60} min"


def columns(*names: str, left: AbstractSet[str] = frozenset()) -> Table:
    """A plain table; columns are right-aligned, except the first one and those in `left`."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for at, name in enumerate(names):
        side = "left" if not at or not name or name in left else "right"
        table.add_column(f"  {name}" if not at else name, justify=side, overflow="fold")  # type: ignore[arg-type]
    return table


def short(file: str | Path) -> str:
    """A path as people here would write it; a URL as it is."""
    if "://" in str(file):
        return str(file)
    try:
        return str(Path(file).resolve().relative_to(Path.cwd()))
    except ValueError:
        return str(file)


def amount_of(left: Left, amount: int, currency: str) -> str:
    """An amount of a window's: of requests, or of money."""
    return money(amount, currency) if left.money else f"{amount:,}"


def outcome_table(summary: Summary) -> Table:
    """Records by outcome."""
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False)
    table.add_column()
    table.add_column(justify="right")
    table.add_column(style="dim", overflow="fold")
    for outcome, count in summary.outcomes.items():
        if count:
            table.add_row(mark(outcome), f"{count:,}", outcome.meaning)
    table.add_row(Text("records", "bold"), Text(f"{sum(summary.outcomes.values()):,}", "bold"), "")
    return table


def write_out(text: str) -> None:
    """Data: to standard output, as it is."""
    sys.stdout.write(text + "\n")
    sys.stdout.flush()


def pour_out(file: Path) -> None:
    """A file of data: to standard output, as it is."""
    sys.stdout.flush()
    with file.open("rb") as data:
        shutil.copyfileobj(data, sys.stdout.buffer, 1 << 20)
    sys.stdout.buffer.flush()
