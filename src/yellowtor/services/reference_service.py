"""A reference table as a service: the same questions, replies and candidates; no network, no pace, no quota, no price.

A reply is JSON: a line for each question, `{"candidates": […]}`. The edition of the index is part of a question's key,
so another table is another question.
"""

import asyncio
from collections.abc import Sequence
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING, Self
from zoneinfo import ZoneInfo

import orjson

from yellowtor.addresses.keys import Asking, digest
from yellowtor.allowance.pace import Pace
from yellowtor.allowance.price import Price
from yellowtor.allowance.windows import Window
from yellowtor.answers.replies.candidate import Candidate
from yellowtor.answers.replies.reading import Looked, Read
from yellowtor.answers.replies.reply import Reply, Request
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.contracts.subject import Subject
from yellowtor.helper_processes import cores
from yellowtor.reference.field_names import HOW, ROW
from yellowtor.services.reference_settings import ReferenceDescription
from yellowtor.services.reference_workers import SearchOptions, SearchWorkers, find_all, open_search
from yellowtor.services.request_maker import Wishes
from yellowtor.services.transport import Leave

if TYPE_CHECKING:
    from yellowtor.reference.search import Search

MANY = 250  # questions in a request
ALONE = 2_000  # questions that one process answers before others are started
READING = "1"  # how replies are read


class ReferenceService:
    """A reference table as its description says. index is the folder of its index; edition tells it from another.

    shown_as says what is searched, for people.
    """

    is_local = True

    def __init__(
        self, description: ReferenceDescription, wishes: Wishes, index: Path, edition: str, shown_as: str
    ) -> None:
        self.name = description.service.name
        self.attribution = description.service.attribution
        self.account = description.service.name
        self.pace = Pace(None, 1)
        self.windows: Sequence[Window] = ()
        self.prices: Sequence[Price] = ()
        self.zone = ZoneInfo("UTC")
        self.parallel = max(1, min(cores(), 8))
        self.tries = 1
        self.most = MANY
        self.looks = 0
        self.counts_each = True
        self.keep_days: int | None = None
        self.keep_nothing_days: int | None = None
        self.unset: Sequence[str] = ()
        self.extra = (HOW, ROW) if description.reference.columns.id else (HOW,)
        self.reading_key = digest(READING)
        reverse = wishes.direction == "reverse"
        wants = ("lat", "lon") if reverse else ("q",)
        countries = "" if reverse else ",".join(wishes.countries)
        self.asking = Asking(self.name, wishes.direction, edition, "", countries, 0, wants)
        self._options = SearchOptions(wishes.countries, description.reference.within_m)
        self._index = index
        self._shown_as = shown_as
        self._asked = 0
        self._opening = Lock()
        self._search: Search | None = None
        self._workers: SearchWorkers | None = None

    def request(self, asked: Subject) -> Request:
        """The search for this."""
        return self.request_many([asked])

    def request_many(self, asked: Sequence[Subject]) -> Request:
        """The search for all of these."""
        return Request("", {}, body=orjson.dumps([one.as_dict() for one in asked]))

    def request_reply(self, ticket: str) -> Request:
        """Never needed: replies come at once."""
        raise NotImplementedError(ticket)

    def needs_token(self, request: Request) -> bool:
        """Whether another request must be sent before."""
        del request
        return False

    def apart(self, reply: Reply, count: int) -> Sequence[Reply]:
        """A reply for each question."""
        if count == 1 or reply.kind is not None:
            return [reply] * count
        return [Reply(reply.status, reply.headers, line) for line in reply.body.splitlines()]

    def shown(self, asked: Subject) -> str:
        """What is searched for, and where."""
        parts = ", ".join(f"{part}: {text}" for part, text in asked.as_dict().items())
        return f"search in {self._shown_as}\n{parts}"

    def meaning(self, reply: Reply) -> Read:
        """What a reply means."""
        return self.read(reply)

    def read(self, reply: Reply) -> Read:
        """The candidates of a reply."""
        if reply.kind is not None:
            return Read(reply.kind, message=reply.trouble, lasting=True)
        try:
            data = orjson.loads(reply.body)
            if fault := data.get("fault"):
                return Read(Kind.UNREADABLE, message=f"an unexpected fault ({fault}) met this question", lasting=True)
            found = [Candidate.from_dict(one) for one in data["candidates"]]
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            return Read(Kind.UNREADABLE, message=f"not a reply of a reference table ({error})", lasting=True)
        if not found:
            return Read(Kind.NOTHING_FOUND, message="the reference knows nothing like it", because="no candidate")
        return Read(Kind.ANSWERED, found, because="candidates of the reference")

    def looked_up(self, reply: Reply) -> Sequence[Looked]:
        """Nothing is looked up by paths."""
        del reply
        return ()

    async def send(self, request: Request, leave: Leave | None = None) -> Reply | None:
        """Search. Never raises for what a question contains."""
        if leave and not await leave():
            return None
        asked = request.body or b"[]"
        self._asked += asked.count(b"},{") + 1
        if self._workers is None and self._asked > ALONE and self.parallel > 1:
            self._workers = SearchWorkers(self._index, self._options, self.parallel)
        search = self._workers.find if self._workers else self._find
        body = await asyncio.get_running_loop().run_in_executor(None, search, asked)
        return Reply(200, {"content-type": "application/json"}, body)

    def _find(self, asked: bytes) -> bytes:
        """Search in this process."""
        with self._opening:
            if self._search is None:
                self._search = open_search(self._index, self._options)
        return find_all(self._search, asked, self._options)

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *error: object) -> None:
        if self._workers is not None:
            self._workers.close()
            self._workers = None
