"""Other processes that search an index, so that a run uses all cores. They share the pages of its memory maps."""

import gc
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from queue import SimpleQueue
from typing import TYPE_CHECKING, NamedTuple

import orjson

from yellowtor.answers.replies.candidate import Candidate
from yellowtor.contracts.address import Address
from yellowtor.contracts.subject import AskedPosition
from yellowtor.errors import YellowtorError
from yellowtor.helper_processes import HelperGone, HelperProcess, serve

if TYPE_CHECKING:
    from yellowtor.reference.search import Search


class SearchOptions(NamedTuple):
    """countries (ISO 3166-1 alpha-2) limits the answers; empty: any. within_m is the reach in reverse, in metres."""

    countries: tuple[str, ...] = ()
    within_m: float = 0.0


def open_search(index: Path, options: SearchOptions) -> "Search":
    """Open an index. Raises BadSource if it can't be read."""
    from yellowtor.reference.index import ReferenceIndex
    from yellowtor.reference.search import Search

    return Search(ReferenceIndex.open(index), options.countries)


def find_all(search: "Search", asked: bytes, options: SearchOptions) -> bytes:
    """The reply to questions (a list in JSON, all addresses or all positions): a line of JSON for each.

    A question that meets an unexpected fault has the fault in its line; the others have their candidates.
    """
    parts = orjson.loads(asked)
    try:
        found = _found(search, parts, options)
    except Exception as error:  # noqa: BLE001 - one question must not end the run, nor take others with it
        if len(parts) == 1:
            return orjson.dumps({"fault": type(error).__name__})
        return b"\n".join(find_all(search, orjson.dumps([one]), options) for one in parts)
    return b"\n".join(orjson.dumps({"candidates": [one.as_dict() for one in candidates]}) for candidates in found)


def _found(search: "Search", parts: Sequence[Mapping[str, str]], options: SearchOptions) -> list[list[Candidate]]:
    if parts and "lat" in parts[0]:
        return [search.near(AskedPosition(**one).position, options.within_m) for one in parts]
    return search.find([Address(**one) for one in parts])


class SearchWorkers:
    """Some processes that search; find() may be called from as many threads."""

    def __init__(self, index: Path, options: SearchOptions, count: int) -> None:
        stated = [str(index), ",".join(options.countries), repr(options.within_m)]
        self._helpers = [HelperProcess(__name__, stated) for _ in range(count)]
        self._free: SimpleQueue[HelperProcess] = SimpleQueue()
        for helper in self._helpers:
            self._free.put(helper)

    def find(self, asked: bytes) -> bytes:
        """The reply to questions. Raises YellowtorError if the process was ended from outside."""
        helper = self._free.get()
        try:
            helper.send(asked)
            return helper.reply()
        except HelperGone as error:
            raise YellowtorError(
                "A process that searches the reference was ended. Run the job again: nothing is lost."
            ) from error
        finally:
            self._free.put(helper)

    def close(self) -> list[int]:
        """End the processes; with which code each."""
        return [helper.close() for helper in self._helpers]


def main() -> None:
    """Search for the process that started this one."""
    index, countries, within_m = sys.argv[1:4]
    gc.freeze()  # candidates hold no circles
    gc.set_threshold(100_000)
    options = SearchOptions(tuple(filter(None, countries.split(","))), float(within_m))
    search = open_search(Path(index), options)
    serve(lambda asked: find_all(search, asked, options))


if __name__ == "__main__":
    main()
