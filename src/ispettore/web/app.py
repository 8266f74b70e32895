"""The web application: what it is made of and how it guards itself."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from http import HTTPStatus
from typing import Literal

import structlog
from fastapi import Depends, FastAPI, Request, Response, WebSocket
from fastapi.exceptions import RequestValidationError
from fastapi.responses import FileResponse, JSONResponse
from pydantic import BaseModel
from sqlalchemy.exc import DataError
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.middleware.gzip import DEFAULT_EXCLUDED_CONTENT_TYPES, GZipMiddleware
from starlette.middleware.trustedhost import TrustedHostMiddleware

from ispettore.core.errors import ContentChanged, IspettoreError, KeyExposed, UnknownSpecification
from ispettore.core.spec.delivery import NotWritable
from ispettore.studio import database
from ispettore.studio.access.errors import (
    FirstAdministrator,
    InvitationEnded,
    LastAdministrator,
    NotAllowed,
    NotSignedIn,
    PasskeyRefused,
    SignInRefused,
    SignInTaken,
    TokenNotAllowed,
    TooManyAtOnce,
    TooManyTries,
)
from ispettore.studio.attending.folders import WatchedAlready
from ispettore.studio.catalogue import rehearsals, take_checks
from ispettore.studio.catalogue.incoming import Incoming
from ispettore.studio.catalogue.recordings import catch_up
from ispettore.studio.delivering import handing_over
from ispettore.studio.errors import (
    AlreadyErased,
    BedChanged,
    BedSoundInUse,
    BuiltIn,
    CertificateEnded,
    DraftChanged,
    EditsChanged,
    FileCleared,
    MadeOfOtherEdits,
    NoEditToUndo,
    NoLongerReplaceable,
    NotAlike,
    NotFailed,
    NotFound,
    NothingMade,
    NothingToEdit,
    NothingToJoin,
    NothingToUndo,
    NotReady,
    NotRemoved,
    OrderChanged,
    VersionChanged,
)
from ispettore.studio.jobs.decoding import decoders
from ispettore.studio.rehearsing.rehearser import Overtaken
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import NotInStore, Store, TooLarge
from ispettore.studio.store.disk import NoRoomLeft, StoreReadOnly
from ispettore.studio.store.shelves import StoreAway
from ispettore.studio.taking.errors import TakeEmpty, TakeGoesOn
from ispettore.web import (
    access,
    archives,
    beds,
    certificates,
    checking,
    delivering,
    editing,
    explaining,
    heavy,
    installation,
    kept_treatments,
    listening,
    operation,
    outside,
    productions,
    recordings,
    resumable,
    specifications,
    taking,
    treatments,
    verifyings,
    works,
)
from ispettore.web.admission import REFUSED, Admission, allowed
from ispettore.web.assets import ASK_FIRST, Assets
from ispettore.web.guarding import Bounds, Guard
from ispettore.web.live import Live
from ispettore.web.telling import Telling

log = structlog.get_logger()
STATUS = {
    NotFound: 404,
    UnknownSpecification: 404,
    OrderChanged: 409,
    NotReady: 409,
    VersionChanged: 409,
    BuiltIn: 409,
    NoLongerReplaceable: 409,
    DraftChanged: 409,
    EditsChanged: 409,
    BedChanged: 409,
    BedSoundInUse: 409,
    MadeOfOtherEdits: 409,
    NoEditToUndo: 409,
    NothingToJoin: 409,
    NotAlike: 409,
    NothingToEdit: 409,
    NothingToUndo: 409,
    Overtaken: 409,
    TakeGoesOn: 409,
    TakeEmpty: 409,
    TooLarge: 413,
    NoRoomLeft: 507,
    StoreReadOnly: 507,
    NotWritable: 409,
    ContentChanged: 410,
    NotInStore: 410,
    StoreAway: 503,
    FileCleared: 410,
    AlreadyErased: 410,
    NotRemoved: 409,
    NothingMade: 409,
    NotFailed: 409,
    NotSignedIn: 401,
    NotAllowed: 403,
    TokenNotAllowed: 403,
    SignInRefused: 403,
    PasskeyRefused: 403,
    TooManyTries: 429,
    TooManyAtOnce: 429,
    InvitationEnded: 410,
    SignInTaken: 409,
    WatchedAlready: 409,
    FirstAdministrator: 409,
    LastAdministrator: 409,
}


Act = Literal["again", "reload", "disk", "keys", "sign in"]
"""What helps after an error: to try the same again, to look at what is there now, to make room on the disk, to see to the keys, to
show who one is."""
ACTS: dict[type[Exception], Act] = {
    NotReady: "again",
    StoreAway: "again",
    Overtaken: "again",
    NotFound: "reload",
    OrderChanged: "reload",
    VersionChanged: "reload",
    DraftChanged: "reload",
    NoLongerReplaceable: "reload",
    NothingToUndo: "reload",
    CertificateEnded: "reload",
    NoRoomLeft: "disk",
    StoreReadOnly: "disk",
    KeyExposed: "keys",
    NotSignedIn: "sign in",
}


async def in_words(asked: Request | WebSocket, error: Exception) -> JSONResponse:
    """Errors meant for a person, with their sentence; before a socket is open its page sees only that it is refused."""
    if isinstance(asked, WebSocket):
        await asked.close(REFUSED)
    return refusal(error)


def refusal(error: Exception) -> JSONResponse:
    """The same as an answer, also where no route was reached yet; anything else means that the database is away."""
    if isinstance(error, IspettoreError):
        return _said(error.sentence, STATUS.get(type(error), 422), ACTS.get(type(error)))
    return _said("The database is not answering. It restarts by itself; try again in a moment.", 503, "again")


async def not_understood(_request: Request, error: Exception) -> JSONResponse:
    """A request that is not as it should be: where and why, never what it held."""
    assert isinstance(error, RequestValidationError)
    first = error.errors()[0]
    if first["type"] == "json_invalid":
        return _said(WORDS[400], 422)
    where = " → ".join(str(part) for part in first["loc"][1:])  # the first says whether it was the body or the address
    said = str(first["msg"]).removeprefix("Value error, ")
    return _said(f"This can't be used: {f'{where}: ' if where else ''}{said[:1].lower()}{said[1:].rstrip('.')}.", 422)


async def refused_by_disk(_request: Request, error: Exception) -> JSONResponse:
    """What the operating system refused: full or read-only disks in words."""
    assert isinstance(error, OSError)
    said = disk.told(error, "what was to be kept")
    if said is None:
        log.exception("the operating system refused something", exc_info=error)
        return _said("Something went wrong; the log has the details. Try again.", 500, "again")
    return _said(said.sentence, STATUS.get(type(said), 500), ACTS.get(type(said)))


async def not_answered(_request: Request, error: Exception) -> JSONResponse:
    """What the framework refuses by itself: an address that leads nowhere, a body that can't be read."""
    assert isinstance(error, HTTPException)
    plain = error.detail in (HTTPStatus(error.status_code).phrase, UNREADABLE)
    answer = _said(WORDS.get(error.status_code, "This was refused.") if plain else str(error.detail), error.status_code)
    answer.headers.update(error.headers or {})
    return answer


