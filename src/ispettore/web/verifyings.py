"""Routes: checking a certificate against a file."""

from uuid import UUID

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.studio.catalogue import verifyings
from ispettore.studio.catalogue.views import VerifyingView
from ispettore.web.productions import Made
from ispettore.web.transfer import RAW_BODY
from ispettore.web.uploading import into_store

routes = APIRouter()


class NewVerifying(BaseModel):
    file_name: str = Field(min_length=1, max_length=255)
    certificate_name: str = Field(min_length=1, max_length=255)
    certificate: str = Field(max_length=2_000_000)


@routes.post("/verifyings", operation_id="createVerifying", status_code=201)
def create_verifying(new: NewVerifying) -> Made:
    return Made(id=verifyings.create(new.file_name, new.certificate_name, new.certificate))


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
