"""Routes: one recording, conforming it, and what came of it."""

import io
from collections.abc import Iterator
from typing import Annotated, Literal
from uuid import UUID

from fastapi import APIRouter, Depends, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field

from ispettore.core.audio.formats import FormatName
from ispettore.core.certify import blind, recording_report
from ispettore.core.measure import pyramid
from ispettore.core.measure.reading import Reading, Span
from ispettore.core.measure.turns import Turn
from ispettore.core.plan.preferences import Preference
from ispettore.studio.catalogue import (
    acceptances,
    conformings,
    pictures,
    recordings,
    room_tones,
    samples,
    searching,
    sounds,
    together,
    turns,
    versions,
)
from ispettore.studio.catalogue.drawn import Drawn
from ispettore.studio.catalogue.searching import FoundRecording
from ispettore.studio.catalogue.turns import TurnsView
from ispettore.studio.catalogue.versions import VersionsCompared
from ispettore.studio.catalogue.views import AskedEach, ChosenToneView, DraftView, FindingPlace, RecordingDetail
from ispettore.studio.certifying import printing
from ispettore.studio.errors import FileCleared, NotFound
from ispettore.studio.store.blobs import Store
from ispettore.web.heavy import worked_out
from ispettore.web.productions import Made
from ispettore.web.transfer import named, ranged
from ispettore.web.values import Moment, Number, Stretch

routes = APIRouter()
Start = Annotated[int, Query(ge=0)]
Frames = Annotated[int, Query(ge=1, le=sounds.LONGEST_FRAMES)]
Named = Annotated[str, Query(max_length=80)]
Columns = Annotated[int, Query(ge=10, le=2_000)]
Rows = Annotated[int, Query(ge=10, le=600)]
Rounds = Annotated[int, Query(ge=blind.FEWEST, le=blind.MOST)]


class ChosenFindings(BaseModel):
    """Several findings of one recording."""

    findings: list[FindingPlace] = Field(min_length=1, max_length=10_000)


class AcceptedFindings(ChosenFindings):
    """Findings that may stand, and why."""

    reason: str = Field(max_length=500)


FOR_GOOD = {"cache-control": "private, max-age=31536000, immutable"}
NOT_KEPT = {"cache-control": "no-store"}
DEFLATED = {"content-encoding": "deflate"}


def _kept(recording_id: UUID, known_as: Annotated[str, Query(alias="as", max_length=64)] = "") -> dict[str, str]:
    """How long a browser may keep what it is given of a recording: for good where it names the sound, as edits change that."""
    return FOR_GOOD if known_as and recordings.known_as(recording_id) == known_as else NOT_KEPT


Kept = Annotated[dict[str, str], Depends(_kept)]
"""A recording never changes, and neither do its pictures; they are kept as they are sent."""


class RibbonShape(BaseModel):
    """A level ribbon at every zoom: columns of each level from the finest (5 ms), each `factor` times coarser than the last."""

    columns: list[int]
    factor: int
    tile: int


class ConformRequest(BaseModel):
    """How to conform; `preference` left out means the usual plan, `container` what the specification asks for."""

    preference: Preference | None = None
    container: FormatName | None = None


class RecordingName(BaseModel):
    """What a recording is to be called."""

    name: str = Field(max_length=255)


class CorrectedTurns(BaseModel):
    """Who speaks when, from the start of the recording to its end."""

    turns: list[Turn] = Field(max_length=10_000)


class WantedMatch(BaseModel):
    """Which voice the other is brought to, or which recording both are; in level, and in `tone` if that is wanted. `follows` is the
    state of the draft."""

    toward: int = Field(0, ge=0, le=1)
    tone: bool = False
    like: UUID | None = None
    follows: int


class WantedSample(BaseModel):
    """Which stretch shops are to play, and over how long it is faded in and out."""

    start_s: float = Field(ge=0)
    end_s: float = Field(ge=0)
    fade_in_s: float = Field(0.5, ge=0, le=30)
    fade_out_s: float = Field(2.0, ge=0, le=30)


class Chosen(BaseModel):
    """Several recordings at once."""

    recordings: list[UUID] = Field(min_length=1, max_length=10_000)


class ConformEach(Chosen):
    """How to conform several: by plans of a preference (the usual one, where none is named), or by a kept treatment (its
    identifier), with a reference level put in where it lacks one if `reference` is true. `container` left out means what the
    specification asks for."""

    preference: Preference | None = None
    treatment: str | None = None
    reference: bool = False
    container: FormatName | None = None


class HandedOver(Chosen):
    """Recordings whose files were delivered, or were not after all."""

    delivered: bool


