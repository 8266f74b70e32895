"""Routes: plans for a recording, and the treatment that is drafted for it."""

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, BackgroundTasks, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from ispettore.core.audio.formats import FormatName
from ispettore.core.errors import IspettoreError
from ispettore.core.measure.reading import Span
from ispettore.core.plan.offering import StepGroup
from ispettore.core.plan.preferences import Preference
from ispettore.core.plan.rehearsing import Foretold
from ispettore.core.plan.spots import SpotOffer
from ispettore.core.text import wrong_in
from ispettore.core.treat.draft import MOST_STEPS, DraftStep
from ispettore.core.treat.keeping import Finish, KeptTreatment
from ispettore.core.treat.pictures import Picture
from ispettore.core.treat.treatment import Treatment
from ispettore.studio.catalogue import conformings, drafts, plannings, rehearsals, treatments
from ispettore.studio.catalogue.manner import Manner
from ispettore.studio.catalogue.treatment_views import GeneralView
from ispettore.studio.catalogue.views import DraftView
from ispettore.web.productions import Made
from ispettore.web.values import Count, Moment, Number

routes = APIRouter()
DEEPEST = 8
Follows = Annotated[int, Query(ge=0)]
Length = Annotated[float, Query(gt=0, le=rehearsals.LONGEST_S)]


class SettingsUnreadable(IspettoreError):
    """A setting holds {which}, which can't be kept. Enter a figure."""

    which: str


class DraftChange(BaseModel):
    """All steps as they are to be, and the state that was changed."""

    model_config = ConfigDict(extra="forbid")

    steps: list[DraftStep] = Field(max_length=4 * MOST_STEPS)
    follows: int = Field(ge=0)


class RunRequest(BaseModel):
    """`container` left out means what the specification asks for."""

    container: FormatName | None = None


class SavedDraft(BaseModel):
    """A draft to be kept for other recordings: as a new treatment, or with `identifier` as the version after `follows` of one."""

    name: str = Field(max_length=200)
    description: str = Field("", max_length=2_000)
    finish: Finish
    reference: bool
    identifier: str | None = None
    follows: int = Field(0, ge=0)


class TakenTreatment(BaseModel):
    """A treatment that becomes the draft, and the state that it follows."""

    treatment: Treatment
    follows: int = Field(ge=0)


def readable(steps: list[DraftStep]) -> list[DraftStep]:
    """The steps themselves. Raises SettingsUnreadable where a setting holds what can't be kept."""
    wrong = wrong_in([step.settings for step in steps], deepest=DEEPEST)
    if wrong is not None:
        raise SettingsUnreadable(which=wrong)
    return steps


@routes.post("/recordings/{recording_id}/plans", operation_id="planRecording", status_code=202)
def plan_recording(recording_id: UUID) -> Made:
    return Made(id=plannings.ask(recording_id))


@routes.get("/recordings/{recording_id}/steps", operation_id="offerSteps")
def offer_steps(recording_id: UUID) -> list[StepGroup]:
    return drafts.offered(recording_id)


@routes.get("/recordings/{recording_id}/spots", operation_id="offerForSpot")
def offer_for_spot(recording_id: UUID, start_s: Moment, end_s: Moment) -> list[SpotOffer]:
    return drafts.spots(recording_id, Span(start_s=start_s, end_s=end_s))


@routes.get("/recordings/{recording_id}/draft", operation_id="getDraft")
def get_draft(recording_id: UUID, later: BackgroundTasks) -> DraftView:
    later.add_task(rehearsals.rehearsers().warm)
    return drafts.get(recording_id)


@routes.put("/recordings/{recording_id}/draft", operation_id="changeDraft")
def change_draft(recording_id: UUID, changed: DraftChange) -> DraftView:
    return drafts.change(recording_id, readable(changed.steps), follows=changed.follows)


@routes.post("/recordings/{recording_id}/draft/plan/{preference}", operation_id="choosePlan")
def choose_plan(recording_id: UUID, preference: Preference, follows: Follows) -> DraftView:
    return drafts.choose(recording_id, preference, follows=follows)


@routes.post("/recordings/{recording_id}/draft/take", operation_id="takeTreatment")
def take_treatment(recording_id: UUID, taken: TakenTreatment) -> DraftView:
    return drafts.take(recording_id, taken.treatment, follows=taken.follows)


@routes.post("/recordings/{recording_id}/draft/undo", operation_id="undoDraft")
def undo_draft(recording_id: UUID, follows: Follows) -> DraftView:
    return drafts.undo(recording_id, follows=follows)


@routes.post("/recordings/{recording_id}/draft/redo", operation_id="redoDraft")
def redo_draft(recording_id: UUID, follows: Follows) -> DraftView:
    return drafts.redo(recording_id, follows=follows)


@routes.post("/recordings/{recording_id}/plans/kept/{identifier}", operation_id="planWithKept", status_code=202)
def plan_with_kept(recording_id: UUID, identifier: str, reference: bool = False) -> Made:
    return Made(id=plannings.ask(recording_id, Manner.by(treatments.newest(identifier, reference=reference))))


@routes.post("/recordings/{recording_id}/draft/kept/{identifier}", operation_id="useKept")
def use_kept(recording_id: UUID, identifier: str, follows: Follows, reference: bool = False) -> DraftView:
    return drafts.choose_kept(recording_id, treatments.newest(identifier, reference=reference), follows=follows)


@routes.get("/recordings/{recording_id}/draft/general", operation_id="lookAtGeneral")
def look_at_general(recording_id: UUID, finish: Finish) -> GeneralView:
    return drafts.general_view(recording_id, finish)


@routes.post("/recordings/{recording_id}/draft/save", operation_id="saveDraft", status_code=201)
def save_draft(recording_id: UUID, saved: SavedDraft) -> KeptTreatment:
    return treatments.save(recording_id, **saved.model_dump())


@routes.get("/recordings/{recording_id}/draft/sound", operation_id="hearDraft", response_class=Response)
def hear_draft(
    recording_id: UUID, request: Request, number: Number, turn: Count, at_s: Moment, length_s: Length, upto: str | None = None
) -> Response:
    """Interleaved 32-bit little-endian floats; their rate and channels stand in the headers."""
    heard = rehearsals.sound(
        recording_id, request.app.state.store, number=number, turn=turn, at_s=at_s, length_s=length_s, upto=upto
    )
    headers = {"x-channels": str(heard.channels), "x-rate": str(heard.sample_rate_hz), "cache-control": "no-store"}
    return Response(heard.samples, media_type="application/octet-stream", headers=headers)


@routes.get("/recordings/{recording_id}/draft/foretold", operation_id="foretellDraft")
def foretell_draft(recording_id: UUID, request: Request, number: Number, turn: Count) -> Foretold:
    return rehearsals.foretold(recording_id, request.app.state.store, number=number, turn=turn)


@routes.get("/recordings/{recording_id}/draft/pictures/{step}", operation_id="drawStep")
def draw_step(recording_id: UUID, step: str, request: Request, number: Number, turn: Count) -> tuple[Picture, ...]:
    return rehearsals.pictures(recording_id, request.app.state.store, number=number, turn=turn, step=step)


@routes.post("/recordings/{recording_id}/draft/run", operation_id="runDraft", status_code=202)
def run_draft(recording_id: UUID, wanted: RunRequest) -> Made:
    return Made(id=conformings.ask(recording_id, container=wanted.container, decided=drafts.to_run))
