"""Makes the markers of a job's records: which there are, what they say, and how they look."""

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from itertools import chain
from typing import Any

from yellowtor.addresses.side_by_side import side_by_side
from yellowtor.answers.geography.coordinate_text import read_number
from yellowtor.answers.geography.levels import LEVELS
from yellowtor.answers.record_answers import EXTRA, Answer
from yellowtor.contracts.address import Address
from yellowtor.contracts.marker import OUTCOME_LOOKS, Look, Marker
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import Position, distance_m
from yellowtor.contracts.subject import AskedPosition
from yellowtor.contracts.table import Row, Table
from yellowtor.errors import BadJob
from yellowtor.run.jobs.job import Job
from yellowtor.run.jobs.marker_settings import Markers
from yellowtor.run.phases.marker_looks import RuleLooks, ScaleLooks, check_when, holds
from yellowtor.run.phases.marker_texts import MarkerTemplate, check_columns, is_template
from yellowtor.run.phases.row_reader import RowReader, shown_key
from yellowtor.sealed_sql import Conditions, sealed_engine

LEAST_MOVE_M = 1.0  # from which on a record has moved
ANSWER = ("key", "outcome", "confidence", "basis", "level", "asked", "matched", "reasons", "latitude", "longitude")
UNCERTAINTY = "uncertainty"
ALL = "*"
ONLY = "markers.only"
FOR_MARKERS = frozenset(Answer._fields) - {"service", "asked_at"}  # what they are made from


@dataclass(frozen=True)
class MarkerParts:
    """What a job's markers need beside its settings: pictures by the place of their rule, as data: URLs."""

    icons: Mapping[int, str] = field(default_factory=dict)


