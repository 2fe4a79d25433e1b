"""Follow-up requests of a question: redirects within the origin, tokens, pages, polls for a later reply.

Tokens are those of OAuth 2.0 client credentials (RFC 6749 section 4.4). Nothing is sent here: each request is reserved
and sent like any other. No key goes to another origin.
"""

import base64
import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote, urlencode, urljoin, urlsplit

import orjson
from uritemplate import URITemplate

from yellowtor.allowance.retry import retry_after_s
from yellowtor.answers.replies.body_text import CantOpenError
from yellowtor.answers.replies.plain_values import as_written
from yellowtor.answers.replies.reading import PAGES, read_kind
from yellowtor.answers.replies.reading_rules import Reading
from yellowtor.answers.replies.reply import Reply, Request
from yellowtor.answers.replies.reply_kind import Kind
from yellowtor.services.calls import Poll
from yellowtor.services.connection_settings import TokenEndpoint
from yellowtor.services.description import Description
from yellowtor.services.masking import SHORTEST, Masker
from yellowtor.services.request_maker import Wishes
from yellowtor.services.templates import expand, fill
from yellowtor.services.transport import LARGEST, RawReply

Known = Callable[[], Mapping[str, str]]
REDIRECTS = {301, 302, 303, 307, 308}
MOST_REDIRECTS = 3
EARLY_S = 30.0  # so long before its end a token is renewed
PORTS = {"http": 80, "https": 443}


def origin(url: str) -> tuple[str, str, int | None]:
    """Scheme, host and port of a URL (RFC 6454)."""
    parts = urlsplit(url)
    scheme = parts.scheme.lower()
    return scheme, (parts.hostname or "").lower(), parts.port or PORTS.get(scheme)


class FollowUps:
    """Decides what is sent after a reply. known gives the values of the variables."""

    def __init__(
        self, description: Description, wishes: Wishes, reading: Reading, known: Known, masker: Masker
    ) -> None:
        way = description.operation(wishes.direction)
        replies = description.replies(wishes.direction)
        endpoint = description.credentials.token if description.credentials else None
        self._masker = masker
        self._tokens = Tokens(endpoint, known, masker) if endpoint else None
        self._polls = Polls(way.poll, reading, known) if way.poll else None
        self._pages = NextPages(replies.next, replies.pages, reading) if replies.next else None
        self.looks = way.poll.most if way.poll else 0

    def ready(self, request: Request) -> Request:
        """The request with its token; or that which fetches one before."""
        if self._tokens is None or request.before is not None:
            return request
        return self._tokens.on(request) or self._tokens.request(request)

    def look(self, ticket: str, like: Request) -> Request:
        """The request for the reply that was promised with a ticket."""
        assert self._polls is not None, "nobody else has tickets"
        return self._polls.request(ticket, like)

    def after(self, request: Request, came: RawReply, reply: Reply) -> Reply:
        """The reply to a request, as it came and masked: with what is to be sent next, if anything is."""
        if request.before is not None:
            return self._with_token(came, request.before)
        if came.too_large:
            return reply
        if came.status == 401 and self._tokens and not request.renewed:
            self._tokens.forget(request.token)
            return replace(reply, follow_up=replace(request, token="", renewed=True))
        try:
            return self._further(request, came, reply)
        except ValueError as error:
            why = f"the status {came.status}: {self._masker.in_text(str(error))}"
            return replace(reply, kind=Kind.UNREADABLE, trouble=why, lasting=True)

    def _further(self, request: Request, came: RawReply, reply: Reply) -> Reply:
        """The follow-up of a reply, if any. Raises ValueError if it must not be sent."""
        if target := redirected(request, came):
            return replace(reply, follow_up=target)
        if self._polls and (promised := self._polls.after(request, came)):
            look, pause_s = promised
            if isinstance(look, Request):
                return replace(reply, follow_up=look, pause_s=pause_s)
            return Reply(0, {}, b"", look, Kind.UNAVAILABLE, lasting=True)
        if self._pages and (page := self._pages.after(request, came)):
            return replace(reply, follow_up=replace(page, pages=(*request.pages, reply.body)))
        return joined(reply, request.pages) if 200 <= came.status < 300 else reply

    def _with_token(self, came: RawReply, before: Request) -> Reply:
        """The request after a token request: the question, or a reply that says why there is no token."""
        assert self._tokens is not None, "nobody else makes such requests"
        if why := self._tokens.take(came):
            kind = Kind.KEY_REFUSED if came.status in {400, 401, 403} else Kind.UNAVAILABLE
            return Reply(0, {}, b"", why, kind)
        return Reply(0, {}, b"", follow_up=before)


