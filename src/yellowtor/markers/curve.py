"""Curves over time, as pictures: requests against the windows that limit them, and what was used of them.

Drawn by Matplotlib without a screen (`pip install 'yellowtor[pictures]'`).
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yellowtor.errors import BadJob
from yellowtor.files import written_aside
from yellowtor.markers.look import ACCENT, INK, LINE, MARKS, MUTED, PAPER

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

SIZE_IN, DPI = (12.8, 8.0), 100
COLOURS = (MARKS["placed"].colour, MARKS["unplaced"].colour, MARKS["incomplete"].colour, MARKS["kept"].colour)
MOST_STEPS = 400


@dataclass(frozen=True)
class Line:
    """Requests over time: for each go when it begins and ends, and how many have left by then."""

    label: str
    goes: Sequence[tuple[datetime, datetime, int]]
    faint: bool = False


@dataclass(frozen=True)
class Ceiling:
    """A window that begins anew by the calendar: left of it now, what each new one allows, and when that ends."""

    label: str
    left: int
    limit: int
    end: Callable[[datetime], datetime]


def draw_curve(path: Path, title: str, now: datetime, lines: Sequence[Line], ceilings: Sequence[Ceiling]) -> None:
    """Requests over time, in front of what each window would allow. Raises BadJob without Matplotlib."""
    figure, axes = _figure(title)
    drawn = [line for line in lines if line.goes]
    until = max((line.goes[-1][1] for line in drawn), default=now) + timedelta(seconds=1)
    until += (until - now) * 0.04
    top = max((line.goes[-1][2] for line in drawn), default=1) * 1.12
    for ceiling in ceilings:
        times, counts = _stairs(ceiling, now, until, top)
        areas: dict[str, Any] = {"step": "post", "color": LINE, "alpha": 0.5, "linewidth": 0}
        axes.fill_between(_numbers(times), counts, label=f"allowed: {ceiling.label}", **areas)
    for at, line in enumerate(drawn):
        times, counts = [now], [0]
        for began, ended, count in line.goes:
            times += [began, ended]
            counts += [counts[-1], count]
        colour = COLOURS[at % len(COLOURS)]
        style: dict[str, Any] = {"linewidth": 1.4, "linestyle": (0, (1, 1))} if line.faint else {"linewidth": 2.4}
        axes.plot(_numbers(times), counts, color=colour, label=line.label, **style)
        axes.plot(_numbers(times[-1:]), counts[-1:], "o", color=colour, markersize=6)
        axes.annotate(f"{times[-1].astimezone(UTC):%d %b %H:%M}", (_numbers(times)[-1], counts[-1]), (0, 8),
                      textcoords="offset points", ha="center", fontsize=10, color=colour)  # fmt: skip
    axes.set_ylim(0, top)
    axes.set_xlim(*_numbers([now - (until - now) * 0.04, until + (until - now) * 0.03]))
    _dates(axes)
    axes.set_ylabel("requests that have left", color=MUTED)
    axes.legend(loc="lower right", frameon=False, fontsize=11, labelcolor=INK)
    _save(figure, path)


def draw_bars(path: Path, title: str, rows: Mapping[str, int], fills: Sequence[tuple[str, int, int, str]]) -> None:
    """Requests by day, and beside them how full each window is: (name, used, limit, in words). Raises BadJob."""
    figure, axes = _figure(title)
    days = [f"{date.fromisoformat(day):%d\n%b}" for day in rows]
    axes.bar(days, list(rows.values()), color=COLOURS[0], width=0.7)
    for day, count in zip(days, rows.values(), strict=True):
        if count:
            axes.annotate(f"{count:,}", (day, count), (0, 3), textcoords="offset points", ha="center", color=MUTED)
    axes.set_ylabel("requests by day (UTC)", color=MUTED)
    if fills:
        axes.set_position((0.08, 0.1, 0.58, 0.76))
        beside: Axes = figure.add_axes((0.72, 0.1, 0.24, 0.76))
        _plain(beside)
        shares = [min(1.0, used / limit) for _, used, limit, _ in fills]
        places = range(len(fills))
        beside.barh(places, [1] * len(fills), color=LINE, height=0.22)
        beside.barh(places, shares, color=[ACCENT if share >= 1 else COLOURS[0] for share in shares], height=0.22)
        for at, (name, _, _, words) in enumerate(fills):
            beside.annotate(name, (0, at - 0.34), fontsize=11, color=INK)
            beside.annotate(words, (0, at - 0.18), fontsize=10, color=MUTED)
        beside.set_xticks([])
        beside.set_yticks([])
        beside.spines["bottom"].set_visible(False)
        beside.set_ylim(max(4, len(fills)) - 0.4, -0.6)
    _save(figure, path)


def _stairs(ceiling: Ceiling, now: datetime, until: datetime, top: float) -> tuple[list[datetime], list[int]]:
    """What the window allows by each instant, if all of it is used."""
    times, counts, at = [now], [ceiling.left], now
    while (at := ceiling.end(at)) < until and counts[-1] < top and len(times) < MOST_STEPS:
        times.append(at)
        counts.append(counts[-1] + ceiling.limit)
    return [*times, until], [*counts, counts[-1]]


def _figure(title: str) -> tuple["Figure", "Axes"]:
    try:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure
    except ModuleNotFoundError as error:
        raise BadJob("A picture needs Matplotlib: pip install 'yellowtor[pictures]'. Nothing was drawn.") from error
    figure = Figure(figsize=SIZE_IN, dpi=DPI, facecolor=PAPER)
    FigureCanvasAgg(figure)
    axes = figure.add_axes((0.08, 0.1, 0.88, 0.76))
    figure.text(0.08, 0.92, title, fontsize=16, color=INK, weight="bold")
    _plain(axes)
    axes.grid(axis="y", color=LINE, linewidth=0.8)
    return figure, axes


def _plain(axes: "Axes") -> None:
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(LINE)
    axes.tick_params(colors=MUTED, length=0, labelsize=11)
    axes.set_axisbelow(True)


def _numbers(times: Sequence[datetime]) -> list[float]:
    """Instants as the axis has them."""
    from matplotlib.dates import date2num

    return [float(number) for number in date2num(list(times))]  # type: ignore[no-untyped-call]


def _dates(axes: "Axes") -> None:
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
    from matplotlib.ticker import FuncFormatter

    locator = AutoDateLocator(tz=UTC, minticks=4, maxticks=9)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator, tz=UTC))  # type: ignore[no-untyped-call]
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))


def _save(figure: "Figure", path: Path) -> None:
    with written_aside(path) as aside:
        figure.savefig(aside, format="png")
