"""The four formats for many questions in one request, each with another way to assign answers to questions.

`POST /find-many` answers by id in any order · `POST /lookup-many` in the order of the questions · `POST /rows` with
the id in the last column · `POST /features-many` in the order of the questions. The first and the third count each
question, the others each request.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol
from xml.etree import ElementTree as ET

from aiohttp import web

from yellowtor.standin.formats import Asked, Features, Json, StandinReply, TextTable, Xml, body_of, limit_of

MOST = 100
Questions = Sequence[tuple[str, Asked]]  # each with its id


@dataclass(frozen=True)
class AskedMany:
    """A request as it was understood. trouble: what is wrong with its key, empty where nothing is."""

    questions: Questions
    trouble: str = ""


class BatchFormat(Protocol):
    """One shape, asked about many: a reply to all, or one that refuses the whole."""

    path: str
    counts_each: bool

    async def all_asked(self, request: web.Request, key: str) -> AskedMany: ...
    def tell(self, reply: StandinReply) -> web.Response: ...
    def tell_all(self, answers: Sequence[tuple[str, StandinReply]]) -> web.Response: ...


class JsonMany(Json):
    path = "/find-many"
    counts_each = True

    async def all_asked(self, request: web.Request, key: str) -> AskedMany:
        body = await body_of(request)
        limit = limit_of(body.get("limit"))
        asks = body.get("asks")
        given = [one for one in asks if isinstance(one, dict)] if isinstance(asks, list) else []
        questions = [(str(one.get("id", "")), Asked(str(one.get("q", "")), limit)) for one in given]
        return AskedMany(questions, self.trouble(request, key))

    def tell_all(self, answers: Sequence[tuple[str, StandinReply]]) -> web.Response:
        """Answers by id, in reverse order."""
        return web.json_response({"answers": [{"id": key, **self.body(reply)} for key, reply in reversed(answers)]})


class XmlMany(Xml):
    path = "/lookup-many"
    counts_each = False

    async def all_asked(self, request: web.Request, key: str) -> AskedMany:
        try:
            root = ET.fromstring(await request.text())  # noqa: S314 - of its own tests
        except ET.ParseError:
            return AskedMany([], self.trouble(request, key))
        limit = limit_of(root.get("max"))
        questions = [("", Asked(self.line(one.attrib.get), limit)) for one in root]
        return AskedMany(questions, self.trouble(request, key))

    def tell_all(self, answers: Sequence[tuple[str, StandinReply]]) -> web.Response:
        text = "".join(self.element(reply) for _, reply in answers)
        return web.Response(text=f"<answers>{text}</answers>", content_type="application/xml")


class TableMany(TextTable):
    path = "/rows"
    counts_each = True

    async def all_asked(self, request: web.Request, key: str) -> AskedMany:
        form = await request.post()
        limit = limit_of(form.get("n"))
        lines = str(form.get("lines", "")).splitlines()
        pairs = [line.partition(";") for line in lines if line]
        return AskedMany([(name, Asked(text, limit)) for name, _, text in pairs], self.trouble(request, key))

    def tell_all(self, answers: Sequence[tuple[str, StandinReply]]) -> web.Response:
        rows = [[*row, *[""] * (12 - len(row)), name] for name, reply in answers for row in self.rows(reply)]
        return self.response(rows, 200, {})


class FeaturesMany(Features):
    path = "/features-many"
    counts_each = False

    async def all_asked(self, request: web.Request, key: str) -> AskedMany:
        body = await body_of(request)
        limit = limit_of(body.get("most"))
        texts = body.get("texts")
        questions = [("", Asked(str(text), limit)) for text in texts] if isinstance(texts, list) else []
        return AskedMany(questions, self.trouble(request, key))

    def tell_all(self, answers: Sequence[tuple[str, StandinReply]]) -> web.Response:
        """One that failed is a problem among the collections."""
        return web.json_response({"results": [self.content(reply) for _, reply in answers]})


MANY: Sequence[BatchFormat] = (JsonMany(), XmlMany(), TableMany(), FeaturesMany())