def redirected(request: Request, came: RawReply) -> Request | None:
    """The request that a redirect asks for; None where the reply is none. Raises ValueError for one not to follow."""
    location = came.field("location")
    if came.status not in REDIRECTS or not location:
        return None
    target = urljoin(request.url, location)
    if urlsplit(target).username is not None:
        raise ValueError("it redirects to a URL with a user's name, which is not followed")
    if origin(target) != origin(request.url):
        scheme, host, _ = origin(target)
        raise ValueError(f"it redirects to {scheme}://{host}, another origin, to which no key is sent: correct the URL")
    if request.redirects >= MOST_REDIRECTS:
        raise ValueError(f"it redirects more than {MOST_REDIRECTS} times")
    method = request.method
    body = request.body
    if came.status in {301, 302, 303} and method == "POST":  # RFC 9110 section 15.4: as all clients do
        method = "GET"
        body = None
    return replace(request, url=target, method=method, body=body, redirects=request.redirects + 1)


class Tokens:
    """The access token of a service: fetched when it is first needed, in memory only, renewed when it is refused."""

    def __init__(self, endpoint: TokenEndpoint, known: Known, masker: Masker) -> None:
        self._endpoint = endpoint
        self._known = known
        self._masker = masker
        self._token = ""
        self._until = 0.0

    def on(self, request: Request) -> Request | None:
        """The request with the token; None while there is none."""
        if not self._token or time.monotonic() >= self._until:
            return None
        headers = {**request.headers, "Authorization": f"Bearer {self._token}"}
        return replace(request, headers=headers, token=self._token)

    def forget(self, token: str) -> None:
        """It was refused."""
        if token == self._token:
            self._token = ""

    def request(self, before: Request) -> Request:
        """The request for a token, after which the other is sent."""
        known = self._known()
        endpoint = self._endpoint
        fields = {"grant_type": "client_credentials"} | {n: fill(text, known) for n, text in endpoint.fields.items()}
        if endpoint.scope:
            fields["scope"] = fill(endpoint.scope, known)
        name = fill(endpoint.client_id, known)
        secret = fill(endpoint.client_secret, known)
        headers = {"Accept": "application/json", "Content-Type": "application/x-www-form-urlencoded"}
        headers |= {"User-Agent": before.headers.get("User-Agent", "yellowtor")}
        if endpoint.sends == "header":  # RFC 6749 section 2.3.1
            pair = f"{quote(name, safe='')}:{quote(secret, safe='')}".encode()
            headers["Authorization"] = f"Basic {base64.b64encode(pair).decode()}"
        else:
            fields |= {"client_id": name, "client_secret": secret}
        url = expand(URITemplate(endpoint.url), known)
        return Request(url, headers, "POST", urlencode(fields).encode(), counts=False, before=before)

    def take(self, came: RawReply) -> str:
        """Take the token out of a reply; why there is none, in words."""
        try:
            content = orjson.loads(came.body)
            token = content["access_token"]
            seconds = float(content.get("expires_in") or 3600)
        except (ValueError, KeyError, TypeError):
            return f"the token endpoint gave no token: the status {came.status}"
        if came.status != 200 or not isinstance(token, str) or not token.isascii() or not token.isprintable():
            return f"the token endpoint gave no token: the status {came.status}"
        if len(token) < SHORTEST:
            return f"the token endpoint gave a token of fewer than {SHORTEST} characters, which can't be masked"
        self._masker.add(token)
        self._token = token
        self._until = time.monotonic() + max(seconds / 2, min(seconds, 1e9) - EARLY_S)
        return ""


