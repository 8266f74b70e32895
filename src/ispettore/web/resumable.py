"""Resumable uploads: the open tus protocol (version 1.0.0) over the folder of files on their way in."""

import asyncio
import contextlib
import os
from collections import defaultdict
from collections.abc import AsyncIterator, Callable, Coroutine
from pathlib import PurePath
from typing import Any, BinaryIO
from uuid import UUID

from fastapi import APIRouter, HTTPException, Request
from pydantic import BaseModel
from starlette.concurrency import run_in_threadpool
from tuspyserver import create_tus_router
from tuspyserver.storage import TusStorage

from ispettore.studio.catalogue.incoming import KEEP_DAYS, UID, Incoming
from ispettore.studio.catalogue.views import UnfinishedUpload
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import Store

PREFIX = "api/uploads"
routes = APIRouter()


class UploadLimits(BaseModel):
    """What a page says before it sends anything."""

    largest_bytes: int


@routes.get("/uploads/limits", operation_id="getUploadLimits")
def get_limits() -> UploadLimits:
    return UploadLimits(largest_bytes=settings().largest_upload_bytes)


@routes.get("/productions/{production_id}/uploads", operation_id="listUnfinishedUploads")
def list_unfinished(production_id: UUID) -> list[UnfinishedUpload]:
    return Incoming(settings().incoming).unfinished(production_id)


@routes.get("/uploads/set-aside", operation_id="listSetAside")
def list_set_aside() -> list[UnfinishedUpload]:
    return Incoming(settings().incoming).set_aside()


@routes.delete("/uploads/set-aside/{upload_id}", operation_id="discardSetAside", status_code=204)
def discard_set_aside(upload_id: str) -> None:
    Incoming(settings().incoming).discard(upload_id)


class Pieces(TusStorage):
    """Writes each piece as it arrives and syncs before an offset is told.

    After a kill in mid-request the file may hold more than was noted: each request first cuts it back to the noted offset.
    """

    def __init__(self, incoming: Incoming) -> None:
        self._incoming = incoming
        self._open: dict[str, BinaryIO] = {}
        self._locks: defaultdict[str, asyncio.Lock] = defaultdict(asyncio.Lock)

    async def create(self, uid: str) -> None:
        await asyncio.to_thread(self._incoming.create, uid)

    async def exists(self, uid: str) -> bool:
        return bool(UID.match(uid)) and await asyncio.to_thread(self._incoming.path(uid).exists)

    async def size(self, uid: str) -> int:
        info = await self.read_info(uid)
        return int(info["offset"]) if info else 0

    async def append(self, uid: str, chunk: bytes) -> None:
        if uid not in self._open:
            self._open[uid] = await asyncio.to_thread(self._incoming.at_offset, uid)
        with disk.in_words("the file"):
            await asyncio.to_thread(self._open[uid].write, chunk)

    async def flush(self, uid: str) -> None:
        file = self._open.pop(uid, None)
        if file is not None:
            with disk.in_words("the file"):
                await asyncio.to_thread(_synced, file)

    async def finalize(self, uid: str) -> None:
        """Nothing: the file is whole as it stands."""

    async def read(self, uid: str) -> bytes | None:
        """Never asked for: a recording does not fit into memory."""
        return None

    async def delete(self, uid: str) -> None:
        await asyncio.to_thread(self._incoming.discard, uid)
        self._locks.pop(uid, None)

    async def read_info(self, uid: str) -> dict[str, Any] | None:
        return await asyncio.to_thread(self._incoming.info, uid)

    async def write_info(self, uid: str, data: dict[str, Any]) -> None:
        await asyncio.to_thread(self._incoming.note_progress, uid, data)

    async def list_uids(self) -> list[str]:
        return await asyncio.to_thread(self._incoming.uids)

    def location(self, uid: str) -> str:
        return str(self._incoming.path(uid))

    @contextlib.asynccontextmanager
    async def lock(self, uid: str) -> AsyncIterator[None]:  # type: ignore[override]
        async with self._locks[uid]:
            try:
                yield
            finally:
                # What a refused or failed request wrote is not noted, and the next one cuts it off.
                left = self._open.pop(uid, None)
                if left is not None:
                    left.close()


def _synced(file: BinaryIO) -> None:
    with file:
        file.flush()
        os.fsync(file.fileno())


def _plain(request: Request) -> None:
    """Only what the page needs of the protocol: no file in the creating request, no parts put together."""
    if request.method == "POST" and (request.headers.get("content-length", "0") != "0" or "upload-concat" in request.headers):
        raise HTTPException(status_code=400, detail="Create the upload first, then send the file in PATCH requests.")


def _before(incoming: Incoming) -> Callable[..., Callable[..., Coroutine[Any, Any, None]]]:
    def dependency() -> Callable[..., Coroutine[Any, Any, None]]:
        async def allow(metadata: dict[str, Any], facts: dict[str, Any]) -> None:
            await run_in_threadpool(incoming.allow, metadata, None if facts["defer_length"] else facts["size"])

        return allow

    return dependency


def _after(incoming: Incoming) -> Callable[..., Callable[..., Coroutine[Any, Any, None]]]:
    def dependency(request: Request) -> Callable[..., Coroutine[Any, Any, None]]:
        store: Store = request.app.state.store

        async def done(path: str, _metadata: dict[str, Any]) -> None:
            await run_in_threadpool(incoming.finish, PurePath(path).name, store)

        return done

    return dependency


def router(incoming: Incoming) -> APIRouter:
    """The protocol's own routes."""
    # Its hooks are typed narrower than what it calls.
    more: Any = {"auth": _plain, "pre_create_dep": _before(incoming), "upload_complete_dep": _after(incoming)}
    made: APIRouter = create_tus_router(
        prefix=PREFIX,
        files_dir=str(incoming.folder),
        max_size=max(settings().largest_upload_bytes, settings().largest_archive_bytes),
        days_to_keep=KEEP_DAYS,
        storage=Pieces(incoming),
        **more,
    )
    return made
