"""Sound under the voice: what lies under a recording or a production, and the files that can be laid."""

from typing import Annotated, Any
from uuid import UUID

from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.studio.catalogue import laying, rehearsals
from ispettore.studio.catalogue.incoming import allowed_name
from ispettore.studio.catalogue.laying import BedView
from ispettore.studio.store.blobs import Blob
from ispettore.web.productions import Made
from ispettore.web.recordings import DEFLATED, FOR_GOOD
from ispettore.web.transfer import RAW_BODY
from ispettore.web.uploading import into_store
from ispettore.web.values import Count, Moment

routes = APIRouter()
Name = Annotated[str, Query(min_length=1, max_length=255)]
Length = Annotated[float, Query(gt=0, le=rehearsals.LONGEST_S)]
State = Annotated[str, Field(max_length=64)]
LARGEST_BYTES = 4 * 1024**3
"""Three hours of stereo at 48 kHz as 32-bit numbers."""


class LaidBed(BaseModel):
    """What is to lie under the voice, as the settings of a step, and the state of what was looked at."""

    bed: dict[str, Any]
    follows: State


class BedState(BaseModel):
    """What tells a bed from another."""

    state: str


class BedStep(BaseModel):
    """The state that was looked at."""

    follows: State


@routes.get("/recordings/{recording_id}/bed", operation_id="getBed")
def get_bed(recording_id: UUID) -> BedView:
    return laying.view(recording_id)


@routes.put("/recordings/{recording_id}/bed", operation_id="layBed")
def lay_bed(recording_id: UUID, wanted: LaidBed) -> BedView:
    """For this recording alone; a bed without any sounds leaves nothing under it."""
    laying.change(recording_id, wanted.bed, follows=wanted.follows)
    return laying.view(recording_id)


@routes.post("/recordings/{recording_id}/bed/shared", operation_id="shareBed")
def share_bed(recording_id: UUID, step: BedStep) -> BedView:
    """What lies under the production lies under this recording again."""
    laying.change(recording_id, None, follows=step.follows)
    return laying.view(recording_id)


@routes.put("/productions/{production_id}/bed", operation_id="layBedUnderAll")
def lay_bed_under_all(production_id: UUID, wanted: LaidBed) -> BedState:
    """For every recording of the production that has nothing of its own."""
    return BedState(state=laying.change_all(production_id, wanted.bed, follows=wanted.follows))


@routes.get("/recordings/{recording_id}/bed/sound", operation_id="hearBed", response_class=Response)
def hear_bed(recording_id: UUID, request: Request, turn: Count, at_s: Moment, length_s: Length) -> Response:
    """The recording with its bed: interleaved 32-bit little-endian floats; their rate and channels stand in the headers."""
    heard = rehearsals.with_bed(recording_id, request.app.state.store, turn=turn, at_s=at_s, length_s=length_s)
    headers = {"x-channels": str(heard.channels), "x-rate": str(heard.sample_rate_hz), "cache-control": "no-store"}
    return Response(heard.samples, media_type="application/octet-stream", headers=headers)


@routes.get("/recordings/{recording_id}/bed/lowering", operation_id="foreseeLowering", response_class=Response)
def foresee_lowering(recording_id: UUID, request: Request) -> Response:
    """How far the voice will lower the bed, as the gain of an attempt is told."""
    content = laying.will_lower(recording_id, request.app.state.store)
    return Response(content, media_type="application/octet-stream", headers=DEFLATED | {"cache-control": "no-store"})


@routes.get("/conformings/{conforming_id}/lowering", operation_id="getLowering", response_class=Response)
def get_lowering(conforming_id: UUID) -> Response:
    """How far the voice lowered the bed in an attempt."""
    return Response(laying.lowered(conforming_id), media_type="application/octet-stream", headers=DEFLATED | FOR_GOOD)


@routes.put("/productions/{production_id}/bed-sounds", operation_id="addBedSound", status_code=202, openapi_extra=RAW_BODY)
async def add_bed_sound(production_id: UUID, name: Name, request: Request) -> Made:
    """A file that can be laid under voices of the production once it is measured."""
    await run_in_threadpool(laying.expected, production_id)

    def named(blob: Blob) -> UUID:
        return laying.add(production_id, name, blob)

    return Made(id=await into_store(request, allowed_name(name), named, limit_bytes=LARGEST_BYTES))


@routes.delete("/bed-sounds/{sound_id}", operation_id="removeBedSound", status_code=204)
def remove_bed_sound(sound_id: UUID) -> None:
    laying.remove(sound_id)
