"""Routes: how the installation itself is, for people and for what watches machines; and failed work once more."""

import time
from uuid import UUID

from fastapi import APIRouter, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ispettore.studio.operating import metrics, standing
from ispettore.studio.operating.views import Operation, Ready
from ispettore.web.admission import operation_of

routes = APIRouter()


@routes.get("/ready", operation_id="getReady", responses={503: {"model": Ready}})
def get_ready(response: Response) -> Ready:
    found = standing.ready()
    response.status_code = 200 if found.ready else 503
    return found


@routes.get("/metrics", operation_id="getMetrics", response_class=Response)
def get_metrics() -> Response:
    return Response(metrics.written(), media_type=metrics.KIND)


@routes.get("/operation", operation_id="getOperation")
def get_operation() -> Operation:
    return standing.operation()


@routes.post("/works/{work_id}/again", operation_id="workAgain", status_code=202)
def work_again(work_id: UUID) -> None:
    standing.again(work_id)


class Counted:
    """Notes how long each request took until its answer began."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        begun = time.monotonic()

        async def noted(message: Message) -> None:
            if message["type"] == "http.response.start":
                operation = operation_of(scope) or "other"
                metrics.answered.labels(operation, str(message["status"])).observe(time.monotonic() - begun)
            await send(message)

        await self._app(scope, receive, noted)
