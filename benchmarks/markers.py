"""Marker files against the plainest loop that writes the same: a ratio for each format, in turn in one process.

python benchmarks/markers.py [MARKERS]      default 1000000
"""

import csv
import resource
import sys
import time
from pathlib import Path
from xml.sax.saxutils import escape

import orjson
from common import DATA, folder

from yellowtor.contracts.marker import OUTCOME_LOOKS, Marker, MarkerHead
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position
from yellowtor.markers.formats import delimited, geojson, kml
from yellowtor.markers.record_pictures import PictureFolder, picture_folder
from yellowtor.markers.target import MarkerTarget

ROUNDS = 3
LOOK = OUTCOME_LOOKS[Outcome.PLACED]
REASONS = ("street agrees", "house number agrees", "town agrees", "postcode agrees", "the point stands for a building")
NAMES = ("key", "name", "outcome", "asked", "matched", "level", "confidence", "basis", "reasons")


def records(count: int):
    for n in range(count):
        asked = f"{n % 200} Kelp Lane {n % 977}, {n % 99_999:05} Holm"
        yield f"K-{n}", f"Box {n}", 47 + n % 1000 / 1e3, -28 - n % 977 / 1e3, asked, f"{asked}, Vest", f"note {n % 50}"


def ours(module, path: Path, count: int) -> None:
    with module.open_file(MarkerTarget(path, MarkerHead("Markers", ["Note"]))) as file:
        for key, name, lat, lon, asked, matched, note in records(count):
            file.add(Marker(key, name, Outcome.PLACED, Position(lat, lon), LOOK, asked, matched, "building", 0.987,
                "estimate", REASONS, columns={"Note": note}))  # fmt: skip


def plain_geojson(path: Path, count: int) -> None:
    with path.open("wb") as file:
        file.write(b'{"type":"FeatureCollection","features":[')
        before = b"\n"
        for key, name, lat, lon, asked, matched, note in records(count):
            said = dict(
                zip(NAMES, (key, name, "placed", asked, matched, "building", 0.987, "estimate", REASONS), strict=True)
            )
            said["Note"] = note
            geometry = {"type": "Point", "coordinates": (lon, lat)}
            file.write(before + orjson.dumps({"type": "Feature", "id": key, "geometry": geometry, "properties": said}))
            before = b",\n"
        file.write(b"]}")


def plain_kml(path: Path, count: int) -> None:
    with path.open("w", encoding="utf-8") as file:
        file.write('<?xml version="1.0"?><kml xmlns="http://www.opengis.net/kml/2.2"><Document>')
        for key, name, lat, lon, asked, matched, note in records(count):
            values = (key, "placed", asked, matched, "building", 0.987, "estimate", "; ".join(REASONS), note)
            names = ("key", "outcome", "asked", "matched", "level", "confidence", "basis", "reasons", "Note")
            data = "".join(
                f'<Data name="{escape(n)}"><value>{escape(str(v))}</value></Data>'
                for n, v in zip(names, values, strict=True)
            )
            file.write(f"<Placemark><name>{escape(name)}</name><ExtendedData>{data}</ExtendedData><Point><coordinates>"
                f"{lon},{lat}</coordinates></Point></Placemark>\n")  # fmt: skip
        file.write("</Document></kml>")


def plain_csv(path: Path, count: int) -> None:
    with path.open("w", encoding="utf-8", newline="") as file:
        rows = csv.writer(file)
        for key, name, lat, lon, asked, matched, note in records(count):
            rows.writerow(
                (key, name, lat, lon, "placed", 0.987, "building", asked, matched, "; ".join(REASONS), "", note)
            )


def pictures(here: Path, count: int = 1_000) -> float:
    """Seconds for this number of pictures of records."""
    layers = [DATA / "coast.geojson", DATA / "roads.geojson"]
    wanted = PictureFolder(here / "pictures", 300, 480, layers, "")
    began = time.perf_counter()
    with picture_folder(wanted, lambda _, __: None, lambda _: None) as made:
        for n in range(count):
            place = Position(47.72 + n % 31 / 1e3, -28.93 + n % 37 / 1e3)
            made.add(Marker(f"K-{n}", f"Box {n}", Outcome.PLACED, place, LOOK))
    return time.perf_counter() - began


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    pairs = {"GeoJSON": (geojson, plain_geojson), "KML": (kml, plain_kml), "CSV": (delimited, plain_csv)}
    with folder() as here:
        for name, (module, plain) in pairs.items():
            file = Path(here) / {"GeoJSON": "m.geojson", "KML": "m.kml", "CSV": "m.csv"}[name]
            best = [float("inf"), float("inf")]
            for _ in range(ROUNDS):
                for at, write in enumerate(
                    (lambda m=module, f=file: ours(m, f, count), lambda p=plain, f=file: p(f, count))
                ):
                    began = time.perf_counter()
                    write()
                    best[at] = min(best[at], time.perf_counter() - began)
            ratio = best[0] / best[1]
            print(f"{name}: {count:,} markers in {best[0]:.1f} s, {ratio:.2f} of the plainest loop (wanted: 1.5)")
    with folder() as here:
        print(f"1,000 pictures of records in {pictures(Path(here)):.0f} s (wanted: 60)")
    print(f"peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB")


if __name__ == "__main__":
    main()
