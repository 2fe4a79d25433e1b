"""SQL over records, by DuckDB: it sees the records, and nothing else; no file, no network, no other table."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

from yellowtor.errors import BadSource

if TYPE_CHECKING:
    import duckdb
    import pyarrow as pa

SEALED = {
    "enable_external_access": "false",
    "autoload_known_extensions": "false",
    "autoinstall_known_extensions": "false",
    "python_enable_replacements": "false",
}
NUMBERS = {"confidence", "latitude", "longitude"}  # the columns of an answer that are no texts


@contextmanager
def sealed_engine(whose: str) -> "Iterator[duckdb.DuckDBPyConnection]":
    """An engine that reaches nothing outside. whose are the settings that need it; raises BadSource without DuckDB."""
    try:
        import duckdb
        import pyarrow as pa
    except ImportError as error:
        raise BadSource(f"{whose} need {error.name}: pip install 'yellowtor[select]'. Nothing was sent.") from error
    del pa
    engine = duckdb.connect(":memory:", config=dict(SEALED))
    try:
        engine.execute("SET lock_configuration = true")
        yield engine
    finally:
        engine.close()


def texts_of(header: Sequence[str], rows: Sequence[Sequence[str]]) -> "dict[str, pa.Array]":
    """The columns of records as texts, empty cells as NULL; a name that occurs twice is left out."""
    import pyarrow as pa

    named = [(at, name) for at, name in enumerate(header) if name and header.count(name) == 1]
    return {name: pa.array([row[at] or None for row in rows], pa.string()) for at, name in named}


class Conditions:
    """SQL conditions over records and their answers. Raises BadSource for one that can't be run."""

    def __init__(
        self, engine: "duckdb.DuckDBPyConnection", header: Sequence[str], conditions: Mapping[str, str]
    ) -> None:
        self._engine = engine
        self._header = header
        self._conditions = conditions  # by the setting that has it

    def hold(self, rows: Sequence[Sequence[str]], answers: Mapping[str, Sequence[object]]) -> list[list[bool]]:
        """For each condition, whether it holds for each row. answers are the answers' columns, by name."""
        import duckdb
        import pyarrow as pa

        self._engine.register("records", pa.table(texts_of(self._header, rows)))
        typed = {
            name: pa.array(column, pa.float64() if name in NUMBERS else pa.string()) for name, column in answers.items()
        }
        self._engine.register("answer", pa.table(typed))
        found = []
        try:
            for setting, condition in self._conditions.items():
                query = f"SELECT coalesce(({condition}), false) FROM records POSITIONAL JOIN answer"  # noqa: S608 - sealed
                try:
                    (statement,) = self._engine.extract_statements(query)
                    found.append([bool(one) for (one,) in self._engine.execute(statement).fetchall()])
                except (duckdb.Error, ValueError) as error:
                    said = str(error).strip().splitlines()[0]
                    raise BadSource(f"{setting} = {condition!r} can't be run: {said}. Nothing was sent.") from error
        finally:
            self._engine.unregister("records")
            self._engine.unregister("answer")
        return found
