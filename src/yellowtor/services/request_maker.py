"""Makes requests as a description says: pure, so that what would be sent can be looked at without sending it."""

import base64
import binascii
import hmac
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import Any
from urllib.parse import quote

from uritemplate import URITemplate

from yellowtor.answers.replies.reply import Request
from yellowtor.contracts.position import Area
from yellowtor.contracts.secret import MASK
from yellowtor.contracts.subject import Subject
from yellowtor.errors import BadJob
from yellowtor.services.calls import BOX, FRESH, Call
from yellowtor.services.connection_settings import Signing
from yellowtor.services.description import Description, Direction
from yellowtor.services.templates import expand, fill, form_bytes, header_text, json_bytes, json_value, xml_text
from yellowtor.services.variables import Values
from yellowtor.version import __version__

TYPES = {"json": "application/json", "form": "application/x-www-form-urlencoded", "xml": "application/xml"}


@dataclass(frozen=True, slots=True)
class Wishes:
    """What a job wants of all its questions: the direction, a language, ISO 3166 codes of countries, an area."""

    direction: Direction = "forward"
    language: str = ""
    countries: tuple[str, ...] = ()
    area: Area | None = None

    def variables(self) -> dict[str, str]:
        """The variables of templates, without empty ones."""
        values = {"language": self.language, "countries": ",".join(self.countries)}
        values |= dict(zip(BOX, (f"{side}" for side in self.area), strict=True)) if self.area else {}
        return {name: text for name, text in values.items() if text}