class Cancelled(BaseModel):
    """How many pieces of work were cancelled."""

    count: int


@routes.get("/recordings/{recording_id}", operation_id="getRecording")
def get_recording(recording_id: UUID) -> RecordingDetail:
    return recordings.detail(recording_id)


@routes.get("/recordings", operation_id="searchRecordings")
def search_recordings(words: Annotated[str, Query(max_length=200)]) -> list[FoundRecording]:
    return searching.recordings(words)


@routes.patch("/recordings/{recording_id}", operation_id="renameRecording", status_code=204)
def rename_recording(recording_id: UUID, wanted: RecordingName) -> None:
    recordings.rename(recording_id, wanted.name)


@routes.get("/recordings/{recording_id}/report.{form}", operation_id="getReport", response_class=Response)
def get_report(recording_id: UUID, form: Literal["pdf", "html"]) -> Response:
    report_of = recordings.report(recording_id)
    headers = named(f"{report_of.inspection.name}.report.{form}")
    if form == "html":
        return Response(recording_report.html(report_of), media_type="text/html; charset=utf-8", headers=headers)
    page = io.BytesIO()
    recording_report.pdf(report_of, page)
    return Response(page.getvalue(), media_type="application/pdf", headers=headers)


@routes.post("/recordings/conform", operation_id="conformRecordings", status_code=202)
def conform_recordings(wanted: ConformEach) -> AskedEach:
    how = wanted.model_dump(exclude={"recordings"})
    return together.conform(wanted.recordings, **how)


@routes.post("/recordings/inspect", operation_id="inspectRecordings", status_code=202)
def inspect_recordings(chosen: Chosen) -> AskedEach:
    return together.measure(chosen.recordings)


@routes.post("/recordings/cancel", operation_id="cancelForRecordings", status_code=202)
def cancel_for_recordings(chosen: Chosen) -> Cancelled:
    return Cancelled(count=together.cancel(chosen.recordings))


@routes.post("/recordings/hand-over", operation_id="handOverRecordings")
def hand_over_recordings(wanted: HandedOver) -> AskedEach:
    return together.hand_over(wanted.recordings, delivered=wanted.delivered)


@routes.post("/recordings/remove", operation_id="removeRecordings", status_code=204)
def remove_recordings(chosen: Chosen) -> None:
    recordings.remove(chosen.recordings)


@routes.post("/recordings/restore", operation_id="restoreRecordings", status_code=204)
def restore_recordings(chosen: Chosen) -> None:
    recordings.restore(chosen.recordings)


@routes.put("/recordings/{recording_id}/accepted", operation_id="acceptFindings", status_code=204)
def accept_findings(recording_id: UUID, accepted: AcceptedFindings) -> None:
    acceptances.accept(recording_id, accepted.findings, accepted.reason)


@routes.post("/recordings/{recording_id}/accepted/take-back", operation_id="takeBackFindings", status_code=204)
def take_back_findings(recording_id: UUID, findings: ChosenFindings) -> None:
    acceptances.take_back(recording_id, findings.findings)


@routes.post("/recordings/{recording_id}/use-again", operation_id="useRecordingAgain", status_code=204)
def use_recording_again(recording_id: UUID) -> None:
    recordings.use_again(recording_id)


@routes.post("/recordings/{recording_id}/inspect", operation_id="inspectAgain", status_code=202)
def inspect_again(recording_id: UUID) -> None:
    recordings.inspect_again(recording_id)


@routes.post("/recordings/{recording_id}/conform", operation_id="conformRecording", status_code=202)
def conform_recording(recording_id: UUID, wanted: ConformRequest) -> Made:
    return Made(id=conformings.ask(recording_id, preference=wanted.preference, container=wanted.container))


@routes.post("/conformings/{conforming_id}/current", operation_id="makeCurrent", status_code=204)
def make_current(conforming_id: UUID) -> None:
    versions.make_current(conforming_id)


@routes.get("/recordings/{recording_id}/versions/{one}/{other}", operation_id="compareVersions")
def compare_versions(recording_id: UUID, one: Number, other: Number) -> VersionsCompared:
    return versions.compare(recording_id, one, other)


@routes.get("/conformings/{conforming_id}/file", operation_id="getDeliverable", response_class=Response)
def get_deliverable(conforming_id: UUID, request: Request) -> Response:
    conforming = conformings.get(conforming_id)
    if conforming.sha256 is None or conforming.file_name is None:
        raise NotFound(what="deliverable")
    if conforming.cleared_at is not None:
        raise FileCleared(file=conforming.file_name)
    store: Store = request.app.state.store
    sha256, name = conforming.sha256, conforming.file_name
    size = conforming.size_bytes or store.size(sha256)

    def read(start: int, end: int) -> Iterator[bytes]:
        if (start, end) == (0, size):
            return store.read_checked(sha256, name=name)
        with store.compared(sha256, name=name):  # no part of a file is delivered that is damaged anywhere
            return store.read(sha256, name=name, start=start, end=end)

    return ranged(request, read, size=size, tag=sha256, kind="application/octet-stream", headers=named(name))


