"""The formats of files by their endings. A new format is a module with `open_table` and an entry below."""

from dataclasses import dataclass
from importlib import import_module
from pathlib import Path

from yellowtor.tables.file_table import FileOptions, FileTable
from yellowtor.tables.workbook.read_ahead import WORKBOOKS


@dataclass(frozen=True)
class FileFormat:
    """Endings of file names, and the module that reads such files; compressed: also with .gz after the ending.

    The module has a function `open_table(path, options)`. It is imported when a file is opened.
    """

    endings: tuple[str, ...]
    module: str
    compressed: bool = False


FORMATS = (
    FileFormat(WORKBOOKS, "yellowtor.tables.workbook.workbook"),
    FileFormat((".parquet", ".pq"), "yellowtor.tables.parquet"),
    FileFormat((".geojson", ".json"), "yellowtor.tables.json_files.json_records"),
    FileFormat((".csv", ".tsv", ".tab", ".txt"), "yellowtor.tables.text.delimited", compressed=True),
    FileFormat((".jsonl", ".ndjson"), "yellowtor.tables.json_files.json_lines", compressed=True),
)
ENDINGS = [ending for known in FORMATS for ending in known.endings]


def open_file(path: Path, options: FileOptions) -> FileTable | None:
    """The table in a file; None if its ending is of no known format. Raises BadSource."""
    compressed = path.suffix.lower() == ".gz"
    ending = path.with_suffix("").suffix.lower() if compressed else path.suffix.lower()
    for known in FORMATS:
        if ending in known.endings and (known.compressed or not compressed):
            table: FileTable = import_module(known.module).open_table(path, options)
            return table
    return None