class Marking:
    """Makes markers from the rows of a table and their answers, page by page.

    Raises BadJob or BadSource if the settings name what the table does not have.
    """

    def __init__(self, job: Job, table: Table, parts: MarkerParts, conditions: Conditions | None = None) -> None:
        self._settings = settings = job.markers
        self._reader = RowReader(job, table)
        self._header = list(table.header)
        self._decimal = table.decimal
        self.columns = shown_columns(settings, table)
        self._at = {name: at for at, name in enumerate(self._header)}
        self._conditions = conditions
        self._texts = {
            name: MarkerTemplate(f"markers.{name}", text, self._header)
            for name, text in (
                ("name", settings.name),
                ("description", settings.description),
                ("labels.text", settings.labels.text),
            )
            if text
        }
        self._insides = {
            n: MarkerTemplate("markers.looks.text", rule.text, self._header)
            for n, rule in enumerate(settings.looks)
            if is_template(rule.text)
        }
        for rule in settings.looks:
            check_when(rule, self._header, ANSWER)
        self._looks = RuleLooks(settings.looks, parts.icons)
        self._table = table
        self._number = 0
        self._shows_alignment = any(output.format.shows_alignment for output in settings.files())
        self._wants_cells = bool(self._texts or settings.looks or settings.scale)

    @property
    def rule_looks(self) -> list[Look]:
        """The looks of the rules, as a placed record has them."""
        rules = enumerate(self._settings.looks)
        return [
            self._looks.look(n, Outcome.PLACED, rule.text if n not in self._insides else "", 0.0) for n, rule in rules
        ]

    @property
    def legend(self) -> list[Look]:
        """The looks by their names in the legend, in order; empty if the outcomes are the looks."""
        named = self.rule_looks
        if self._scale:
            named += [*self._scale.looks, self._scale.without]
        return named

    @property
    def problems(self) -> list[str]:
        """What could not be filled in, a sentence for each template."""
        return [one.problem for one in (*self._texts.values(), *self._insides.values()) if one.problem]

    def in_order(self, markers: Iterable[tuple[Row, Marker]], order: Sequence[str]) -> list[Marker]:
        """All markers, ordered by columns: numbers before texts, and both before empty cells."""
        rows = list(markers)
        for name in reversed(order):
            rows.sort(key=self._sorting(self._at[name.removeprefix("-")]), reverse=name.startswith("-"))
        return [marker for _, marker in rows]

    def _sorting(self, at: int) -> Callable[[tuple[Row, Marker]], tuple[int, float, str]]:
        def key(pair: tuple[Row, Marker]) -> tuple[int, float, str]:
            text = pair[0][at].strip()
            number = self._number_in(text)
            return (0, number, text) if number is not None else (1 if text else 2, 0.0, text.casefold())

        return key

    def make(self, batch: Sequence[Row], answers: Iterable[Answer]) -> Iterator[tuple[Row, Marker]]:
        """The markers of these rows, in their order, each with its row. A row without an answer has none."""
        pairs = [pair for pair in zip(batch, answers, strict=True) if pair[1].id and self._chosen(pair[1])]
        if not pairs:
            return
        shown = [self._answer(answer) for _, answer in pairs]
        held = self._held([row for row, _ in pairs], shown)
        only = held.pop(ONLY, None)
        for at, (row, answer) in enumerate(pairs):
            if only is None or only[at]:
                here = {name: column[at] for name, column in held.items()}
                yield row, self._marker(row, answer, shown[at], here)

    def _chosen(self, answer: Answer) -> bool:
        wanted = self._settings
        if wanted.outcomes and answer.outcome not in wanted.outcomes:
            return False
        if answer.outcome is Outcome.KEPT or answer.pin is not None:
            return True
        if wanted.level and (answer.level not in LEVELS or LEVELS[answer.level].rank > wanted.level.rank):
            return False
        return wanted.confidence is None or (answer.confidence or 0.0) >= wanted.confidence

    def _answer(self, answer: Answer) -> dict[str, Any]:
        """What templates and conditions know of an answer."""
        return {
            "key": shown_key(answer.key),
            "outcome": str(answer.outcome),
            "confidence": answer.confidence,
            "basis": answer.basis or "",
            "level": answer.level or "",
            "asked": answer.address.line(),
            "matched": answer.matched or "",
            "reasons": "; ".join(answer.reasons or ()),
            "latitude": answer.lat,
            "longitude": answer.lon,
        }

    def _held(self, rows: Sequence[Row], shown: Sequence[Mapping[str, Any]]) -> dict[str, list[bool]]:
        """For each SQL condition, whether it holds for each of these rows."""
        if self._conditions is None:
            return {}
        columns = {name: [one[name] for one in shown] for name in ANSWER}
        return dict(zip(sql_conditions(self._settings), self._conditions.hold(rows, columns), strict=True))

    def _marker(self, row: Row, answer: Answer, shown: Mapping[str, Any], held: Mapping[str, bool]) -> Marker:
        self._number += 1
        cells = {name: row[at] for name, at in self._at.items() if name} if self._wants_cells else {}
        texts = {name: one.text(cells, shown, self._number) for name, one in self._texts.items()}
        position = _position(answer)
        level = LEVELS.get(shown["level"])
        uncertainty = level.reach_m if level else None
        folder = self._settings.folders
        assert answer.outcome is not None, "every record has one by now"
        return Marker(
            key=shown["key"],
            name=texts.get("name") or self._reader.name(row) or shown["key"],
            outcome=answer.outcome,
            position=position,
            look=self._look(cells, shown, answer.outcome, held),
            asked=shown["asked"],
            matched=shown["matched"],
            level=shown["level"],
            confidence=answer.confidence,
            basis=shown["basis"],
            reasons=answer.reasons or (),
            description=texts.get("description", ""),
            columns={name: row[self._at[name]] for name in self.columns},
            group=shown["outcome"] if folder == "outcome" else row[self._at[folder]].strip() if folder else "",
            circle_m=self._circle(row, uncertainty),
            before=_before(answer, position) if self._settings.moved else None,
            uncertainty_m=uncertainty,
            label=texts.get("labels.text", ""),
            aligned=aligned(answer) if self._shows_alignment else (),
        )

    def _look(
        self, cells: Mapping[str, str], shown: Mapping[str, Any], outcome: Outcome, held: Mapping[str, bool]
    ) -> Look:
        for n, rule in enumerate(self._settings.looks):
            when = rule.when or {}
            if held[_setting_of(n)] if isinstance(when, str) else holds(when, cells, shown):
                inside = self._insides.get(n)
                text = inside.text(cells, shown, self._number) if inside else rule.text
                turn = self._number_in(cells[rule.turn]) or 0.0 if isinstance(rule.turn, str) else rule.turn
                return self._looks.look(n, outcome, text, turn)
        if self._scale and self._settings.scale:
            column = self._settings.scale.column
            return self._scale.look(shown["confidence"] if column == OF_SCALE else self._number_in(cells[column]))
        return OUTCOME_LOOKS[outcome]

    def _circle(self, row: Row, uncertainty: float | None) -> float | None:
        wanted = self._settings.circle
        if isinstance(wanted, float):
            return wanted or None
        return uncertainty if wanted == UNCERTAINTY else self._number_in(row[self._at[wanted]])

    def _number_in(self, text: str) -> float | None:
        """The number that a cell holds; None if it holds none."""
        return read_number(text, self._decimal)

    @cached_property
    def _scale(self) -> ScaleLooks | None:
        """The scale; without breaks, over all numbers of its column."""
        scale = self._settings.scale
        if scale is None:
            return None
        if scale.column == OF_SCALE:
            return ScaleLooks(scale, 0.0, 1.0)
        if scale.breaks:
            return ScaleLooks(scale, 0.0, 0.0)
        at = self._at[scale.column]
        least, most = math.inf, -math.inf
        for row in chain.from_iterable(self._table.batches()):
            number = self._number_in(row[at])
            if number is not None:
                least, most = min(least, number), max(most, number)
        return ScaleLooks(scale, least, most)


