"""Pictures that cost much: a few at a time, and none for a page that has gone."""

import asyncio
import threading
from collections.abc import Callable
from typing import Any, TypeVar

import anyio
from fastapi import Request

from ispettore.core.errors import Cancelled

AT_ONCE = 2
LOOK_S = 0.2
T = TypeVar("T")


def places() -> anyio.CapacityLimiter:
    """So many are worked out at once by a process."""
    return anyio.CapacityLimiter(AT_ONCE)


async def worked_out(request: Request, function: Callable[..., T], *arguments: Any, **named: Any) -> T:
    """What `function(…, cancelled=…)` returns, worked out in a thread when a place is free. Raises Cancelled once the page has
    gone."""
    gone = threading.Event()
    async with request.app.state.heavy:
        if await request.is_disconnected():
            raise Cancelled
        watching = asyncio.create_task(_watch(request, gone))
        try:
            return await anyio.to_thread.run_sync(lambda: function(*arguments, **named, cancelled=gone.is_set))
        finally:
            watching.cancel()


async def _watch(request: Request, gone: threading.Event) -> None:
    while not await request.is_disconnected():
        await asyncio.sleep(LOOK_S)
    gone.set()