async def beyond(_request: Request, _error: Exception) -> JSONResponse:
    """What the database can't keep, however it came there."""
    return _said("A number or text here is beyond what can be kept.", 422)


async def unexpected(_request: Request, _error: Exception) -> JSONResponse:
    """Whatever nobody thought of: the log has it, the answer not."""
    return _said("Something went wrong; the log has the details. Try again.", 500, "again")


UNREADABLE = "There was an error parsing the body"
WORDS = {
    400: "What was sent can't be read: it is not JSON.",
    404: "There is nothing at this address.",
    405: "This can't be done at this address.",
}
COMPRESSION = 5
AS_THEY_ARE = (
    *DEFAULT_EXCLUDED_CONTENT_TYPES,
    "application/octet-stream",
    "application/pdf",
    "application/zip",
    "image/",
    "audio/",
)
"""Kinds of answers that are sent as they are: sound and files, what is compressed already, and events, which must not wait."""


class Failed(BaseModel):
    """Every answer that is none: what happened, to what, why, and what to do; `act` is what a page can offer to do about it."""

    error: str
    act: Act | None = None


def _said(sentence: str, status: int, act: Act | None = None) -> JSONResponse:
    return JSONResponse(Failed(error=sentence, act=act).model_dump(exclude_none=True), status_code=status)