@routes.get("/conformings/{conforming_id}/certificate", operation_id="getCertificate", response_class=Response)
def get_certificate(conforming_id: UUID) -> Response:
    name, content = printing.document(printing.of("attempt", conforming_id))
    return Response(content, media_type="application/json", headers=named(name))


@routes.get("/conformings/{conforming_id}/certificate.pdf", operation_id="getPrintedCertificate", response_class=Response)
def get_printed_certificate(conforming_id: UUID) -> Response:
    name, page = printing.printed(printing.of("attempt", conforming_id))
    return Response(page, media_type="application/pdf", headers=named(name))


@routes.post("/recordings/{recording_id}/sample", operation_id="cutSample", status_code=201)
def cut_sample(recording_id: UUID, wanted: WantedSample, request: Request) -> Made:
    """Cut a stretch as the sample of the production."""
    fades = (wanted.fade_in_s, wanted.fade_out_s)
    store = request.app.state.store
    return Made(id=samples.cut(recording_id, store, start_s=wanted.start_s, end_s=wanted.end_s, fades_s=fades))


@routes.get("/recordings/{recording_id}/sound", operation_id="getRecordingSound", response_class=Response)
def get_recording_sound(recording_id: UUID, request: Request, start: Start, frames: Frames, keep: Kept) -> Response:
    return _sound(sounds.of_recording(recording_id, request.app.state.store, start=start, frames=frames), keep)


@routes.get("/recordings/{recording_id}/file-sound", operation_id="getFileSound", response_class=Response)
def get_file_sound(recording_id: UUID, request: Request, start: Start, frames: Frames) -> Response:
    """The recording as its file came in, without its edits."""
    return _sound(sounds.of_file(recording_id, request.app.state.store, start=start, frames=frames), FOR_GOOD)


@routes.get("/recordings/{recording_id}/cut-sound", operation_id="getSoundWithCut", response_class=Response)
def get_sound_with_cut(
    recording_id: UUID, request: Request, start: Start, frames: Frames, start_s: Moment, end_s: Moment
) -> Response:
    """The recording as it would be heard if a stretch of it were cut out."""
    store = request.app.state.store
    return _sound(sounds.with_cut(recording_id, store, cut_s=(start_s, end_s), start=start, frames=frames), NOT_KEPT)


@routes.get("/recordings/{recording_id}/tiles", operation_id="getRibbonShape")
def get_ribbon_shape(recording_id: UUID, request: Request) -> RibbonShape:
    return _shape(pictures.pyramid_of_recording(recording_id), request)


@routes.get("/recordings/{recording_id}/tiles/{level}/{index}", operation_id="getRibbonTile", response_class=Response)
def get_ribbon_tile(recording_id: UUID, level: Number, index: Number, request: Request, keep: Kept) -> Response:
    return _tile(pictures.pyramid_of_recording(recording_id), level, index, request, keep)


@routes.get("/conformings/{conforming_id}/tiles", operation_id="getTreatedShape")
def get_treated_shape(conforming_id: UUID, request: Request) -> RibbonShape:
    return _shape(pictures.pyramid_of_deliverable(conforming_id), request)


@routes.get("/conformings/{conforming_id}/tiles/{level}/{index}", operation_id="getTreatedTile", response_class=Response)
def get_treated_tile(conforming_id: UUID, level: Number, index: Number, request: Request) -> Response:
    return _tile(pictures.pyramid_of_deliverable(conforming_id), level, index, request, FOR_GOOD)


@routes.get("/conformings/{conforming_id}/tracks", operation_id="getTreatedTracks", response_class=Response)
def get_treated_tracks(conforming_id: UUID) -> Response:
    return Response(
        pictures.tracks_of_deliverable(conforming_id), media_type="application/octet-stream", headers=DEFLATED | FOR_GOOD
    )


@routes.get("/conformings/{conforming_id}/reduction", operation_id="getReduction", response_class=Response)
def get_reduction(conforming_id: UUID) -> Response:
    return Response(pictures.reduction(conforming_id), media_type="application/octet-stream", headers=DEFLATED | FOR_GOOD)


def _shape(drawn: Drawn, request: Request) -> RibbonShape:
    return RibbonShape(columns=pictures.shape(drawn, request.app.state.store), factor=pyramid.FACTOR, tile=pyramid.TILE)


