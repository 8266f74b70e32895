"""What is looked at before any route sees a request: where it comes from, how large it is, and what its text holds."""

import asyncio
import json
import math
import re
from typing import Any
from urllib.parse import parse_qsl

from fastapi import Request
from fastapi.responses import JSONResponse
from starlette.requests import ClientDisconnect, HTTPConnection
from starlette.types import ASGIApp, Message, Receive, Scope, Send
from starlette.websockets import WebSocketClose

from ispettore.core.text import TOO_DEEP, BadText, wrong_in, wrong_letter

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: blob:; font-src 'self'; media-src 'self' blob:; "
    "connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
)
HEADERS = (
    (b"content-security-policy", POLICY.encode()),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-opener-policy", b"same-origin"),
    (b"cross-origin-resource-policy", b"same-origin"),
)
ENCRYPTED_FROM_NOW_ON = (b"strict-transport-security", b"max-age=31536000; includeSubDomains")
"""Said where what is sent is encrypted already (RFC 6797)."""
KEPT_NOWHERE = (b"cache-control", b"no-store")
"""Said of answers that tell of people and their work and say nothing of it themselves: no browser keeps them on its disk."""
LARGEST_BODY = 5 * 1024 * 1024
DEEPEST = 40
NEXT_WITHIN_S, WHOLE_WITHIN_S = 60.0, 60.0
"""How long the next piece of a body may take, and all of one that is no file."""
LARGEST_NUMBER, LONGEST_NUMBER = 2**53 - 1, 24
"""The largest whole number that every reader of JSON reads as the same, and the most digits that are looked at."""
STREAMED = re.compile(
    r"^/api/(productions/[^/]+/recordings|recordings/[^/]+/takes|productions/[^/]+/bed-sounds|verifyings/[^/]+/file|specifications/file|imports|uploads(/.*)?)$"
)
"""Routes that take files as they come, and bound them themselves."""
IGNORED = frozenset({b"x-http-method-override"})
"""Headers that nobody is believed."""


class Guard:
    """Refuses writes that another site's page sends, and adds the headers that keep ours to itself."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "websocket":
            # No browser keeps another site's page from opening one, so this is where that is refused.
            mine = _same_origin(HTTPConnection(scope))
            await (self._app if mine else WebSocketClose(1008))(scope, receive, send)
            return
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        scope["headers"] = [(name, value) for name, value in scope["headers"] if name.lower() not in IGNORED]
        request = Request(scope)
        if request.method not in ("GET", "HEAD", "OPTIONS") and not _same_origin(request):
            refusal = JSONResponse({"error": "This request came from another site and was refused."}, status_code=403)
            await refusal(scope, receive, send)
            return

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                message["headers"] = [*message["headers"], *HEADERS, *_further(scope, message["headers"])]
            await send(message)

        await self._app(scope, receive, with_headers)


def _further(scope: Scope, told: list[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
    known = {name.lower(): value for name, value in told}
    plain = known.get(b"content-type", b"").startswith(b"application/json") and b"cache-control" not in known
    return [*([ENCRYPTED_FROM_NOW_ON] if scope["scheme"] == "https" else []), *([KEPT_NOWHERE] if plain else [])]


def _same_origin(request: HTTPConnection) -> bool:
    """Scheme, host and port as the browser names them (RFC 6454)."""
    origin = request.headers.get("origin")
    if origin is not None:
        scheme = {"ws": "http", "wss": "https"}.get(request.url.scheme, request.url.scheme)
        return origin == f"{scheme}://{request.headers.get('host')}"
    return request.headers.get("sec-fetch-site", "none") in ("same-origin", "none")


class Bounds:
    """Refuses bodies that are larger or nested deeper than any that is meant, and text that could not be kept."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        refusal, receive = _of_address(scope), _in_time(receive)
        if refusal is None and not STREAMED.match(scope["path"]) and scope["method"] not in ("GET", "HEAD", "OPTIONS"):
            try:
                async with asyncio.timeout(WHOLE_WITHIN_S):
                    body = await _body(Request(scope, receive))
                refusal = TOO_LARGE if body is None else _of_body(body)
            except (TimeoutError, ClientDisconnect):
                body, refusal = None, TOO_SLOW
            receive = _again(body or b"", receive)
        if refusal is not None:
            status, sentence = refusal
            await JSONResponse({"error": sentence}, status_code=status)(scope, receive, send)
            return
        await self._app(scope, receive, send)


Refusal = tuple[int, str]
TOO_LARGE: Refusal = (413, f"This request is larger than {LARGEST_BODY // 1024**2} MB, this server's limit.")
TOO_SLOW: Refusal = (408, "What was to be sent did not come in time. Try again.")
NESTED: Refusal = (422, "This is nested too deeply.")


def _of_address(scope: Scope) -> Refusal | None:
    pairs = parse_qsl(scope["query_string"].decode("latin-1"), keep_blank_values=True)
    for text in (scope["path"], *(part for pair in pairs for part in pair)):
        if wrong := wrong_letter(text, breaks=True):
            return 422, BadText(what="The address", which=wrong).sentence
    return None


async def _body(request: Request) -> bytes | None:
    """The whole body; None where it is too large."""
    announced = request.headers.get("content-length", "0")
    if announced.isdigit() and int(announced) > LARGEST_BODY:
        return None
    found = bytearray()
    async for chunk in request.stream():
        found += chunk
        if len(found) > LARGEST_BODY:
            return None
    return bytes(found)


class _Strange(Exception):
    """What JSON can hold and nobody can rely on (RFC 7493, I-JSON)."""


def _whole(text: str) -> int:
    if len(text) > LONGEST_NUMBER or abs(found := int(text)) > LARGEST_NUMBER:
        raise _Strange("a number that is too large")
    return found


def _broken(text: str) -> float:
    if not math.isfinite(found := float(text)):
        raise _Strange("a number that is none" if text in ("NaN", "Infinity", "-Infinity") else "a number that is too large")
    return found


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        raise _Strange("the same name twice")
    return found


def _of_body(body: bytes) -> Refusal | None:
    try:
        read = {"parse_int": _whole, "parse_float": _broken, "parse_constant": _broken, "object_pairs_hook": _once}
        content = json.loads(body, **read) if body else None  # type: ignore[arg-type]
    except RecursionError:
        return NESTED
    except _Strange as error:
        return 422, f"What was written contains {error}, which can't be used."
    except ValueError:
        return None  # the route says what it expects
    wrong = wrong_in(content, deepest=DEEPEST)
    if wrong is None:
        return None
    return NESTED if wrong == TOO_DEEP else (422, BadText(what="What was written", which=wrong).sentence)


def _in_time(receive: Receive) -> Receive:
    """The same, but whoever falls silent in the middle of a body is taken for gone: what came of a file until then is kept."""
    whole = False

    async def heard() -> Message:
        nonlocal whole
        if whole:
            return await receive()
        try:
            message = await asyncio.wait_for(receive(), NEXT_WITHIN_S)
        except TimeoutError:
            message = {"type": "http.disconnect"}
        whole = message["type"] != "http.request" or not message.get("more_body", False)
        return message

    return heard


def _again(body: bytes, receive: Receive) -> Receive:
    """The body once more for the route, then what comes after it."""
    given = False

    async def once() -> Message:
        nonlocal given
        if given:
            return await receive()
        given = True
        return {"type": "http.request", "body": body, "more_body": False}

    return once
