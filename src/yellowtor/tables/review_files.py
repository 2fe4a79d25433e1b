"""Files in which people decide about doubtful addresses: a workbook with a drop-down list, or CSV.

Both have the same columns, and `review --apply` reads both. The workbook is written a row at a time.
"""

import csv
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yellowtor.answers.judging.offers import Offer
from yellowtor.answers.review import ReviewGroup, ReviewItem
from yellowtor.contracts.position import length
from yellowtor.contracts.review_file import AT, CHOICES, ID, LETTERS, NEW, ReviewHead
from yellowtor.errors import BadJob
from yellowtor.files import written_aside
from yellowtor.spreadsheet_text import shielded

if TYPE_CHECKING:
    from xlsxwriter.format import Format
    from xlsxwriter.workbook import Workbook
    from xlsxwriter.worksheet import Worksheet

MOST_ROWS = 1_048_575  # of a sheet, below its header
MOST_TEXT = 2_000  # characters of a cell
FOR_READING = ("group", "cause", "records", "key", "address", "reasons")
WIDTHS = {"group": 6, "cause": 22, "records": 8, "key": 12, "address": 34, "reasons": 34, "decision": 11,
          "coordinates": 22, "why": 26}  # fmt: skip
CANDIDATE_WIDTH = 32
PART_WIDTH = 20
HOW_TO = (
    "Choose a decision in the yellow columns. One decision is for one address, however many records have it.",
    "a, b, c, d, e: this candidate is right.",
    "all a, all b, all c, all nothing: the same for each address of the group that has no decision of its own.",
    "place: the coordinates that you type are right, in any usual notation: 47.5021, -28.2504 or a geo: URI.",
    "address: ask again, with the new parts that you type; an empty one stays as it is, - removes it.",
    "nothing: no answer fits; the address is unplaced until it changes.",
    "skip, or no decision: it stays as it is.",
    "Words of a candidate in red contradict the address. Below it: the parts that differ, level, confidence, distance.",
    "Save the file, then: yellowtor review JOB --apply FILE, and run the job. Nothing that is known is asked again.",
)


def columns_of(head: ReviewHead) -> list[str]:
    """The columns of a file, in order; those behind `why` are hidden in a workbook."""
    new = [f"{NEW}{part}" for part in head.parts]
    return [*FOR_READING, *LETTERS, "decision", "coordinates", *new, "why", *(f"{one}{AT}" for one in LETTERS), ID]


def offer_text(offer: Offer) -> str:
    """A candidate in words: its text, what differs, how sure it is."""
    return f"{offer.matched}\n{details(offer)}"


def details(offer: Offer) -> str:
    """What differs, level, confidence and distance of a candidate."""
    facts = [*map(str, offer.differences), " · ".join(filter(None, _facts(offer)))]
    return "\n".join(facts)


def _facts(offer: Offer) -> Iterator[str]:
    yield offer.level
    yield f"{offer.confidence:.2f}"
    if offer.letter != LETTERS[0]:
        yield f"{length(offer.away_m)} from {LETTERS[0]}"


def _texts(item: ReviewItem, group: ReviewGroup) -> dict[str, str]:
    """The cells of a row that are texts, without the candidates."""
    row = item.row
    at = {f"{offer.letter}{AT}": f"geo:{offer.position.lat},{offer.position.lon}" for offer in item.offers}
    own = {
        "group": str(group.number + 1),
        "cause": group.title,
        "records": str(row.records),
        "key": row.key.replace("\x1f", " / "),
        "address": row.subject.line(),
        "reasons": "; ".join(row.reasons),
        ID: row.id,
    }
    return {name: _plain(text) for name, text in {**own, **at}.items()}


def _plain(text: str) -> str:
    """A text that a file can hold: no halves of characters, not too long."""
    whole = text.encode("utf-8", "replace").decode()
    return whole if len(whole) <= MOST_TEXT else f"{whole[:MOST_TEXT]} …"


class ReviewText:
    """A CSV file (RFC 4180) with the decisions to make."""

    def __init__(self, file: Any, head: ReviewHead) -> None:
        self._columns = columns_of(head)
        self._writer = csv.DictWriter(file, self._columns, restval="", lineterminator="\r\n")
        self._writer.writeheader()

    def add(self, item: ReviewItem, group: ReviewGroup) -> None:
        """Write an address."""
        offers = {offer.letter: _plain(offer_text(offer)).replace("\n", "; ") for offer in item.offers}
        cells = {**_texts(item, group), **offers}
        self._writer.writerow({name: shielded(text) for name, text in cells.items()})