class Health(BaseModel):
    """Whether everything a page needs is there."""

    state: Literal["up", "database away"]


def build() -> FastAPI:
    """The application, for the server, the tests and the description of the interface."""
    live = Live()
    incoming = Incoming(settings().incoming)

    @asynccontextmanager
    async def running(app: FastAPI) -> AsyncIterator[None]:
        app.state.store = Store(settings().store)
        app.state.heavy = heavy.places()
        await run_in_threadpool(app.state.store.sweep)
        await run_in_threadpool(incoming.sweep, app.state.store)
        await run_in_threadpool(handing_over.sweep)
        await run_in_threadpool(catch_up)
        rehearsals.rehearsers()  # made before two requests could each make their own
        take_checks.listener()
        async with live.listening():
            yield
        rehearsals.rehearsers().close()
        rehearsals.rehearsers.cache_clear()
        take_checks.listener().close()
        take_checks.listener.cache_clear()
        decoders().close()

    app = FastAPI(
        title="Ispettore",
        version="1",
        lifespan=running,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
        dependencies=[Depends(allowed)],
        responses={422: {"model": Failed}, "default": {"model": Failed}},
    )
    app.state.live = live
    app.add_exception_handler(IspettoreError, in_words)
    app.add_exception_handler(RequestValidationError, not_understood)
    for gone in database.GONE:
        app.add_exception_handler(gone, in_words)
    app.add_exception_handler(OSError, refused_by_disk)
    app.add_exception_handler(HTTPException, not_answered)
    app.add_exception_handler(DataError, beyond)
    app.add_exception_handler(Exception, unexpected)
    for part in (
        access,
        archives,
        beds,
        certificates,
        checking,
        delivering,
        explaining,
        installation,
        editing,
        kept_treatments,
        listening,
        operation,
        outside,
        productions,
        recordings,
        resumable,
        specifications,
        taking,
        treatments,
        verifyings,
        works,
    ):
        app.include_router(part.routes, prefix="/api")

    app.include_router(access.starting, include_in_schema=False)
    app.include_router(resumable.router(incoming), include_in_schema=False)

    @app.get("/api/health", operation_id="health")
    def health(response: Response) -> Health:
        if database.answers():
            return Health(state="up")
        response.status_code = 503
        return Health(state="database away")

    folder = settings().frontend
    if (folder / "assets").is_dir():
        app.mount("/assets", Assets(folder / "assets"))

    @app.get("/", include_in_schema=False)
    async def index() -> FileResponse:
        return FileResponse(folder / "index.html", headers={"cache-control": ASK_FIRST})

    @app.get("/icon.svg", include_in_schema=False)
    async def icon() -> FileResponse:
        return FileResponse(folder / "icon.svg", headers={"cache-control": ASK_FIRST})

    app.add_middleware(Telling)
    app.add_middleware(operation.Counted)
    app.add_middleware(GZipMiddleware, compresslevel=COMPRESSION, exclude_content_types=AS_THEY_ARE)
    app.add_middleware(Bounds)
    app.add_middleware(Admission, refusal=refusal)
    app.add_middleware(Guard)
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=settings().allowed_hosts.split(","))
    return app
