"""The web application: what it is made of and how it guards itself."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI, Request
from fastapi.responses import FileResponse, JSONResponse
from fastapi.staticfiles import StaticFiles
from starlette.concurrency import run_in_threadpool
from starlette.middleware.trustedhost import TrustedHostMiddleware
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ispettore.core.errors import IspettoreError, UnknownSpecification
from ispettore.studio.errors import (
    NoLongerReplaceable,
    NoRoomLeft,
    NotFound,
    NotReady,
    OrderChanged,
    SpecificationChanged,
    SpecificationShips,
)
from ispettore.studio.incoming import Incoming
from ispettore.studio.recordings import catch_up
from ispettore.studio.settings import settings
from ispettore.studio.store import Store, TooLarge
from ispettore.web import explaining, productions, recordings, resumable, specifications, verifyings, works
from ispettore.web.live import Live

STATUS = {
    NotFound: 404,
    UnknownSpecification: 404,
    OrderChanged: 409,
    NotReady: 409,
    SpecificationChanged: 409,
    SpecificationShips: 409,
    NoLongerReplaceable: 409,
    TooLarge: 413,
    NoRoomLeft: 507,
}
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


class Guard:
    """Refuses writes that another site's page sends, and adds the headers that keep ours to itself."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
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
    origin = request.headers.get("origin")
    if origin is not None:
        return origin.split("://", 1)[-1] == request.headers.get("host")
    return request.headers.get("sec-fetch-site", "none") in ("same-origin", "none")


async def in_words(_request: Request, error: Exception) -> JSONResponse:
    """Errors meant for a person, with their sentence."""
    assert isinstance(error, IspettoreError)
    return JSONResponse({"error": error.sentence}, status_code=STATUS.get(type(error), 422))


def build() -> FastAPI:
    """The application, for the server, the tests and the description of the interface."""
    live = Live()
    incoming = Incoming(settings().incoming)

    @asynccontextmanager
    async def running(app: FastAPI) -> AsyncIterator[None]:
        app.state.store = Store(settings().store)
        await run_in_threadpool(incoming.sweep, app.state.store)
        await run_in_threadpool(catch_up)
        async with live.listening():
            yield

    app = FastAPI(title="Ispettore", version="1", lifespan=running, docs_url=None, redoc_url=None, openapi_url="/api/openapi.json")
    app.state.live = live
    app.add_exception_handler(IspettoreError, in_words)
    for part in (explaining, productions, recordings, resumable, specifications, verifyings, works):
        app.include_router(part.routes, prefix="/api")

    app.include_router(resumable.router(incoming), include_in_schema=False)

    @app.get("/api/health", operation_id="health")
    async def health() -> dict[str, str]:
        return {"state": "up"}

    folder = settings().frontend
    if (folder / "assets").is_dir():
        app.mount("/assets", StaticFiles(directory=folder / "assets"))

    @app.get("/", include_in_schema=False)
    async def index() -> FileResponse:
        return FileResponse(folder / "index.html", headers={"cache-control": "no-cache"})

    @app.get("/icon.svg", include_in_schema=False)
    async def icon() -> FileResponse:
        return FileResponse(folder / "icon.svg")

    app.add_middleware(Guard)
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=settings().allowed_hosts.split(","))
    return app
