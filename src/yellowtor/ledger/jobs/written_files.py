"""What runs have written: the files, so that one that people have changed since is known, and the positions."""

import json
from collections.abc import Callable, Sequence

from sqlalchemy import delete, insert, select

from yellowtor.contracts.position import Position
from yellowtor.ledger.storage.schema import written_file, written_position
from yellowtor.ledger.storage.store import Store, TextsOf
from yellowtor.ledger.storage.stored_text import position_text


class SqlWrittenBook:
    """The files and positions that runs over this ledger have written, whichever job they were of."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def is_ours(self, path: str, state: str, digest: Callable[[], str]) -> bool:
        """Whether a file is as a run wrote it. Its state tells mostly; else its digest, which is asked for then."""
        same = select(written_file.c.digest).where(written_file.c.path == path, written_file.c.state == state)
        if self._store.connection.execute(same).first():
            return True
        known = select(written_file.c.digest).where(written_file.c.digest == digest())
        return self._store.connection.execute(known).first() is not None

    def note(self, path: str, state: str, digest: str) -> None:
        """A run has written this file."""
        with self._store.transaction(["written files"]) as connection:
            connection.execute(delete(written_file).where(written_file.c.digest == digest))
            connection.execute(insert(written_file).values(path=path, state=state, digest=digest))

    def positions(self, held: Sequence[Position]) -> set[Position]:
        """Those of these positions that a run has written."""
        texts = {position_text(position): position for position in held}
        among = written_position.c.coordinates.op("IN")(TextsOf(json.dumps(list(texts))))
        query = select(written_position.c.coordinates).where(among)
        return {texts[text] for text in self._store.connection.execute(query).scalars()}
