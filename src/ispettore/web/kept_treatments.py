"""Routes: treatments that are kept, their versions and their files."""

import json
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.core.spec.changes import Change
from ispettore.core.treat import draft, keeping
from ispettore.core.treat.draft import MOST_STEPS, DraftStep
from ispettore.core.treat.keeping import Finish, KeptTreatment
from ispettore.studio.catalogue import treatments
from ispettore.studio.catalogue.treatment_views import ReadTreatment, TreatmentSummary, TreatmentView
from ispettore.web.transfer import RAW_BODY, named, read_within
from ispettore.web.treatments import readable
from ispettore.web.values import Number

routes = APIRouter()


class ExaminedSteps(BaseModel):
    """Steps as they are edited."""

    steps: list[DraftStep] = Field(max_length=MOST_STEPS)


class NextVersion(ExaminedSteps):
    """A kept treatment as it is to be from its next version on; `follows` is the one that was changed."""

    name: str = Field(max_length=200)
    description: str = Field("", max_length=2_000)
    finish: Finish
    voice_dbfs: float | None = Field(None, ge=-100, le=0)
    follows: int = Field(ge=1)


class CopyName(BaseModel):
    """What a copy is to be called."""

    name: str = Field(max_length=200)


@routes.get("/treatments", operation_id="listTreatments")
def list_treatments() -> list[TreatmentSummary]:
    return treatments.all_kept()


@routes.get("/treatment.schema.json", operation_id="getTreatmentSchema")
def get_schema() -> dict[str, Any]:
    return keeping.schema()


@routes.post("/treatments/examine", operation_id="examineTreatment")
def examine(examined: ExaminedSteps) -> ReadTreatment:
    return treatments.examine(readable(examined.steps))


@routes.put("/treatments/file", operation_id="bringInTreatment", status_code=201, openapi_extra=RAW_BODY)
async def bring_in(request: Request, name: Annotated[str, Query(min_length=1, max_length=255)]) -> KeptTreatment:
    text = await read_within(request, keeping.LARGEST_BYTES)
    return await run_in_threadpool(treatments.bring_in, text, file_name=name)


@routes.get("/treatments/{identifier}", operation_id="getTreatment")
def get_treatment(identifier: str) -> TreatmentView:
    return treatments.view(identifier)


@routes.put("/treatments/{identifier}", operation_id="keepTreatment")
def keep_treatment(identifier: str, kept: NextVersion) -> KeptTreatment:
    steps = draft.treatment(readable(kept.steps)).steps
    return treatments.keep(identifier, steps=steps, **kept.model_dump(exclude={"steps"}))


@routes.post("/treatments/{identifier}/copy", operation_id="copyTreatment", status_code=201)
def copy_treatment(identifier: str, new: CopyName) -> KeptTreatment:
    return treatments.copy(identifier, new.name)


@routes.post("/treatments/{identifier}/remove", operation_id="removeTreatment", status_code=204)
def remove_treatment(identifier: str) -> None:
    treatments.remove(identifier, removed=True)


@routes.post("/treatments/{identifier}/restore", operation_id="restoreTreatment", status_code=204)
def restore_treatment(identifier: str) -> None:
    treatments.remove(identifier, removed=False)


@routes.get("/treatments/{identifier}/changes", operation_id="compareTreatment")
def compare_treatment(identifier: str, before: Number, after: Number) -> list[Change]:
    return treatments.compare(identifier, before, after)


@routes.get("/treatments/{identifier}/{version}/file", operation_id="getTreatmentFile", response_class=Response)
def get_file(identifier: str, version: Number) -> Response:
    found = treatments.version(identifier, version)
    content = json.dumps(keeping.as_file(found), indent=2, ensure_ascii=False)
    return Response(content, media_type="application/json", headers=named(f"{found.id}.v{found.revision}.json"))
