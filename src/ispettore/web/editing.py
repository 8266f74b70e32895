"""Editing a recording: what is left out of it, and what stands there instead."""

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ispettore.core.measure.reading import Span
from ispettore.studio.catalogue import chapters, editings, parting, takes
from ispettore.studio.catalogue.chapters import ChapterMark
from ispettore.studio.catalogue.editings import EditsForeseen, EditsView, EditWish
from ispettore.studio.catalogue.incoming import allowed_name
from ispettore.studio.catalogue.parting import SplitAt
from ispettore.studio.store.blobs import Blob
from ispettore.web.productions import Made
from ispettore.web.transfer import RAW_BODY
from ispettore.web.uploading import into_store
from ispettore.web.values import Moment, Number

routes = APIRouter()
Name = Annotated[str, Query(min_length=1, max_length=255)]
Title = Annotated[str, Field(max_length=chapters.LONGEST_TITLE)]
LARGEST_BYTES = 500 * 1024**2
"""Five minutes at the highest rate with six channels as 32-bit numbers, and some."""


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


class SplitRequest(EditStep):
    """The moments are in the time of the recording as it is edited."""

    at: Annotated[list[SplitAt], Field(min_length=1, max_length=chapters.MOST)]


class WantedChapter(BaseModel):
    """Where a chapter begins, in the time of the recording as it is edited, and what it is called, if anything."""

    at_s: Moment
    title: Title = ""


class ChangedChapter(BaseModel):
    """What is to be otherwise about a chapter mark."""

    at_s: Moment | None = None
    title: Title | None = None


@routes.get("/recordings/{recording_id}/edits", operation_id="getEdits")
def get_edits(recording_id: UUID) -> EditsView:
    return editings.view(recording_id)


@routes.post("/recordings/{recording_id}/edits", operation_id="editRecording")
def edit_recording(recording_id: UUID, wanted: EditRequest) -> EditsView:
    return editings.change(recording_id, wanted.wish, follows=wanted.follows)


@routes.post("/recordings/{recording_id}/edits/foreseen", operation_id="foreseeEdits")
def foresee_edits(recording_id: UUID, asked: EditQuestion) -> EditsForeseen:
    return editings.foreseen(recording_id, asked.wish)


@routes.put("/recordings/{recording_id}/takes", operation_id="addRetake", status_code=202, openapi_extra=RAW_BODY)
async def add_retake(recording_id: UUID, name: Name, start_s: Moment, end_s: Moment, request: Request) -> Made:
    """A short recording in the place of a stretch, or put in at a moment."""
    span = Span(start_s=start_s, end_s=end_s)
    await run_in_threadpool(takes.expected, recording_id, span)

    def named(blob: Blob) -> UUID:
        return takes.add(recording_id, name, span, blob)

    return Made(id=await into_store(request, allowed_name(name), named, limit_bytes=LARGEST_BYTES))


@routes.post("/recordings/{recording_id}/split", operation_id="splitRecording", status_code=201)
def split_recording(recording_id: UUID, wanted: SplitRequest) -> list[Made]:
    """The recording ends at the first of some moments, and others hold the rest, each up to the next."""
    return [Made(id=part) for part in parting.split(recording_id, wanted.at, follows=wanted.follows)]


@routes.post("/recordings/{recording_id}/join", operation_id="joinRecordings")
def join_recordings(recording_id: UUID, step: EditStep) -> EditsView:
    """The next recording of the production is put behind this one."""
    return parting.join(recording_id, follows=step.follows)


@routes.post("/recordings/{recording_id}/edits/undo", operation_id="undoEdit")
def undo_edit(recording_id: UUID, step: EditStep) -> EditsView:
    return editings.undo(recording_id, follows=step.follows)


@routes.post("/recordings/{recording_id}/edits/redo", operation_id="redoEdit")
def redo_edit(recording_id: UUID, step: EditStep) -> EditsView:
    return editings.redo(recording_id, follows=step.follows)


@routes.get("/recordings/{recording_id}/chapters", operation_id="getChapters")
def get_chapters(recording_id: UUID) -> list[ChapterMark]:
    return chapters.view(recording_id)


@routes.post("/recordings/{recording_id}/chapters", operation_id="addChapter", status_code=201)
def add_chapter(recording_id: UUID, wanted: WantedChapter) -> Made:
    """A mark from which a chapter is read."""
    return Made(id=chapters.add(recording_id, wanted.at_s, wanted.title))


@routes.patch("/chapters/{chapter_id}", operation_id="changeChapter", status_code=204)
def change_chapter(chapter_id: UUID, wanted: ChangedChapter) -> None:
    """A mark is moved, or its chapter called otherwise."""
    chapters.change(chapter_id, at_s=wanted.at_s, title=wanted.title)


@routes.delete("/chapters/{chapter_id}", operation_id="removeChapter", status_code=204)
def remove_chapter(chapter_id: UUID) -> None:
    chapters.remove(chapter_id)