def _tile(drawn: Drawn, level: int, index: int, request: Request, keep: dict[str, str]) -> Response:
    content = pictures.tile(drawn, request.app.state.store, level=level, index=index)
    return Response(content, media_type="application/octet-stream", headers=DEFLATED | keep)


@routes.get("/recordings/{recording_id}/span", operation_id="getSpanReadings")
async def get_span_readings(recording_id: UUID, start_s: Moment, end_s: Moment, request: Request) -> dict[str, Reading]:
    return await worked_out(request, pictures.span_readings, recording_id, request.app.state.store, start_s=start_s, end_s=end_s)


@routes.get("/recordings/{recording_id}/spectrogram.png", operation_id="getSpectrogram", response_class=Response)
async def get_spectrogram(
    recording_id: UUID, start_s: Moment, end_s: Moment, columns: Columns, rows: Rows, request: Request, keep: Kept
) -> Response:
    picture, where = await worked_out(
        request,
        pictures.spectrogram_of,
        recording_id,
        request.app.state.store,
        start_s=start_s,
        end_s=end_s,
        columns=columns,
        rows=rows,
    )
    return Response(picture, media_type="image/png", headers={"x-axes": where.model_dump_json(), **keep})


@routes.get("/recordings/{recording_id}/room-tone", operation_id="lookAtRoomTone")
async def look_at_room_tone(recording_id: UUID, start_s: Moment, end_s: Moment, request: Request) -> ChosenToneView:
    span = Span(start_s=start_s, end_s=end_s)
    return await worked_out(request, room_tones.look, recording_id, span, request.app.state.store)


@routes.put("/recordings/{recording_id}/room-tone", operation_id="chooseRoomTone", status_code=202)
def choose_room_tone(recording_id: UUID, chosen: Stretch) -> None:
    room_tones.choose(recording_id, Span(start_s=chosen.start_s, end_s=chosen.end_s))


@routes.delete("/recordings/{recording_id}/room-tone", operation_id="findRoomTone", status_code=202)
def find_room_tone(recording_id: UUID) -> None:
    room_tones.choose(recording_id, None)


@routes.get("/recordings/{recording_id}/turns", operation_id="getTurns")
async def get_turns(recording_id: UUID, request: Request) -> TurnsView:
    return await worked_out(request, turns.view, recording_id, request.app.state.store)


@routes.put("/recordings/{recording_id}/turns", operation_id="correctTurns", status_code=204)
def correct_turns(recording_id: UUID, corrected: CorrectedTurns) -> None:
    turns.correct(recording_id, corrected.turns)


@routes.delete("/recordings/{recording_id}/turns", operation_id="findTurns", status_code=204)
def find_turns(recording_id: UUID) -> None:
    turns.correct(recording_id, None)


@routes.post("/recordings/{recording_id}/turns/match", operation_id="matchVoices")
async def match_voices(recording_id: UUID, wanted: WantedMatch, request: Request) -> DraftView:
    return await worked_out(request, turns.match, recording_id, request.app.state.store, **wanted.model_dump())


@routes.post("/blind/draw", operation_id="drawBlindRounds")
def draw_blind_rounds(rounds: Rounds) -> list[blind.Side]:
    return blind.draw(rounds)


@routes.post("/blind/outcome", operation_id="judgeBlindRounds")
def judge_blind_rounds(
    rounds: Rounds, treated: Annotated[int, Query(ge=0)], first: Named = blind.SOURCE, second: Named = blind.TREATED
) -> blind.Outcome:
    return blind.outcome(rounds=rounds, treated=min(treated, rounds), names=(first, second))


@routes.get("/recordings/{recording_id}/tracks", operation_id="getTracks", response_class=Response)
def get_tracks(recording_id: UUID, keep: Kept) -> Response:
    return Response(pictures.tracks(recording_id), media_type="application/octet-stream", headers=DEFLATED | keep)


@routes.get("/conformings/{conforming_id}/sound", operation_id="getDeliverableSound", response_class=Response)
def get_deliverable_sound(conforming_id: UUID, request: Request, start: Start, frames: Frames) -> Response:
    return _sound(sounds.of_deliverable(conforming_id, request.app.state.store, start=start, frames=frames), FOR_GOOD)


def _sound(piece: sounds.Piece, keep: dict[str, str]) -> Response:
    """Interleaved 32-bit little-endian floats."""
    headers = {**keep, "x-channels": str(piece.samples.shape[1])}
    return Response(piece.samples.astype("<f4").tobytes(), media_type="application/octet-stream", headers=headers)