class RequestMaker:
    """Requests of one description; raises BadJob for a signing secret that is not written as it says.

    template is what makes two questions different, beside the address: never a value of a variable.
    """

    def __init__(self, description: Description, values: Values, wishes: Wishes) -> None:
        self._operation = way = description.operation(wishes.direction)
        self._replies = description.replies(wishes.direction)
        self._description = description
        self._values = values
        self._known: dict[str, str] = {**values.plain, "limit": str(way.candidates), **wishes.variables()}
        self._url = URITemplate(way.url)
        self._many = way.many
        self._has_fresh = not {*FRESH}.isdisjoint(way.variables() | (way.many.variables() if way.many else set()))
        self._many_url = URITemplate(way.many.url) if way.many else self._url
        body = next(((kind, body) for kind, body in way.bodies().items() if body), None)
        template = [way.url, *(f"{name}: {text}" for name, text in way.headers.items())]
        self.template = "\n".join(template + ([f"POST {body[0]} {body[1]}"] if body else []))
        self.token = self._authorization(self._known).rpartition(" ")[2]
        self._common = self._headers(self._known)
        self.proxy = fill(description.connection.proxy, self._known, partial(quote, safe=""))
        signing = description.signing
        self._append = URITemplate(signing.append) if signing and signing.append else None
        if signing:
            self._secret = b"" if values.unset else _secret(signing, fill(signing.secret, self._known))

    def request(self, asked: Subject) -> Request:
        """The request that asks about this."""
        parts = {**asked.variables(), **self._fresh()}
        values = {**self._known, **parts}
        return self._made(self._operation, expand(self._url, values), self._common, values)

    def request_many(self, asked: Sequence[Subject]) -> Request:
        """The request that asks about all of these at once; their ids are their places, from 0."""
        many = self._many
        assert many is not None, "the caller looked"
        known = {**self._known, **self._fresh()}
        each = [{**known, **one.variables(), "id": str(at)} for at, one in enumerate(asked)]
        if many.json_body:
            listed = [json_value(many.question, values) for values in each]
            return self._made(many, expand(self._many_url, known), self._common, known, questions=listed)
        escaped = xml_text if many.xml else fill
        text = many.joined_by.join(escaped(many.question, values) for values in each)
        values = {**known, "questions": text}
        return self._made(many, expand(self._many_url, values), self._common, values)

    def _fresh(self) -> dict[str, str]:
        """The variables that are new in each request, where there are any."""
        if not self._has_fresh:
            return {}
        now = datetime.now(UTC)
        made = (str(int(now.timestamp())), now.isoformat(timespec="seconds"), secrets.token_hex(16))
        return dict(zip(FRESH, made, strict=True))

    def shown(self, asked: Subject) -> str:
        """The request for display, with secrets and signatures masked."""
        secret = {name: f"MASK{name}" for name in self._values.secret_names}
        known = self._known | secret
        parts = {**asked.variables(), **self._fresh()}
        values = {**known, **parts}
        url = expand(self._url, values)
        made = self._made(self._operation, url, self._headers(known), values, signature="MASKsignature")
        fields = [f"{name}: {text}" for name, text in made.headers.items() if name not in {"User-Agent", "Accept"}]
        body = [made.body.decode()] if made.body else []
        text = "\n".join([f"{made.method} {made.url}", *fields, *body])
        for mark in [*secret.values(), "MASKsignature"]:
            text = text.replace(mark, MASK)
        return text

    def _made(
        self,
        call: Call,
        url: str,
        headers: Mapping[str, str],
        values: Mapping[str, str],
        *,
        questions: Sequence[Any] = (),
        signature: str | None = None,
    ) -> Request:
        own = call.headers or self._operation.headers
        headers = {**headers, **{n: header_text(text, values) for n, text in own.items()}}
        if signing := self._description.signing:
            signature = signature or self._sign(url)
            if signing.header:
                headers[signing.header] = signature
            elif self._append:
                url += expand(self._append, {**self._known, "signature": signature})
        if call.json_body:
            return Request(url, _typed(headers, "json"), call.method, json_bytes(call.json_body, values, questions))
        if call.form:
            return Request(url, _typed(headers, "form"), call.method, form_bytes(call.form, values))
        if call.xml:
            body = xml_text(call.xml, values, values.get("questions", "")).encode()
            return Request(url, _typed(headers, "xml"), call.method, body)
        return Request(url, headers, call.method)

    def _headers(self, known: Mapping[str, str]) -> dict[str, str]:
        """The header fields of every request, except those of the description."""
        contact = header_text(self._description.service.contact, known)
        headers = {
            "User-Agent": f"yellowtor/{__version__}" + (f" ({contact})" if contact else ""),
            "Accept": self._replies.reply_format().accept,
        }
        if self._replies.format == "geojson":
            headers["Accept"] = "application/geo+json, application/json"
        if authorization := self._authorization(known):
            headers["Authorization"] = authorization
        return headers

    def _authorization(self, known: Mapping[str, str]) -> str:
        credentials = self._description.credentials
        if credentials is None:
            return ""
        if credentials.bearer is not None:
            return f"Bearer {fill(credentials.bearer, known)}"
        pair = f"{fill(credentials.user or '', known)}:{fill(credentials.password or '', known)}"
        if any(f"MASK{name}" in pair for name in self._values.secret_names):
            return f"Basic {pair}"  # to be shown
        return "Basic " + base64.b64encode(pair.encode()).decode()

    def _sign(self, url: str) -> str:
        signing = self._description.signing
        assert signing is not None, "the caller looked"
        host = url.find("//") + 2
        path = min((at for at in (url.find("/", host), url.find("?", host)) if at >= 0), default=len(url))
        start = {"url": 0, "path and query": path, "query": url.find("?") + 1 or len(url)}[signing.signs]
        digest = hmac.digest(self._secret, url[start:].encode(), signing.hash)
        if signing.signature_is == "hex":
            return digest.hex()
        encode: Any = base64.b64encode if signing.signature_is == "base64" else base64.urlsafe_b64encode
        return str(encode(digest).decode())


def _typed(headers: Mapping[str, str], kind: str) -> dict[str, str]:
    """The fields with the type of the body, unless the description says another."""
    return {"Content-Type": TYPES[kind], **headers}


def _secret(signing: Signing, text: str) -> bytes:
    try:
        match signing.secret_is:
            case "hex":
                return bytes.fromhex(text)
            case "base64":
                return base64.b64decode(text, validate=True)
            case "base64url":
                return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
    except (ValueError, binascii.Error) as error:
        raise BadJob(f"The secret that signs is not {signing.secret_is}. Nothing was sent.") from error
    return text.encode()