OF_SCALE = "answer.confidence"


def sql_conditions(settings: Markers) -> dict[str, str]:
    """The conditions in SQL, by the settings that have them."""
    rules = {_setting_of(n): rule.when for n, rule in enumerate(settings.looks) if isinstance(rule.when, str)}
    return {name: condition for name, condition in {ONLY: settings.only, **rules}.items() if condition}


def _setting_of(rule: int) -> str:
    return f"markers.looks.when ({rule + 1})"


def shown_columns(settings: Markers, table: Table) -> list[str]:
    """The columns that each marker shows. Raises BadJob if the settings name one that the table does not have."""
    header = list(table.header)
    all_of_them = [name for name in header if name and header.count(name) == 1]
    columns = [one for name in settings.columns for one in (all_of_them if name == ALL else [name])]
    folders = [settings.folders] if settings.folders not in {"", "outcome"} else []
    circle = [settings.circle] if isinstance(settings.circle, str) and settings.circle != UNCERTAINTY else []
    scale = [settings.scale.column] if settings.scale and settings.scale.column != OF_SCALE else []
    turns = [rule.turn for rule in settings.looks if isinstance(rule.turn, str)]
    picture = [name for name in (settings.map.picture, settings.map.pages) if name]
    named = {
        "map.search": settings.map.search,
        "map.picture and map.pages": picture,
        "columns": columns,
        "folders": folders,
        "circle": circle,
        "scale.column": scale,
        "looks.turn": turns,
    }
    for setting, names in named.items():
        check_columns(f"markers.{setting}", names, header, table.name)
    check_columns("markers.order", [name.removeprefix("-") for name in settings.order], header, table.name)
    if unseen := [name for name in settings.map.search if name not in columns]:
        raise BadJob(f"markers.map.search: {', '.join(unseen)} must be in markers.columns too. Nothing was sent.")
    return list(dict.fromkeys([*columns, *picture]))


@contextmanager
def marking_of(job: Job, table: Table, parts: MarkerParts) -> Iterator[Marking]:
    """How the job's records become markers."""
    conditions = sql_conditions(job.markers)
    if not conditions:
        yield Marking(job, table, parts)
        return
    with sealed_engine("SQL conditions of markers") as engine:
        made = Conditions(engine, table.header, conditions)
        made.hold([], {name: [] for name in ANSWER})  # so that a mistake is reported before anything is done
        yield Marking(job, table, parts, made)


def _position(answer: Answer) -> Position | None:
    """Where a record is; in reverse, the position of the question."""
    if isinstance(answer.address, AskedPosition) and answer.address.lat:
        return answer.address.position
    return None if answer.lat is None or answer.lon is None else Position(answer.lat, answer.lon)


def _before(answer: Answer, position: Position | None) -> Position | None:
    """The position that we wrote for the record before this one; None if it has not moved."""
    if position is None:
        return None
    for before in (answer.written, answer.moved_from):
        if before is not None and distance_m(before, position) >= LEAST_MOVE_M:
            return before
    return None


def aligned(answer: Answer) -> list[dict[str, Any]]:
    """The question beside the answer, part by part, of a doubtful record: each word with how far it is explained."""
    if answer.outcome is not Outcome.DOUBTFUL or not isinstance(answer.address, Address):
        return []
    answered = {name: text for name, text in answer.parts.items() if not name.startswith(EXTRA)}
    parts = side_by_side(answer.address, {**answered, "label": answer.matched})
    return [
        {
            "part": part.name,
            "asked": [[word.text, round(word.explained, 2)] for word in part.asked],
            "answered": part.answered,
            "agreement": part.agreement,
        }
        for part in parts
    ]
