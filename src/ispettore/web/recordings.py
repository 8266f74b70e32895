"""Routes: one recording, conforming it, and what came of it."""

import io
import json
from typing import Annotated, Literal
from urllib.parse import quote
from uuid import UUID

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response, StreamingResponse
from pydantic import BaseModel

from ispettore.core.certify import report
from ispettore.core.measure import ribbon
from ispettore.studio import conformings, recordings, sounds
from ispettore.studio.errors import NotFound
from ispettore.studio.store import Store
from ispettore.studio.views import RecordingDetail
from ispettore.web.productions import Made

routes = APIRouter()
Start = Annotated[int, Query(ge=0)]
Frames = Annotated[int, Query(ge=1, le=sounds.LONGEST_FRAMES)]


class ConformRequest(BaseModel):
    """How to conform; `container` left out means what the specification asks for."""

    preference: Literal["light", "balanced", "even"] = "balanced"
    container: Literal["wav", "flac", "mp3"] | None = None


@routes.get("/recordings/{recording_id}", operation_id="getRecording")
def get_recording(recording_id: UUID) -> RecordingDetail:
    return recordings.detail(recording_id)


@routes.delete("/recordings/{recording_id}", operation_id="removeRecording", status_code=204)
def remove_recording(recording_id: UUID) -> None:
    recordings.remove(recording_id)


@routes.post("/recordings/{recording_id}/inspect", operation_id="inspectAgain", status_code=202)
def inspect_again(recording_id: UUID) -> None:
    recordings.inspect_again(recording_id)


@routes.post("/recordings/{recording_id}/conform", operation_id="conformRecording", status_code=202)
def conform_recording(recording_id: UUID, wanted: ConformRequest) -> Made:
    return Made(id=conformings.ask(recording_id, preference=wanted.preference, container=wanted.container))


@routes.get("/conformings/{conforming_id}/file", operation_id="getDeliverable", response_class=Response)
def get_deliverable(conforming_id: UUID, request: Request) -> StreamingResponse:
    conforming = conformings.get(conforming_id)
    if conforming.sha256 is None or conforming.file_name is None:
        raise NotFound(what="deliverable")
    store: Store = request.app.state.store
    headers = {**_named(conforming.file_name), "content-length": str(conforming.size_bytes)}
    return StreamingResponse(store.read(conforming.sha256), media_type="application/octet-stream", headers=headers)


@routes.get("/conformings/{conforming_id}/certificate", operation_id="getCertificate", response_class=Response)
def get_certificate(conforming_id: UUID) -> Response:
    conforming = conformings.get(conforming_id)
    if conforming.certificate is None or conforming.file_name is None:
        raise NotFound(what="certificate")
    text = json.dumps(conforming.certificate, ensure_ascii=False)
    name = f"{conforming.file_name}.certificate.json"
    return Response(text, media_type="application/json", headers=_named(name))


@routes.get("/conformings/{conforming_id}/certificate.pdf", operation_id="getPrintedCertificate", response_class=Response)
def get_printed_certificate(conforming_id: UUID) -> Response:
    conforming = conformings.get(conforming_id)
    if conforming.certificate is None or conforming.file_name is None:
        raise NotFound(what="certificate")
    page = io.BytesIO()
    report.write(conforming.certificate, ribbon.unpacked(conforming.ribbon) if conforming.ribbon else None, page)
    headers = _named(f"{conforming.file_name}.certificate.pdf")
    return Response(page.getvalue(), media_type="application/pdf", headers=headers)


@routes.get("/recordings/{recording_id}/sound", operation_id="getRecordingSound", response_class=Response)
def get_recording_sound(recording_id: UUID, request: Request, start: Start, frames: Frames) -> Response:
    return _sound(sounds.of_recording(recording_id, request.app.state.store, start=start, frames=frames))


@routes.get("/conformings/{conforming_id}/sound", operation_id="getDeliverableSound", response_class=Response)
def get_deliverable_sound(conforming_id: UUID, request: Request, start: Start, frames: Frames) -> Response:
    return _sound(sounds.of_deliverable(conforming_id, request.app.state.store, start=start, frames=frames))


def _sound(piece: sounds.Piece) -> Response:
    """Interleaved 32-bit little-endian floats; a piece of a file that never changes may be kept for ever."""
    headers = {"cache-control": "private, max-age=31536000, immutable", "x-channels": str(piece.samples.shape[1])}
    return Response(piece.samples.astype("<f4").tobytes(), media_type="application/octet-stream", headers=headers)


def _named(name: str) -> dict[str, str]:
    return {"content-disposition": f"attachment; filename*=UTF-8''{quote(name)}"}
