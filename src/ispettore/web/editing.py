"""Editing a recording: what is left out of it, and what stands there instead."""

from uuid import UUID

from fastapi import APIRouter
from pydantic import BaseModel

from ispettore.studio.catalogue import editings
from ispettore.studio.catalogue.editings import EditsForeseen, EditsView, EditWish
from ispettore.web.values import Number

routes = APIRouter(tags=["editing"])


class EditRequest(BaseModel):
    """A wish, in the time of the recording as it is edited by now; `follows` is the state that was looked at."""

    wish: EditWish
    follows: Number


class EditQuestion(BaseModel):
    """A wish that is only asked about."""

    wish: EditWish


class EditStep(BaseModel):
    """The state that was looked at."""

    follows: Number


@routes.get("/recordings/{recording_id}/edits", operation_id="getEdits")
def get_edits(recording_id: UUID) -> EditsView:
    return editings.view(recording_id)


@routes.post("/recordings/{recording_id}/edits", operation_id="editRecording")
def edit_recording(recording_id: UUID, wanted: EditRequest) -> EditsView:
    return editings.change(recording_id, wanted.wish, follows=wanted.follows)


@routes.post("/recordings/{recording_id}/edits/foreseen", operation_id="foreseeEdits")
def foresee_edits(recording_id: UUID, asked: EditQuestion) -> EditsForeseen:
    return editings.foreseen(recording_id, asked.wish)


@routes.post("/recordings/{recording_id}/edits/undo", operation_id="undoEdit")
def undo_edit(recording_id: UUID, step: EditStep) -> EditsView:
    return editings.undo(recording_id, follows=step.follows)


@routes.post("/recordings/{recording_id}/edits/redo", operation_id="redoEdit")
def redo_edit(recording_id: UUID, step: EditStep) -> EditsView:
    return editings.redo(recording_id, follows=step.follows)
