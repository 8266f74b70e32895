"""Routes: following and cancelling background work."""

from uuid import UUID

from fastapi import APIRouter, Request
from sse_starlette.sse import EventSourceResponse

from ispettore.studio.events import Notice
from ispettore.studio.jobs import works
from ispettore.web.live import Live

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
    return EventSourceResponse(({"data": message} async for message in live.messages()), ping=15)