class Polls:
    """Looks whether a promised reply is ready. known are the values of variables."""

    def __init__(self, poll: Poll, reading: Reading, known: Known) -> None:
        self._poll = poll
        self._reading = reading
        self._known = known
        self._get = reading.format.getter(poll.ticket) if poll.ticket else None

    def request(self, ticket: str, like: Request) -> Request:
        """The request for the reply to what has this ticket, with the header fields of another. Raises ValueError."""
        url = urljoin(like.url, expand(URITemplate(self._poll.url), {**self._known(), "ticket": ticket}))
        if origin(url) != origin(like.url):
            raise ValueError("the ticket leads to another origin, to which no key is sent")
        headers = {name: text for name, text in like.headers.items() if name != "Content-Type"}
        return replace(
            like,
            url=url,
            headers=headers,
            method="GET",
            body=None,
            ticket=ticket,
            counts=self._poll.counts,
            redirects=0,
        )

    def after(self, request: Request, came: RawReply) -> tuple[Request | str, float] | None:
        """The next poll, or why there is none, and the seconds to wait; None if the reply needs no poll.

        Raises ValueError for a promised reply without a ticket.
        """
        headers = {"content-type": came.field("content-type")}
        promised = came.status == 202 or read_kind(self._reading, came.status, came.body, headers) is Kind.ACCEPTED
        if not promised:
            return None
        ticket = request.ticket or self._ticket(came)
        if not ticket:
            raise ValueError(
                "the service accepted the question, but the reply has no ticket at the path of the description"
            )
        if request.looks >= self._poll.most:
            return f"the reply was not ready after {self._poll.most} looks: the next run goes on looking", 0.0
        wait_s = retry_after_s(came.field("retry-after"), datetime.now(UTC)) or 0.0
        again = request if request.ticket else self.request(ticket, request)
        return replace(again, looks=request.looks + 1), max(self._poll.every_s, min(wait_s, 3600.0))

    def _ticket(self, came: RawReply) -> str:
        if self._get is None:
            return came.field("location")
        try:
            return as_written(self._get(self._reading.format.open(came.body, came.field("content-type"))))
        except CantOpenError:
            return ""


class NextPages:
    """Requests the next page of candidates."""

    def __init__(self, next_path: str, most: int, reading: Reading) -> None:
        self._get = reading.format.getter(next_path)
        self._most = most
        self._shape = reading.format

    def after(self, request: Request, came: RawReply) -> Request | None:
        """The request for the next page; None after the last. Raises ValueError for another origin."""
        size = sum(map(len, request.pages)) + len(came.body)
        if not 200 <= came.status < 300 or len(request.pages) + 1 >= self._most or size >= LARGEST:
            return None
        try:
            found: Any = self._get(self._shape.open(came.body, came.field("content-type")))
        except CantOpenError:
            return None
        target = as_written(found)
        if not target:
            return None
        url = urljoin(request.url, target)
        if origin(url) != origin(request.url):
            raise ValueError("the next page is at another origin, to which no key is sent")
        return replace(request, url=url, method="GET", body=None)


def joined(reply: Reply, pages: tuple[bytes, ...]) -> Reply:
    """One reply of several pages."""
    if not pages:
        return reply
    bodies = [*pages, reply.body]
    headers = {**reply.headers, PAGES: ",".join(str(len(body)) for body in bodies)}
    return replace(reply, headers=headers, body=b"".join(bodies))
