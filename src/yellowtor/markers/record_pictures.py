"""A small map for each marker, in a folder: its surroundings, neighbours, circle. Only what changed is drawn."""

import os
import re
import signal
from collections import defaultdict
from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import TYPE_CHECKING

from yellowtor.addresses.keys import digest
from yellowtor.contracts.marker import Look, Marker
from yellowtor.errors import BadSource
from yellowtor.files import fingerprint, written_aside
from yellowtor.markers.figure import unworried
from yellowtor.markers.layers import read_layer
from yellowtor.markers.map_drawing import (
    DrawnMarkers,
    MapBox,
    draw_layer,
    draw_markers,
    draw_scale,
    ground_m,
    mercator,
    prepare,
    shapes_of,
)
from yellowtor.markers.style import COAST, INK, PAPER

if TYPE_CHECKING:
    from collections.abc import Callable

    from matplotlib.artist import Artist

LINUX = hasattr(os, "sched_getaffinity")
DPI = 100
VERSION = "1"  # of the drawing: another one draws all of them anew
MOST_NEIGHBOURS = 200
AT_ONCE = 20  # pictures that a process gets at a time
STATE = b"tEXtComment\0yellowtor:"
RESERVED = {"con", "prn", "aux", "nul", *(f"{name}{n}" for name in ("com", "lpt") for n in range(1, 10))}
Place = tuple[float, float, Look]  # metres of the map, and how it looks


@dataclass(frozen=True)
class PictureFolder:
    """Where the pictures go and what they show: radius_m around the marker, size_px wide and high.

    parallel: on all processors. A program that starts others of its kind must be one that can be imported.
    """

    folder: Path
    radius_m: float
    size_px: int
    under: Sequence[Path]
    credit: str
    parallel: bool = True


@dataclass(frozen=True)
class RecordPicture:
    """One picture to be drawn."""

    path: Path
    state: str
    marker: Marker
    neighbours: Sequence[Place]


