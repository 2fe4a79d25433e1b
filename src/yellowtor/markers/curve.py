"""Curves over time, as pictures: requests against the windows that limit them, and what was used of them.

Drawn by Matplotlib without a screen (`pip install 'yellowtor[pictures]'`).
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yellowtor.markers.figure import COLOURS, SIZE_IN, axes_in, canvas, plain, save
from yellowtor.markers.style import ACCENT, INK, LINE, MUTED

if TYPE_CHECKING:
    from matplotlib.axes import Axes

LEAST_BAND_IN = 3.6
FILL_IN = 0.8  # of an account's band, where there are several; of each window in it
MOST_STEPS = 400


@dataclass(frozen=True)
class CurveLine:
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


def draw_curve(path: Path, title: str, now: datetime, lines: Sequence[CurveLine], ceilings: Sequence[Ceiling]) -> None:
    """Requests over time, in front of what each window would allow. Raises BadJob without Matplotlib."""
    figure = canvas()
    figure.text(0.08, 0.92, title, fontsize=16, color=INK, weight="bold")
    axes = axes_in(figure, (0.08, 0.1, 0.88, 0.76))
    drawn = [line for line in lines if line.goes]
    until = max((line.goes[-1][1] for line in drawn), default=now) + timedelta(seconds=1)
    until += (until - now) * 0.04
    top = max((line.goes[-1][2] for line in drawn), default=1) * 1.12
    for ceiling in ceilings:
        times, counts = _stairs(ceiling, now, until, top)
        areas: dict[str, Any] = {"step": "post", "color": LINE, "alpha": 0.5, "linewidth": 0}
        axes.fill_between(_numbers(times), counts, label=f"allowed: {ceiling.label}", **areas)
    for at, line in enumerate(drawn):
        times = [now]
        counts = [0]
        for began, ended, count in line.goes:
            times += [began, ended]
            counts += [counts[-1], count]
        colour = COLOURS[at % len(COLOURS)]
        style: dict[str, Any] = {"linewidth": 1.4, "linestyle": (0, (1, 1))} if line.faint else {"linewidth": 2.4}
        axes.plot(_numbers(times), counts, color=colour, label=line.label, **style)
        axes.plot(_numbers(times[-1:]), counts[-1:], "o", color=colour, markersize=6)
        axes.annotate(
            f"{times[-1].astimezone(UTC):%d %b %H:%M}",
            (_numbers(times)[-1], counts[-1]),
            (0, 8),
            textcoords="offset points",
            ha="center",
            fontsize=10,
            color=colour,
        )
    axes.set_ylim(0, top)
    axes.set_xlim(*_numbers([now - (until - now) * 0.04, until + (until - now) * 0.03]))
    _dates(axes)
    axes.set_ylabel("requests that have left", color=MUTED)
    axes.legend(loc="lower right", frameon=False, fontsize=11, labelcolor=INK)
    save(figure, path)


@dataclass(frozen=True)
class Usage:
    """Requests by day, and how full each window is: (name, used, limit, in words)."""

    title: str
    days: Mapping[str, int]
    fills: Sequence[tuple[str, int, int, str]]


def draw_usage(path: Path, usages: Sequence[Usage]) -> None:
    """A band for each account, one below the other. Raises BadJob without Matplotlib."""
    most = max(len(usage.fills) for usage in usages)
    band = max(SIZE_IN[1] / len(usages), LEAST_BAND_IN, (most + 0.4) * FILL_IN + 1.75)
    height = band * len(usages)
    figure = canvas(height)
    for at, usage in enumerate(usages):
        top = 1 - at * band / height
        figure.text(0.08, top - 0.6 / height, usage.title, fontsize=16, color=INK, weight="bold", va="center")
        low = top - (band - 0.75) / height
        high = top - 1.0 / height
        width = 0.58 if most else 0.88
        _draw_days(axes_in(figure, (0.08, low, width, high - low)), usage.days)
        if usage.fills:
            deep = (len(usage.fills) + 0.4) * FILL_IN / height
            _draw_fills(figure.add_axes((0.72, high - deep, 0.24, deep)), usage.fills)
    save(figure, path)


def _draw_days(axes: "Axes", counts: Mapping[str, int]) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    days = [f"{date.fromisoformat(day):%d\n%b}" for day in counts]
    axes.bar(days, list(counts.values()), color=COLOURS[0], width=0.7)
    for day, count in zip(days, counts.values(), strict=True):
        if count:
            axes.annotate(f"{count:,}", (day, count), (0, 3), textcoords="offset points", ha="center", color=MUTED)
    axes.set_ylabel("requests by day (UTC)", color=MUTED)
    axes.yaxis.set_major_locator(MaxNLocator(nbins=6, integer=True))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))


def _draw_fills(axes: "Axes", fills: Sequence[tuple[str, int, int, str]]) -> None:
    plain(axes)
    shares = [min(1.0, used / limit) for _, used, limit, _ in fills]
    places = range(len(fills))
    axes.barh(places, [1] * len(fills), color=LINE, height=0.22)
    axes.barh(places, shares, color=[ACCENT if share >= 1 else COLOURS[0] for share in shares], height=0.22)
    for at, (name, _, _, words) in enumerate(fills):
        axes.annotate(name, (0, at - 0.48), fontsize=11, color=INK)
        axes.annotate(words, (0, at - 0.19), fontsize=10, color=MUTED)
    axes.set_xticks([])
    axes.set_yticks([])
    axes.spines["bottom"].set_visible(False)
    axes.set_ylim(len(fills) - 0.3, -0.7)


def _stairs(ceiling: Ceiling, now: datetime, until: datetime, top: float) -> tuple[list[datetime], list[int]]:
    """What the window allows by each instant, if all of it is used."""
    times = [now]
    counts = [ceiling.left]
    at = now
    while (at := ceiling.end(at)) < until and counts[-1] < top and len(times) < MOST_STEPS:
        times.append(at)
        counts.append(counts[-1] + ceiling.limit)
    return [*times, until], [*counts, counts[-1]]


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
