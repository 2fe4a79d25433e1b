"""Starts to read a job's workbook while the program is still loading.

The reader runs without the interpreter lock, and both take equally long. Errors are reported later.
"""

import tomllib
from pathlib import Path

WORKBOOKS = (".xlsx", ".xlsm", ".ods", ".xls", ".xlsb")
LONGEST_LINE = 1 << 14
LARGEST = 8 << 20  # bytes: the program ends only when this does, also after a mistake in the job


def read_ahead(job: Path) -> None:
    """Begin to read the workbook that this job's records are in, if they are in one."""
    try:
        text = job.read_text(encoding="utf-8-sig")
        if max(map(len, text.splitlines()), default=0) > LONGEST_LINE:
            return  # reading it might take long, and others tell why
        records = tomllib.loads(text)["records"]
        path = job.absolute().parent / records["file"]
        sheet = records.get("sheet")
        table = records.get("table")
        if path.suffix.lower() in WORKBOOKS and path.is_file() and path.stat().st_size <= LARGEST:
            from yellowtor.tables.workbook.workbook_file import OpenWorkbook, keep_ahead

            keep_ahead(OpenWorkbook(path, None if table else sheet or ""))
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return
