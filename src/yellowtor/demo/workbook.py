"""The register as the lived-in workbook that people keep: everything that a careless tool would lose.

Written with XlsxWriter (a development dependency), then given a drop-down of the newer kind (x14), which
that library does not write.
"""

import re
import zipfile
import zlib
from collections.abc import Sequence
from datetime import UTC, datetime
from io import BytesIO
from pathlib import Path
from typing import Any

from yellowtor.demo.register import Cabinet

SHEET = "Cabinets"
HEADER = [
    "Id",
    "Cabinet",
    "Number and street",
    "Town",
    "Postcode",
    "Access notes",
    "Last checked",
    "Days since",
    "Latitude",
    "Longitude",
]
TODAY = datetime(2026, 11, 2, tzinfo=UTC)
_WIDTHS = [8, 30, 28, 18, 10, 26, 13, 11, 11, 11]
_LIST = (
    '<ext uri="{CCE6A557-97BC-4b89-ADB6-D9C93CAAB3DF}" '
    'xmlns:x14="http://schemas.microsoft.com/office/spreadsheetml/2009/9/main">'
    '<x14:dataValidations count="1" xmlns:xm="http://schemas.microsoft.com/office/excel/2006/main">'
    '<x14:dataValidation type="list" allowBlank="1" showErrorMessage="0"><x14:formula1><xm:f>Lists!$A$2:$A$6</xm:f>'
    "</x14:formula1><xm:sqref>F2:F400</xm:sqref></x14:dataValidation></x14:dataValidations></ext>"
)


def write_workbook(cabinets: Sequence[Cabinet], path: Path, title: str) -> None:
    """Write the register as .xlsx."""
    import xlsxwriter  # only needed to make the demo's data

    buffer = BytesIO()
    book = xlsxwriter.Workbook(buffer, {"in_memory": True})
    book.set_properties({"title": title, "created": TODAY.replace(tzinfo=None)})
    sheet = book.add_worksheet(SHEET)
    summary = book.add_worksheet("Summary")
    lists = book.add_worksheet("Lists")
    _rows(book, sheet, cabinets)
    _summary(book, summary, cabinets)
    lists.write_column(
        0, 0, ["Access", "Left of the door", "Open day and night", "Under the stairs", "Heated cabinet", "-"]
    )
    book.close()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(_with_list(buffer.getvalue()))


def _rows(book: Any, sheet: Any, cabinets: Sequence[Cabinet]) -> None:
    bold = book.add_format({"bold": True, "bg_color": "#DDE7EC", "bottom": 1})
    day = book.add_format({"num_format": "yyyy-mm-dd"})
    count = book.add_format({"num_format": "0"})
    for column, (name, width) in enumerate(zip(HEADER, _WIDTHS, strict=True)):
        sheet.write_string(0, column, name, bold)
        sheet.set_column(column, column, width)
    for row, cabinet in enumerate(cabinets, 1):
        texts = (cabinet.key, cabinet.name, cabinet.street, cabinet.town, cabinet.postcode, cabinet.notes)
        for column, text in enumerate(texts):
            if text:
                sheet.write_string(row, column, text)
        checked = datetime.combine(cabinet.checked, datetime.min.time())
        sheet.write_datetime(row, 6, checked, day)
        sheet.write_formula(row, 7, f"=DATE(2026,11,2)-G{row + 1}", count, (TODAY.date() - cabinet.checked).days)
        for column, value in ((8, cabinet.latitude), (9, cabinet.longitude)):
            if value is not None:
                sheet.write_number(row, column, value)
    last = len(cabinets)
    sheet.conditional_format(1, 7, last, 7, {"type": "data_bar", "data_bar_2010": True, "bar_color": "#8FB7C9"})
    sheet.write_comment("C2", "As painted on the wall, not as on the map.")
    sheet.freeze_panes(1, 2)
    sheet.autofilter(0, 0, last, len(HEADER) - 1)


def _summary(book: Any, sheet: Any, cabinets: Sequence[Cabinet]) -> None:
    towns = sorted({cabinet.town for cabinet in cabinets if cabinet.town})[:12]
    rows = [[town, sum(cabinet.town == town for cabinet in cabinets)] for town in towns]
    sheet.add_table(
        0, 0, len(rows), 1, {"data": rows, "name": "ByTown", "columns": [{"header": "Town"}, {"header": "Cabinets"}]}
    )
    sheet.write_formula("D1", "=COUNTA(Cabinets!A2:A400)", None, len(cabinets))
    chart = book.add_chart({"type": "bar"})
    chart.add_series({"categories": ["Summary", 1, 0, len(rows), 0], "values": ["Summary", 1, 1, len(rows), 1]})
    sheet.insert_chart("D3", chart)
    sheet.insert_image("K2", "heart.png", {"image_data": BytesIO(_picture())})


def _picture() -> bytes:
    """A small green PNG with a white cross, drawn here so that no image need be shipped."""
    side = 48
    arm = range(19, 29)
    rows = b"".join(
        b"\0" + b"".join(b"\xff\xff\xff" if x in arm or y in arm else b"\x00\x7a\x5a" for x in range(side))
        for y in range(side)
    )

    def chunk(kind: bytes, data: bytes) -> bytes:
        return len(data).to_bytes(4, "big") + kind + data + zlib.crc32(kind + data).to_bytes(4, "big")

    head = side.to_bytes(4, "big") * 2 + bytes([8, 2, 0, 0, 0])
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(rows, 9)) + chunk(b"IEND", b"")


def _with_list(package: bytes) -> bytes:
    """The package with the x14 drop-down in the first sheet's extension list; fixed dates throughout."""
    out = BytesIO()
    with zipfile.ZipFile(BytesIO(package)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            data = old.read(name)
            if name == "xl/worksheets/sheet1.xml":
                data = re.sub(rb"</extLst>", _LIST.encode() + b"</extLst>", data, count=1)
            entry = zipfile.ZipInfo(name, (2026, 11, 2, 9, 0, 0))
            entry.compress_type = zipfile.ZIP_DEFLATED
            new.writestr(entry, data)
    return out.getvalue()
