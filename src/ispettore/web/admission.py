"""Who is let in, and what they may do.

Nothing is answered to a stranger but what is listed here (`PUBLIC`); whatever changes something needs the right to work unless it
is listed as needing another. A route that is added is closed until somebody opens it.
"""

import re
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from uuid import uuid4

from starlette.concurrency import run_in_threadpool
from starlette.requests import HTTPConnection
from starlette.types import ASGIApp, Receive, Scope, Send
from starlette.websockets import WebSocketClose
from structlog.contextvars import bound_contextvars

from ispettore.studio.access import sessions, start, tokens
from ispettore.studio.access.errors import NotAllowed, NotSignedIn, TokenNotAllowed, TooManyAtOnce
from ispettore.studio.access.letting_in import access
from ispettore.studio.database import GONE
from ispettore.studio.who import GIVES, RIGHTS, WHO, Right, Role, Who, acting

PUBLIC = re.compile(
    r"/|/icon\.svg|/assets/[^/]+|/start/[^/]+|/api/(health|access|access/(sign-in|passkey|passkey/begin|invitation|join))"
)
SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
READ: frozenset[Right] = frozenset({"read"})
OWN = frozenset(
    {"getAccount", "endSession", "makeToken", "endToken", "changePassword", "beginPasskey", "addPasskey", "removePasskey"}
)
"""What is done to an account is done by its owner in a browser, never by a token."""
NEEDS: dict[str, frozenset[Right]] = {
    **dict.fromkeys(
        (
            "getRows",
            "examineSpecification",
            "examineTreatment",
            "previewNames",
            "drawBlindRounds",
            "judgeBlindRounds",
            "createVerifying",
            "attachFile",
            "signOut",
            *OWN,
        ),
        READ,
    ),
    **dict.fromkeys(("checkTake", "recordTake"), frozenset[Right]({"work"})),
    **dict.fromkeys(("reportListening", "addNote", "changeNote"), frozenset[Right]({"work", "certify"})),
    **dict.fromkeys(("withdrawCertificate", "issueAgain", "certifyProduction", "makeFiles"), frozenset[Right]({"certify"})),
    **dict.fromkeys(
        (
            "changeDefaults",
            "trustKey",
            "distrustKey",
            "eraseRemoved",
            "rollKey",
            "trustAndImport",
            "listPeople",
            "invitePerson",
            "inviteAgain",
            "changePerson",
            "getTrail",
            "getOperation",
            "getOutside",
            "watchFolder",
            "stopWatching",
            "addWebhook",
            "removeWebhook",
            "tryWebhook",
            "getTrailAsTable",
        ),
        frozenset[Right]({"administer"}),
    ),
}
"""What an operation needs, any of these, where that is not reading for what asks and working for what changes."""
REFUSED = 1008
"""Why a socket that is not let in is closed (RFC 6455, "policy violation")."""
MOST_AT_ONCE = {"requests": 100, "streams": 24}
"""For one session at one address: a browser asks for six things at once, and each of its pages listens to one stream."""
HOW = {
    "start": "Open the address that Ispettore printed when it started; scripts show a token instead.",
    "accounts": "Sign in, or show a token.",
    "open": "",
}


def needs(operation: str, method: str) -> frozenset[Right]:
    """Any of which rights an operation needs."""
    return NEEDS.get(operation) or (READ if method in SAFE else frozenset({"work"}))


def cookie_name(connection: HTTPConnection) -> str:
    """What the cookie is called: tied to this very host where it travels encrypted (RFC 6265bis); else told apart from that of
    another port, which browsers do not do."""
    return "__Host-ispettore" if connection.url.scheme in ("https", "wss") else f"ispettore-{connection.url.port or 80}"


