"""Names and descriptions of markers, from templates of the job: Jinja, in its sandbox."""

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from jinja2 import StrictUndefined, TemplateError, meta
from jinja2.sandbox import ImmutableSandboxedEnvironment

from yellowtor.errors import BadJob

OURS = ("record", "answer", "number")
LONGEST = 20_000  # characters of a text


class MarkerTemplate:
    """One template. Raises BadJob for one that is not valid, or that names a column that the source does not have.

    Its variables are the columns by their names, `record` with all of them, `answer`, and `number`.
    """

    def __init__(self, setting: str, text: str, columns: Collection[str]) -> None:
        self._setting = setting
        self.problem = ""  # the first that was met
        environment = ImmutableSandboxedEnvironment(undefined=StrictUndefined, autoescape=False)
        try:
            names = meta.find_undeclared_variables(environment.parse(text))
            self._template = environment.from_string(text)
        except TemplateError as error:
            raise BadJob(f"{setting} = {text!r} is not a valid template: {error}. Nothing was sent.") from error
        if unknown := sorted(names - {*OURS, *columns}):
            have = ", ".join(filter(None, columns))
            raise BadJob(
                f"{setting} names {', '.join(unknown)}, which is no column (there are: {have}) and none of "
                f'{", ".join(OURS)}. A column whose name has blanks is {{{{ record["…"] }}}}. Nothing was sent.'
            )

    def text(self, record: Mapping[str, str], answer: Mapping[str, Any], number: int) -> str:
        """The text for a record; empty where the template can't be filled: see `problem`."""
        try:
            made = self._template.render({**record, "record": record, "answer": answer, "number": number})
        except (TemplateError, ArithmeticError, AttributeError, LookupError, TypeError, ValueError) as error:
            self.problem = self.problem or f"{self._setting} can't be filled for the record {answer['key']!r}: {error}"
            return ""
        return made.strip()[:LONGEST]


def is_template(text: str) -> bool:
    """Whether a text has places to be filled."""
    return "{{" in text or "{%" in text


def check_columns(setting: str, names: Sequence[str], columns: Sequence[str], source: str) -> None:
    """Raise BadJob if the source does not have these columns, or has one of them twice."""
    for name in names:
        if columns.count(name) != 1:
            why = "has no column" if name not in columns else "has more than one column"
            have = ", ".join(filter(None, columns))
            raise BadJob(f"{setting}: {source} {why} {name!r} (it has: {have}). Nothing was sent.")
