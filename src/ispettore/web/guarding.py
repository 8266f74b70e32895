"""What is looked at before any route sees a request: where it comes from, how large it is, and what its text holds."""

import json
import re
from urllib.parse import parse_qsl

from fastapi import Request
from fastapi.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

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
)
LARGEST_BODY = 5 * 1024 * 1024
DEEPEST = 40
STREAMED = re.compile(r"^/api/(productions/[^/]+/recordings|verifyings/[^/]+/file|specifications/file|imports|uploads(/.*)?)$")
"""Routes that take files as they come, and bound them themselves."""
IGNORED = frozenset({b"x-http-method-override"})
"""Headers that nobody is believed."""


class Guard:
    """Refuses writes that another site's page sends, and adds the headers that keep ours to itself."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
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
                message["headers"] = [*message["headers"], *HEADERS]
            await send(message)

        await self._app(scope, receive, with_headers)


def _same_origin(request: Request) -> bool:
    """Scheme, host and port as the browser names them (RFC 6454)."""
    origin = request.headers.get("origin")
    if origin is not None:
        return origin == f"{request.url.scheme}://{request.headers.get('host')}"
    return request.headers.get("sec-fetch-site", "none") in ("same-origin", "none")


class Bounds:
    """Refuses bodies that are larger or nested deeper than any that is meant, and text that could not be kept."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        refusal = _of_address(scope)
        if refusal is None and not STREAMED.match(scope["path"]) and scope["method"] not in ("GET", "HEAD", "OPTIONS"):
            body = await _body(Request(scope, receive))
            refusal = TOO_LARGE if body is None else _of_body(body)
            receive = _again(body or b"", receive)
        if refusal is not None:
            status, sentence = refusal
            await JSONResponse({"error": sentence}, status_code=status)(scope, receive, send)
            return
        await self._app(scope, receive, send)


Refusal = tuple[int, str]
TOO_LARGE: Refusal = (413, f"This request is larger than {LARGEST_BODY // 1024**2} MB, this server's limit.")
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


def _of_body(body: bytes) -> Refusal | None:
    try:
        content = json.loads(body) if body else None
    except RecursionError:
        return NESTED
    except ValueError:
        return None  # the route says what it expects
    wrong = wrong_in(content, deepest=DEEPEST)
    if wrong is None:
        return None
    return NESTED if wrong == TOO_DEEP else (422, BadText(what="What was written", which=wrong).sentence)


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
