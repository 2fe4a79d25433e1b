"""The marker files of a job: their layers, pictures and writers."""

import base64
import sys
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from functools import partial
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path

from yellowtor.contracts.map_view import LabelSheet, MapView
from yellowtor.contracts.marker import Marker, MarkerHead
from yellowtor.errors import BadJob, BadSource, YellowtorError
from yellowtor.files import check_regular
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.marker_formats import FORMATS
from yellowtor.run.jobs.marker_settings import Markers, PictureSettings
from yellowtor.run.phases.marking import MarkerParts
from yellowtor.run.ports import MarkerFile, MarkerFiles, Watcher
from yellowtor.wiring.services import AnyService

ICON_TYPES = {
    ".png": "image/png",
    ".svg": "image/svg+xml",
    ".jpg": "image/jpeg",
    ".jpeg": "image/jpeg",
    ".gif": "image/gif",
    ".webp": "image/webp",
}
MOST_ICON_BYTES = 100_000


def check_markers(job: Job, folder: Path) -> MarkerParts:
    """The pictures of a job's markers. Raises BadJob or BadSource if one, or a layer under them, can't be read."""
    settings = job.markers
    if settings.pictures or any(output.format.draws_layers for output in settings.files()):
        from yellowtor.markers.layers import read_layer

        for layer in settings.under:
            read_layer(folder / layer)
        map_view(settings, folder)
    for output in settings.files():
        needed = output.format.needs
        if needed and find_spec(needed[0]) is None:
            raise BadJob(f"{output.path} needs {needed[0]}: pip install 'yellowtor[{needed[1]}]'. Nothing was sent.")
    if settings.pictures and find_spec("matplotlib") is None:
        raise BadJob("markers.pictures needs matplotlib: pip install 'yellowtor[pictures]'. Nothing was sent.")
    if settings.system:
        from yellowtor.markers.target import projection_of

        projection_of(settings.system)
        if not any(output.format.any_system for output in settings.files()):
            names = ", ".join(known.name for known in FORMATS if known.any_system)
            raise BadJob(f"markers.system is for {names}; the job's marker files are always WGS 84. Nothing was sent.")
    icons = {n: read_icon(folder / rule.icon) for n, rule in enumerate(settings.looks) if rule.icon is not None}
    return MarkerParts(icons)


def read_icon(path: Path) -> str:
    """A picture as a data: URL (RFC 2397). Raises BadJob if it can't be read, is too large or of an unknown type."""
    kind = ICON_TYPES.get(path.suffix.lower())
    if kind is None:
        raise BadJob(f"{path}: a picture of markers.looks ends in {', '.join(ICON_TYPES)}. Nothing was sent.")
    try:
        check_regular(path)
        content = path.read_bytes()
    except (OSError, BadSource) as error:
        said = getattr(error, "strerror", None) or error
        raise BadJob(f"{path}, a picture of markers.looks, can't be read: {said}. Nothing was sent.") from error
    if len(content) > MOST_ICON_BYTES:
        raise BadJob(f"{path}, a picture of markers.looks, has more than {MOST_ICON_BYTES:,} bytes. Nothing was sent.")
    return f"data:{kind};base64,{base64.b64encode(content).decode()}"


def map_view(settings: Markers, folder: Path) -> MapView:
    """How the page shows its map. Raises BadJob if its texts can't be read."""
    from yellowtor.markers.texts import own_texts, texts_in

    chosen = settings.map
    texts = own_texts(folder / chosen.texts) if chosen.texts else texts_in(chosen.language)
    shared = {name: getattr(chosen, name) for name in MapView.__dataclass_fields__ if name not in {"texts", "search"}}
    return MapView(**shared, texts=texts, search=tuple(chosen.search))


def marker_files(settings: Markers, folder: Path, attribution: str, like: Path | None) -> MarkerFiles:
    """What opens the marker files of a job. They get the permissions of the file `like`."""
    return partial(_open_files, settings, folder, attribution, like)


