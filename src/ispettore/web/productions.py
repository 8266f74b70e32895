"""Routes: productions, their sheets, and the specifications they may use."""

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.core.spec.specification import Specification
from ispettore.studio import productions, recordings, specifications
from ispettore.studio.views import ProductionSummary, ProductionView
from ispettore.web.uploading import into_store

routes = APIRouter()


class Made(BaseModel):
    """What was made."""

    id: UUID


class NewProduction(BaseModel):
    name: str = Field(min_length=1, max_length=120)
    specification_id: str


class ChangedProduction(BaseModel):
    specification_id: str


@routes.get("/specifications", operation_id="listSpecifications")
def list_specifications() -> list[Specification]:
    return specifications.all_specifications()


@routes.get("/productions", operation_id="listProductions")
def list_productions() -> list[ProductionSummary]:
    return productions.summaries()


@routes.post("/productions", operation_id="createProduction", status_code=201)
def create_production(new: NewProduction) -> Made:
    return Made(id=productions.create(new.name, new.specification_id))


@routes.get("/productions/{production_id}", operation_id="getProduction")
def get_production(production_id: UUID) -> ProductionView:
    return productions.sheet(production_id)


@routes.patch("/productions/{production_id}", operation_id="changeProduction", status_code=204)
def change_production(production_id: UUID, change: ChangedProduction) -> None:
    productions.set_specification(production_id, change.specification_id)


@routes.put(
    "/productions/{production_id}/recordings",
    operation_id="addRecording",
    status_code=201,
    openapi_extra={"requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}},
)
async def add_recording(production_id: UUID, request: Request, name: Annotated[str, Query(min_length=1, max_length=255)]) -> Made:
    blob = await into_store(request, name)
    return Made(id=await run_in_threadpool(recordings.add, production_id, name, blob))
