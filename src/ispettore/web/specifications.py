"""Routes: specifications, their versions, and their files."""

import json
from typing import Annotated, Any

from fastapi import APIRouter, Body, Query, Request, Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.core.spec import catalogue
from ispettore.core.spec.changes import Change
from ispettore.core.spec.specification import Specification
from ispettore.studio.catalogue import specifications
from ispettore.studio.catalogue.views import Examined, SpecificationView
from ispettore.web.transfer import RAW_BODY, named, read_within
from ispettore.web.values import Number

routes = APIRouter()

Draft = Annotated[dict[str, Any], Body(description="A specification as JSON, finished or not.")]


class NewCopy(BaseModel):
    """A specification of one's own that starts as a copy."""

    name: str = Field(min_length=1, max_length=80)


class Kept(BaseModel):
    """A draft to be kept as the version after the one it was made from."""

    follows: int
    draft: dict[str, Any]


@routes.get("/specifications", operation_id="listSpecifications")
def list_specifications() -> list[Specification]:
    return specifications.all_specifications()


@routes.get("/specification.schema.json", operation_id="getSpecificationSchema")
def get_schema() -> dict[str, Any]:
    return catalogue.schema()


@routes.post("/specifications/examine", operation_id="examineSpecification")
def examine(draft: Draft) -> Examined:
    return specifications.examine(draft)


@routes.put(
    "/specifications/file",
    operation_id="bringInSpecification",
    status_code=201,
    openapi_extra=RAW_BODY,
)
async def bring_in(request: Request, name: Annotated[str, Query(min_length=1, max_length=255)]) -> Specification:
    text = await read_within(request, catalogue.LARGEST_BYTES)
    return await run_in_threadpool(specifications.bring_in, text, file_name=name)


@routes.get("/specifications/{identifier}", operation_id="getSpecification")
def get_specification(identifier: str) -> SpecificationView:
    return specifications.view(identifier)


@routes.put("/specifications/{identifier}", operation_id="keepSpecification")
def keep_specification(identifier: str, kept: Kept) -> Specification:
    return specifications.keep(identifier, kept.draft, follows=kept.follows)


@routes.post("/specifications/{identifier}/copy", operation_id="copySpecification", status_code=201)
def copy_specification(identifier: str, new: NewCopy) -> Specification:
    return specifications.copy(identifier, new.name)


@routes.post("/specifications/{identifier}/remove", operation_id="removeSpecification", status_code=204)
def remove_specification(identifier: str) -> None:
    specifications.remove(identifier, removed=True)


@routes.post("/specifications/{identifier}/restore", operation_id="restoreSpecification", status_code=204)
def restore_specification(identifier: str) -> None:
    specifications.remove(identifier, removed=False)


@routes.get("/specifications/{identifier}/changes", operation_id="compareSpecification")
def compare_specification(identifier: str, before: Number, after: Number) -> list[Change]:
    return specifications.compare(identifier, before, after)


@routes.get("/specifications/{identifier}/{version}", operation_id="getSpecificationVersion")
def get_version(identifier: str, version: Number) -> Specification:
    return specifications.version(identifier, version)


@routes.get("/specifications/{identifier}/{version}/file", operation_id="getSpecificationFile", response_class=Response)
def get_file(identifier: str, version: Number) -> Response:
    found = specifications.version(identifier, version)
    data = {"$schema": catalogue.schema()["$id"], **found.model_dump(mode="json", exclude_defaults=True), "version": found.version}
    headers = named(f"{found.id}.v{found.version}.json")
    return Response(json.dumps(data, indent=2, ensure_ascii=False), media_type="application/json", headers=headers)