class ReviewWorkbook:
    """A workbook with the decisions to make: everything is protected but the decisions."""

    def __init__(self, book: "Workbook", head: ReviewHead) -> None:
        self._columns = columns_of(head)
        self._sheet: Worksheet = book.add_worksheet("Review")
        self._how_to: Worksheet = book.add_worksheet("How to")
        self._head = head
        self._row = 0
        self._groups: list[ReviewGroup] = []
        base = {"valign": "top", "text_wrap": True}
        self._text: Format = book.add_format(base)
        self._new = book.add_format({**base, "locked": False, "bg_color": "#fff7d6", "num_format": "@", "border": 1,
                                     "border_color": "#e4dcb5"})  # fmt: skip
        self._other = book.add_format({"font_color": "#b3261e", "bold": True})
        self._details = book.add_format({"font_color": "#5b6b77", "font_size": 9})
        self._done = book.add_format({"bg_color": "#d9f0dd"})
        self._title = book.add_format({"bold": True, "bg_color": "#2f4858", "font_color": "#ffffff", "valign": "top"})
        self._decided = [at for at, name in enumerate(self._columns) if _is_open(name)]
        self._begin()

    def _begin(self) -> None:
        sheet = self._sheet
        for at, name in enumerate(self._columns):
            is_hidden = name == ID or name.endswith(AT)
            width = WIDTHS.get(name, CANDIDATE_WIDTH if name in LETTERS else PART_WIDTH)
            sheet.set_column(at, at, width, None, {"hidden": is_hidden})
            sheet.write_string(0, at, name, self._title)
        sheet.freeze_panes(1, FOR_READING.index("address") + 1)

    def add(self, item: ReviewItem, group: ReviewGroup) -> None:
        """Write an address. Raises BadJob if the sheet is full."""
        self._row += 1
        if self._row > MOST_ROWS:
            raise BadJob(f"A sheet has room for {MOST_ROWS:,} rows: write the review into a .csv. Nothing was written.")
        if not self._groups or self._groups[-1] is not group:
            self._groups.append(group)
        texts = _texts(item, group)
        offers = {offer.letter: offer for offer in item.offers}
        for at, name in enumerate(self._columns):
            if name in {"group", "records"}:
                self._sheet.write_number(self._row, at, int(texts[name]), self._text)
            elif name in offers:
                self._offer(at, offers[name])
            elif _is_open(name):
                self._sheet.write_blank(self._row, at, None, self._new)
            elif texts.get(name):
                self._sheet.write_string(self._row, at, texts[name], self._text)

    def _offer(self, at: int, offer: Offer) -> None:
        """A candidate: words that the address has not are marked."""
        parts: list[Any] = []
        for known, words in groupby(offer.words, key=lambda word: word[1]):
            text = " ".join(word for word, _ in words) + " "
            parts += [_plain(text)] if known else [self._other, _plain(text)]
        parts += [self._details, _plain(f"\n{details(offer)}"), self._text]
        if self._sheet.write_rich_string(self._row, at, *parts) < 0:
            self._sheet.write_string(self._row, at, _plain(offer_text(offer)), self._text)

    def end(self) -> None:
        """Add what belongs to all rows: the list of decisions, filters, protection, the sheet that explains them."""
        from xlsxwriter.utility import xl_col_to_name

        sheet = self._sheet
        last = max(1, self._row)
        decision = self._columns.index("decision")
        sheet.data_validation(
            1, decision, last, decision, {"validate": "list", "source": list(CHOICES), "ignore_blank": True}
        )
        letters = xl_col_to_name(decision)
        sheet.conditional_format(
            1, self._decided[0], last, self._decided[-1],
            {"type": "formula", "criteria": f'=${letters}2<>""', "format": self._done},
        )  # fmt: skip
        sheet.autofilter(0, 0, last, len(self._columns) - 1)
        sheet.protect("", {"autofilter": True, "format_columns": True, "format_rows": True})
        self._explain()

    def _explain(self) -> None:
        sheet = self._how_to
        sheet.set_column(0, 0, 100, self._text)
        lines = [self._head.title, *HOW_TO, ""]
        lines += [
            f"Group {one.number + 1}: {one.title}: {one.questions:,} addresses of {one.records:,} records"
            for one in self._groups
        ]
        lines += ["", self._head.credit] if self._head.credit else []
        for at, line in enumerate(lines):
            sheet.write_string(at, 0, _plain(line), self._title if not at else self._text)
        sheet.protect()


def _is_open(name: str) -> bool:
    """Whether people write into a column."""
    return name in {"decision", "coordinates", "why"} or name.startswith(NEW)


@contextmanager
def open_review_text(path: Path, head: ReviewHead) -> Iterator[ReviewText]:
    """Write a CSV file, whole or not at all."""
    with written_aside(path) as aside, aside.open("w", encoding="utf-8-sig", newline="") as file:
        yield ReviewText(file, head)


@contextmanager
def open_review_workbook(path: Path, head: ReviewHead) -> Iterator[ReviewWorkbook]:
    """Write a workbook, whole or not at all. No text becomes a formula or a link."""
    from xlsxwriter import Workbook

    with tempfile.TemporaryDirectory(prefix="yellowtor-") as folder, written_aside(path) as aside:
        safe = {"strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False}
        book = Workbook(str(aside), {"constant_memory": True, "tmpdir": folder, **safe})
        made = ReviewWorkbook(book, head)
        yield made
        made.end()
        book.close()