@contextmanager
def _open_files(
    settings: Markers, folder: Path, attribution: str, like: Path | None, head: MarkerHead, watch: Watcher
) -> Iterator[Sequence[MarkerFile]]:
    """The files, open. What goes wrong with one of them is raised when all the others are whole."""
    from yellowtor.markers.target import MarkerTarget

    under = [folder / layer for layer in settings.under]
    made = []
    for output in settings.files():
        target = MarkerTarget(
            folder / output.path,
            head,
            attribution,
            under,
            like,
            settings.without_position,
            settings.decimals if output.format.any_system or not settings.system else None,
            settings.system if output.format.any_system else "",
            map_view(settings, folder),
            sheet_of(settings),
        )
        made.append(GuardedFile(target.path, import_module(output.format.module).open_file(target)))
    if settings.pictures:
        pictures = _pictures(settings, settings.pictures, folder, attribution, watch)
        made.append(GuardedFile(folder / settings.pictures.folder, pictures))
    try:
        yield made
    except BaseException as error:
        for file in made:
            file.end(error)
        raise
    for file in made:
        file.end(None)
    if failed := [file.failed for file in made if file.failed]:
        raise failed[0]


@contextmanager
def _pictures(
    settings: Markers, wanted: PictureSettings, folder: Path, attribution: str, watch: Watcher
) -> Iterator[MarkerFile]:
    from yellowtor.markers.record_pictures import PictureFolder, picture_folder

    under = [folder / layer for layer in settings.under]
    is_program = Path(sys.argv[0]).stem == "yellowtor"  # else somebody's script or notebook
    what = PictureFolder(folder / wanted.folder, wanted.radius_m, wanted.size, under, attribution, is_program)
    with picture_folder(what, watch.phase, watch.advanced) as made:
        yield made
    if made.drawn:
        watch.remark(f"{wanted.folder}: {made.drawn:,} pictures drawn, {made.kept:,} as they were")
    if made.foreign:
        names = ", ".join(made.foreign[:5]) + (" …" if len(made.foreign) > 5 else "")
        watch.remark(f"{wanted.folder}: files that are not pictures of ours stay as they are: {names}")


def sheet_of(settings: Markers) -> LabelSheet:
    """The sheets of labels."""
    chosen = settings.labels
    return LabelSheet(chosen.paper, chosen.across, chosen.down, chosen.margin_mm)


class GuardedFile:
    """A marker file of which a failure touches neither the table nor the other files: it is left as it was."""

    def __init__(self, path: Path, context: AbstractContextManager[MarkerFile]) -> None:
        self._path = path
        self._context = context
        self._file: MarkerFile | None = None
        self.failed: YellowtorError | None = None
        with self._guarded():
            self._file = context.__enter__()

    def add(self, marker: Marker) -> None:
        """Take a marker, unless the file has failed."""
        if self._file is None:
            return
        with self._guarded():
            try:
                self._file.add(marker)
            except Exception as error:
                self.end(error)
                raise

    def end(self, error: BaseException | None) -> None:
        """Complete the file; after an error, leave the old one."""
        if self._file is None:
            return
        self._file = None
        if error is None:
            with self._guarded():
                self._context.__exit__(None, None, None)
            return
        try:
            self._context.__exit__(type(error), error, error.__traceback__)
        except BaseException as own:
            if own is not error:
                raise

    @contextmanager
    def _guarded(self) -> Iterator[None]:
        """Note what goes wrong in the body."""
        try:
            yield
        except YellowtorError as error:
            self.failed = self.failed or error
        except OSError as error:
            self.failed = self.failed or BadSource(f"{self._path} can't be written: {error.strerror or error}.")
        except Exception as error:  # noqa: BLE001 - one file must not keep the table from being written
            fault = BadSource(
                f"{self._path} is left as it was: an unexpected fault ({type(error).__name__}); --debug shows where."
            )
            fault.__cause__ = error
            self.failed = self.failed or fault


def credit_of(services: Sequence[AnyService]) -> str:
    """The credits that services require, each once."""
    return "; ".join(dict.fromkeys(service.attribution for service in services if service.attribution))
