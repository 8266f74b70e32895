"""A request's body, streamed into the store."""

from collections.abc import Callable
from typing import TypeVar

from fastapi import Request
from starlette.concurrency import run_in_threadpool

from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Blob, BlobWriter, Store, TooLarge
from ispettore.studio.store.placing import placing

Named = TypeVar("Named")


async def into_store(request: Request, name: str, named: Callable[[Blob], Named], *, limit_bytes: int | None = None) -> Named:
    """Write the body to the store as it arrives, then have it named by a row. Raises TooLarge before reading where the length is
    announced, and what `named` raises."""
    store: Store = request.app.state.store
    limit = limit_bytes or settings().largest_upload_bytes
    if int(request.headers.get("content-length", 0)) > limit:
        raise TooLarge(file=name, limit_gb=limit / 1024**3)
    writer = await run_in_threadpool(store.writer, name=name, limit_bytes=limit)
    try:
        async for chunk in request.stream():
            if chunk:
                await run_in_threadpool(writer.write, chunk)
    except BaseException:
        writer.abandon()
        raise
    return await run_in_threadpool(_placed, writer, named)


def _placed(writer: BlobWriter, named: Callable[[Blob], Named]) -> Named:
    with placing():
        try:
            blob = writer.finish()
        except BaseException:
            writer.abandon()
            raise
        return named(blob)
