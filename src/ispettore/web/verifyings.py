"""Routes: checking a certificate against a file."""

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.studio.certifying import verifyings
from ispettore.studio.certifying.views import VerifyingView
from ispettore.web.productions import Made
from ispettore.web.transfer import RAW_BODY
from ispettore.web.uploading import into_store

routes = APIRouter()


class NewVerifying(BaseModel):
    """`certificate` is its JSON, or its PDF as a data URL; without a `file_name` it is checked alone. `notices` are sealed notices,
    as JSON."""

    file_name: str | None = Field(None, min_length=1, max_length=255)
    certificate_name: str = Field(min_length=1, max_length=255)
    certificate: str = Field(max_length=12_000_000)
    notices: list[Annotated[str, Field(max_length=20_000)]] = Field(default_factory=list, max_length=20)


@routes.post("/verifyings", operation_id="createVerifying", status_code=201)
def create_verifying(new: NewVerifying) -> Made:
    return Made(id=verifyings.create(new.file_name, new.certificate_name, new.certificate, new.notices))


@routes.put(
    "/verifyings/{verifying_id}/file",
    operation_id="attachFile",
    status_code=202,
    openapi_extra=RAW_BODY,
)
async def attach_file(verifying_id: UUID, request: Request) -> None:
    view = await run_in_threadpool(verifyings.view, verifying_id)
    await into_store(request, view.file_name, lambda blob: verifyings.attach(verifying_id, blob))


@routes.get("/verifyings/{verifying_id}", operation_id="getVerifying")
def get_verifying(verifying_id: UUID) -> VerifyingView:
    return verifyings.view(verifying_id)
