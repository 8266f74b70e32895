"""A request's body, streamed into the store."""

from fastapi import Request
from starlette.concurrency import run_in_threadpool

from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Blob, Store, TooLarge


async def into_store(request: Request, name: str) -> Blob:
    """Write the body to the store as it arrives. Raises TooLarge before reading where the length is announced."""
    store: Store = request.app.state.store
    limit = settings().largest_upload_bytes
    if int(request.headers.get("content-length", 0)) > limit:
        raise TooLarge(file=name, limit_gb=limit / 1024**3)
    writer = await run_in_threadpool(store.writer, name=name, limit_bytes=limit)
    try:
        async for chunk in request.stream():
            if chunk:
                await run_in_threadpool(writer.write, chunk)
        return await run_in_threadpool(writer.finish)
    except BaseException:
        writer.abandon()
        raise