class RecordPictures:
    """Collects markers; those that have a position get a picture at the end. drawn and kept are counted."""

    def __init__(self, wanted: PictureFolder) -> None:
        self._wanted = wanted
        self._markers: list[Marker] = []
        self.drawn = 0
        self.kept = 0
        self.foreign: list[str] = []  # names of files that are not ours, and stay as they are

    def add(self, marker: Marker) -> None:
        """Take a marker."""
        if marker.position is not None:
            self._markers.append(marker)

    def draw(self, begin: "Callable[[str, int], None]", advanced: "Callable[[int], None]") -> None:
        """Draw what is not there already. Raises BadSource if the folder can't be written."""
        folder = self._wanted.folder
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise BadSource(f"{folder} can't be made: {error.strerror or error}.") from error
        layers = [fingerprint(path) for path in self._wanted.under]
        base = (VERSION, str(self._wanted.radius_m), str(self._wanted.size_px), self._wanted.credit, *layers)
        tasks = []
        for task in self._tasks(base):
            state = state_of_picture(task.path)
            if state is None:
                self.foreign.append(task.path.name)
            elif state != task.state:
                tasks.append(task)
        self.kept = len(self._markers) - len(tasks) - len(self.foreign)
        if not tasks:
            return
        begin("Drawing", len(tasks))
        if len(tasks) <= AT_ONCE or not self._wanted.parallel:
            _begin(self._wanted)
            self._count(map(_draw, tasks), advanced)
            return
        workers = min(len(tasks) // AT_ONCE + 1, len(os.sched_getaffinity(0)) if LINUX else os.cpu_count() or 1)
        pool = ProcessPoolExecutor(workers, get_context("spawn"), _begin_process, (self._wanted,))
        try:
            self._count(pool.map(_draw, tasks, chunksize=AT_ONCE), advanced)
        finally:  # also when it is interrupted: what is begun is drawn, the rest by the next run
            pool.shutdown(wait=True, cancel_futures=True)

    def _count(self, done: Iterator[None], advanced: "Callable[[int], None]") -> None:
        for _ in done:
            self.drawn += 1
            advanced(1)

    def _tasks(self, base: Sequence[str]) -> Iterator[RecordPicture]:
        names = FileNames()
        places = [(*mercator(*marker.position), marker.look) for marker in self._markers if marker.position]
        cell = max(1.0, self._wanted.radius_m * 2)
        cells: dict[tuple[int, int], list[int]] = defaultdict(list)
        for n, (x, y, _) in enumerate(places):
            cells[int(x // cell), int(y // cell)].append(n)
        for n, marker in enumerate(self._markers):
            assert marker.position is not None, "only those are collected"
            x, y, _ = places[n]
            reach = self._wanted.radius_m / ground_m(marker.position.lat)
            wide = int(reach // cell) + 1
            column, row = int(x // cell), int(y // cell)
            around = (
                places[other]
                for i in range(column - wide, column + wide + 1)
                for j in range(row - wide, row + wide + 1)
                for other in cells.get((i, j), ())
                if other != n and abs(places[other][0] - x) <= reach and abs(places[other][1] - y) <= reach
            )
            near = sorted(around, key=lambda one: (abs(one[0] - x) + abs(one[1] - y), one[:2]))[:MOST_NEIGHBOURS]
            said = (marker.name, repr(marker.position), repr(marker.look), repr(marker.circle_m), repr(marker.before))
            yield RecordPicture(
                self._wanted.folder / names.name(marker.key), digest(*base, *said, repr(near)), marker, near
            )


class FileNames:
    """Names of files for keys: each key its own, on every system."""

    def __init__(self) -> None:
        self._taken: set[str] = set()

    def name(self, key: str) -> str:
        """The name for this key; signs that a name can't have are left out, and a digest tells such keys apart."""
        plain = re.sub(r"[^\w.-]+", "_", key).strip(". ")[:80]
        if plain != key or not plain or plain.lower() in RESERVED or plain.lower() in self._taken:
            plain = f"{plain or 'record'}-{digest(key)[:8]}"
        self._taken.add(plain.lower())
        return f"{plain}.png"


def state_of_picture(path: Path) -> str | None:
    """What the picture was drawn of, as it says itself; empty if there is no file, None for a file that is not ours."""
    try:
        with path.open("rb") as file:
            head = file.read(2_000)
    except FileNotFoundError:
        return ""
    except OSError:
        return None
    at = head.find(STATE)
    return head[at + len(STATE) :][:32].decode("latin-1") if at >= 0 else None


class PictureCanvas:
    """A figure with the layers, on which one picture after the other is drawn: making it anew takes longer."""

    def __init__(self, wanted: PictureFolder) -> None:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        self._wanted = wanted
        self._figure = Figure(figsize=(wanted.size_px / DPI, wanted.size_px / DPI), dpi=DPI, facecolor=PAPER)
        FigureCanvasAgg(self._figure)
        self._axes = self._figure.add_axes((0.02, 0.06, 0.96, 0.84))
        prepare(self._axes, MapBox(0, 0, 1, 1))
        for layer in wanted.under:
            draw_layer(self._axes, shapes_of(read_layer(layer)))
        self._figure.text(0.02, 0.02, wanted.credit[:90], fontsize=6, color=COAST, va="bottom", parse_math=False)
        self._lasting = set(self._artists())

    def _artists(self) -> "list[Artist]":
        axes = self._axes
        return [*axes.collections, *axes.lines, *axes.texts, *self._figure.texts]

    def draw(self, task: RecordPicture) -> None:
        """Draw a picture into its file."""
        marker = task.marker
        assert marker.position is not None, "only those are drawn"
        x, y = mercator(*marker.position)
        high = self._wanted.radius_m / ground_m(marker.position.lat)
        wide = high * 0.96 / 0.84
        box = MapBox(x - wide, y - high, x + wide, y + high)
        axes = self._axes
        axes.set_xlim(box.left, box.right)
        axes.set_ylim(box.bottom, box.top)
        others = DrawnMarkers(*map(list, zip(*task.neighbours, strict=True))) if task.neighbours else DrawnMarkers()
        draw_markers(axes, others, times=0.6)
        own = DrawnMarkers()
        own.add(marker)
        draw_markers(axes, own, times=1.3)
        axes.plot([x], [y], "o", markersize=marker.look.size_px * 1.5, fillstyle="none", color=INK, markeredgewidth=1.4)
        draw_scale(axes, box)
        self._figure.text(
            0.02, 0.93, marker.name[:60], fontsize=11, color=INK, weight="bold", va="bottom", parse_math=False
        )
        said = {"Software": None, "Comment": f"yellowtor:{task.state}"}
        with unworried(), written_aside(task.path) as aside:
            self._figure.savefig(aside, format="png", metadata=said, pil_kwargs={"compress_level": 3})
        for artist in self._artists():
            if artist not in self._lasting:
                artist.remove()


_canvas: list[PictureCanvas] = []  # of this process


def _begin_process(wanted: PictureFolder) -> None:
    """Prepare a process of the pool. An interruption is for the one that waits for it."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _begin(wanted)


def _begin(wanted: PictureFolder) -> None:
    _canvas[:] = [PictureCanvas(wanted)]


def _draw(task: RecordPicture) -> None:
    _canvas[0].draw(task)


@contextmanager
def picture_folder(
    wanted: PictureFolder, begin: "Callable[[str, int], None]", advanced: "Callable[[int], None]"
) -> Iterator[RecordPictures]:
    """Takes the markers of a job, and draws their pictures at the end."""
    made = RecordPictures(wanted)
    yield made
    made.draw(begin, advanced)
