"""Routes: following and cancelling background work."""

from uuid import UUID

from fastapi import APIRouter, Request
from sse_starlette.sse import EventSourceResponse

from ispettore.studio import works
from ispettore.web.live import Live

routes = APIRouter()


@routes.post("/works/{work_id}/cancel", operation_id="cancelWork", status_code=202)
def cancel_work(work_id: UUID) -> None:
    works.cancel(work_id)


@routes.get("/events", include_in_schema=False)
async def events(request: Request) -> EventSourceResponse:
    live: Live = request.app.state.live
    return EventSourceResponse(({"data": message} async for message in live.messages()), ping=15)
