"""What listening gives out: plain typed data."""

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel

from ispettore.core.deliver.listening import Heard, NoteKind
from ispettore.core.measure.reading import Span
from ispettore.studio.catalogue.views import RibbonView

Of = Literal["recording", "attempt", "deliverable"]


class ListenChoice(BaseModel):
    """A file of a recording that can be listened to: the recording itself, a version or what is delivered. `share` is how much of
    it anybody heard, from 0 to 1."""

    of: Of
    id: UUID
    title: str
    share: float


class ListeningView(BaseModel):
    """What somebody heard of a file in one sitting. `said` tells it in words; `this` says that it is the file on screen."""

    id: UUID
    who: str
    title: str
    this: bool
    began_at: datetime
    ended_at: datetime
    share: float
    fastest: float
    spans: list[Heard]
    said: str


class NoteView(BaseModel):
    """A note at a time of a file; `this` says that it is the file on screen, `title` which it is."""

    id: UUID
    at_s: float
    kind: NoteKind
    text: str
    who: str
    title: str
    this: bool
    created_at: datetime
    done_at: datetime | None


class TaskView(BaseModel):
    """A note as something to do in the recording: where what it is about is heard now, or was left out; `corrected` says what was
    edited there since it was made, and is empty where nothing was."""

    id: UUID
    at_s: float
    kind: NoteKind
    text: str
    who: str
    title: str
    corrected: str
    done_at: datetime | None


class Neighbour(BaseModel):
    """What can be listened to next to this: the same sort of file of another recording."""

    of: Of
    id: UUID
    name: str


class ListenView(BaseModel):
    """A file to listen to, with what was heard of it (`covered`, at any speed) and noted."""

    of: Of
    id: UUID
    title: str
    recording: UUID
    name: str
    production: UUID
    production_name: str
    sha256: str
    duration_s: float
    ribbon: RibbonView | None
    choices: list[ListenChoice]
    before: Neighbour | None
    after: Neighbour | None
    share: float
    covered: list[Span]
    listenings: list[ListeningView]
    notes: list[NoteView]
