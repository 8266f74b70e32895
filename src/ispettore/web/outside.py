"""Routes: folders that are watched, and addresses that are told how recordings stand."""

from uuid import UUID

from fastapi import APIRouter
from pydantic import BaseModel, Field

from ispettore.studio.attending import folders, hooks
from ispettore.studio.attending.views import MadeWebhook, Outside
from ispettore.studio.database import transaction
from ispettore.web.productions import Made

routes = APIRouter(prefix="/outside")


class WatchFolder(BaseModel):
    """A folder of the server's machine by its whole path, and what is to be done with what lands there; `results` is another such
    folder, or empty."""

    path: str = Field(max_length=folders.LONGEST)
    production_id: UUID
    conform: bool = False
    results: str = Field("", max_length=folders.LONGEST)


class NewWebhook(BaseModel):
    """An address to be told, of one production or (None) of all."""

    url: str = Field(max_length=hooks.LONGEST)
    production_id: UUID | None = None


@routes.get("", operation_id="getOutside")
def get_outside() -> Outside:
    with transaction() as session:
        return Outside(folders=folders.listed(session), webhooks=hooks.listed(session))


@routes.post("/folders", operation_id="watchFolder", status_code=201)
def watch_folder(asked: WatchFolder) -> Made:
    return Made(id=folders.watch(asked.path, asked.production_id, conform=asked.conform, results=asked.results))


@routes.delete("/folders/{folder_id}", operation_id="stopWatching", status_code=204)
def stop_watching(folder_id: UUID) -> None:
    folders.stop(folder_id)


@routes.post("/webhooks", operation_id="addWebhook", status_code=201)
def add_webhook(asked: NewWebhook) -> MadeWebhook:
    return hooks.add(asked.url, asked.production_id)


@routes.delete("/webhooks/{hook_id}", operation_id="removeWebhook", status_code=204)
def remove_webhook(hook_id: UUID) -> None:
    hooks.remove(hook_id)


@routes.post("/webhooks/{hook_id}/again", operation_id="tryWebhook", status_code=202)
def try_webhook(hook_id: UUID) -> None:
    hooks.again(hook_id)
