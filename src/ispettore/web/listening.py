"""Routes: listening a file through, what was heard, and notes."""

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel, Field

from ispettore.core.deliver import listening
from ispettore.core.deliver.listening import Heard, NoteKind
from ispettore.studio.delivering import listenings
from ispettore.studio.delivering.listening_views import ListenView, Of, TaskView
from ispettore.web.productions import Made
from ispettore.web.transfer import named, ranged

routes = APIRouter()
Who = Annotated[str, Field(max_length=80)]


class ReportedListening(BaseModel):
    """What was heard since it was last told; `id` is the page's own for this sitting."""

    id: UUID
    of: Of
    subject: UUID
    who: Who = ""
    spans: list[Heard] = Field(max_length=1_000)


class NewNote(BaseModel):
    at_s: float = Field(ge=0)
    kind: NoteKind = "other"
    text: str = Field("", max_length=2_000)
    who: Who = ""


class ChangedNote(BaseModel):
    """What is to change; what is left out stays."""

    kind: NoteKind | None = None
    text: str | None = Field(None, max_length=2_000)
    done: bool | None = None
    removed: bool | None = None


@routes.get("/listen/{of}/{subject}", operation_id="getListen")
def get_listen(of: Of, subject: UUID) -> ListenView:
    return listenings.view(of, subject)


@routes.get("/listen/{of}/{subject}/sound.wav", operation_id="getListenSound", response_class=Response)
def get_listen_sound(of: Of, subject: UUID, request: Request, marks: bool = False) -> Response:
    """The sound as a WAV file that any browser plays and seeks in; with the notes as cue points, if wanted."""
    wav, tag, name = listenings.sound(of, subject, request.app.state.store, marks=marks)
    headers = named(name) if marks else {"content-disposition": "inline"}
    return ranged(request, wav.read, size=wav.size, tag=f"{tag[:32]}-{wav.size}", kind="audio/wav", headers=headers)


@routes.post("/listenings", operation_id="reportListening", status_code=204)
def report_listening(told: ReportedListening) -> None:
    listenings.report(told.id, told.of, told.subject, who=told.who, spans=told.spans)


@routes.post("/listen/{of}/{subject}/notes", operation_id="addNote", status_code=201)
def add_note(of: Of, subject: UUID, new: NewNote) -> Made:
    return Made(id=listenings.note(of, subject, at_s=new.at_s, kind=new.kind, text=new.text, who=new.who))


@routes.get("/recordings/{recording_id}/notes", operation_id="getTasks")
def get_tasks(recording_id: UUID) -> list[TaskView]:
    """The notes on all files of a recording, as something to do in it."""
    return listenings.tasks(recording_id)


@routes.patch("/notes/{note_id}", operation_id="changeNote", status_code=204)
def change_note(note_id: UUID, change: ChangedNote) -> None:
    listenings.change_note(note_id, **change.model_dump())


@routes.get("/listen/{of}/{subject}/notes.csv", operation_id="getNotesAsTable", response_class=Response)
def get_notes_as_table(of: Of, subject: UUID) -> Response:
    name, notes, _ = listenings.notes_of(of, subject)
    text = listening.as_csv([(name, note) for note in notes])
    return Response(text, media_type="text/csv; charset=utf-8", headers=named(f"{name}.notes.csv"))


@routes.get("/listen/{of}/{subject}/notes.vtt", operation_id="getNotesAsCues", response_class=Response)
def get_notes_as_cues(of: Of, subject: UUID) -> Response:
    name, notes, duration_s = listenings.notes_of(of, subject)
    text = listening.as_vtt(notes, duration_s=duration_s)
    return Response(text, media_type="text/vtt; charset=utf-8", headers=named(f"{name}.notes.vtt"))


@routes.get("/productions/{production_id}/notes.csv", operation_id="getNotesOfProduction", response_class=Response)
def get_notes_of_production(production_id: UUID) -> Response:
    name, notes = listenings.notes_of_production(production_id)
    return Response(listening.as_csv(notes), media_type="text/csv; charset=utf-8", headers=named(f"{name}.notes.csv"))