class Admission:
    """Finds out who asks, and turns strangers away, before any route sees the request. `refusal` makes an answer of an error."""

    def __init__(self, app: ASGIApp, refusal: Callable[[Exception], ASGIApp]) -> None:
        self._app, self._refusal = app, refusal
        self._under_way: Counter[str] = Counter()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self._app(scope, receive, send)
            return
        try:
            who = await self._let_in(scope)
            with self._at_once(scope, who), acting(who), bound_contextvars(request=uuid4().hex[:12], path=scope["path"]):
                await self._app(scope, receive, send)
        except (NotSignedIn, TooManyAtOnce, *GONE) as error:
            if scope["type"] == "websocket":
                await WebSocketClose(REFUSED)(scope, receive, send)
            else:
                await self._refusal(error)(scope, receive, send)

    async def _let_in(self, scope: Scope) -> Who | None:
        """Who asks; None for a stranger at one of the few addresses for those. Raises NotSignedIn and what a database that is away
        raises."""
        if scope["path"].startswith("/assets/"):
            return None
        public = PUBLIC.fullmatch(scope["path"]) is not None
        try:
            who = await _who(scope)
        except GONE:
            if public:
                return None
            raise
        if who is None and not public:
            raise NotSignedIn(why=": what you showed is unknown, or has ended" if _shows(scope) else "", how=HOW[access()])
        return who

    @contextmanager
    def _at_once(self, scope: Scope, who: Who | None) -> Iterator[None]:
        """One more of what somebody has under way. Raises TooManyAtOnce."""
        kind = "streams" if scope["type"] == "websocket" or scope["path"] == "/api/events" else "requests"
        of = f"{kind} {(who.person or who.session or who.token) if who else ''} {address_of(scope)}"
        if self._under_way[of] >= MOST_AT_ONCE[kind]:
            raise TooManyAtOnce(most=MOST_AT_ONCE[kind], what=kind)
        self._under_way[of] += 1
        try:
            yield
        finally:
            self._under_way[of] -= 1
            if not self._under_way[of]:
                del self._under_way[of]


async def allowed(connection: HTTPConnection) -> None:
    """Raises NotAllowed and TokenNotAllowed where whoever asks may not do what the route does."""
    who = WHO.get()
    operation = operation_of(connection.scope)
    if who is None:
        return  # let in as a stranger: one of the few routes for those
    wanted = needs(operation, connection.scope.get("method", "GET"))
    if who.way == "token" and (operation in OWN or not wanted & who.rights):
        told = ", ".join(right for right in tokens.GIVABLE if right in who.rights) or "do nothing"
        raise TokenNotAllowed(token=who.token_name, rights=told)
    if not wanted & who.rights:
        have = [role for role in GIVES if GIVES[role] <= who.rights]
        raise NotAllowed(role=" or ".join(_giving(wanted)), have=" and ".join(have) or "none")


def _giving(rights: frozenset[Right]) -> list[Role]:
    return [role for role, given in GIVES.items() if given & (rights - READ)]


async def still_in(scope: Scope) -> bool:
    """Whether whoever asked for something that goes on is let in by now; looking does not count as use."""
    try:
        return await _who(scope, used=False) is not None
    except GONE:
        return True  # the database comes back, and then they are asked again


async def _who(scope: Scope, *, used: bool = True) -> Who | None:
    """Who asks, if that is known."""
    if access() == "open":
        found: Who | None = Who(way="open", rights=RIGHTS, address=address_of(scope))
    else:
        found = await run_in_threadpool(_shown, HTTPConnection(scope), used=used) if _shows(scope) else None
    # What they ask for can be told as soon as its route is found.
    return None if found is None else replace(found, act=lambda: operation_of(scope))


def _shows(scope: Scope) -> bool:
    """Whether anything is shown by which somebody might be known."""
    connection = HTTPConnection(scope)
    return _bearer(connection) is not None or bool(connection.cookies.get(cookie_name(connection)))


def _shown(connection: HTTPConnection, *, used: bool) -> Who | None:
    address, bearer = address_of(connection.scope), _bearer(connection)
    if bearer is None:
        return sessions.by_cookie(connection.cookies[cookie_name(connection)], address=address, used=used)
    if access() == "start" and start.fits(bearer):
        return Who(way="start", rights=RIGHTS, address=address)
    return sessions.by_token(bearer, address=address)


def address_of(scope: Scope) -> str:
    """From where somebody asks, as far as it can be told."""
    client = scope.get("client")
    return str(client[0]) if client else ""


def operation_of(scope: Scope) -> str:
    """What is asked for, by the name in the description; empty until its route is found."""
    route = scope.get("route")
    return str(getattr(route, "operation_id", None) or getattr(route, "name", ""))


def _bearer(connection: HTTPConnection) -> str | None:
    kind, _, shown = connection.headers.get("authorization", "").partition(" ")
    return shown.strip() if kind.lower() == "bearer" else None
