"""Routes: following and cancelling background work."""

import time
from collections.abc import AsyncIterator
from uuid import UUID

from fastapi import APIRouter, Request
from sse_starlette.sse import EventSourceResponse

from ispettore.studio.events import Notice
from ispettore.studio.jobs import works
from ispettore.web.admission import still_in
from ispettore.web.live import Live

LOOK_EVERY_S = 60
routes = APIRouter()


@routes.post("/works/{work_id}/cancel", operation_id="cancelWork", status_code=202)
def cancel_work(work_id: UUID) -> None:
    works.cancel(work_id)


class Stream(EventSourceResponse):
    """Server-sent events; each one's data is a `Notice` as JSON."""

    media_type = "text/event-stream"


_FAILED = {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/Failed"}}}}


@routes.get(
    "/events",
    operation_id="listenToChanges",
    response_class=Stream,
    responses={200: {"model": Notice}, 422: _FAILED, "default": _FAILED},
)
async def events(request: Request) -> EventSourceResponse:
    """What changes, as it changes, for as long as somebody listens."""
    live: Live = request.app.state.live
    return EventSourceResponse(_while_let_in(request, live), ping=15)


async def _while_let_in(request: Request, live: Live) -> AsyncIterator[dict[str, str]]:
    """Changes as events, until whoever listens is let in no more: looked at when anybody's access changes, and each minute."""
    looked = time.monotonic()
    async for message in live.messages():
        if '"about":"access"' in message or time.monotonic() - looked > LOOK_EVERY_S:
            if not await still_in(request.scope):
                return
            looked = time.monotonic()
        yield {"data": message}
