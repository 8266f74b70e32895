"""What changed, told to everyone who looks: PostgreSQL's NOTIFY, received by each web process."""

from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict
from sqlalchemy import text
from sqlmodel import Session

from ispettore.studio import trail
from ispettore.studio.tables import Recording, WorkKind, WorkState

CHANNEL = "ispettore"


class Notice(BaseModel):
    """One thing that changed: what it is `about`, and its identifier; `everything` asks a page to read all of it anew.

    About a kind of work, `id` is what that work is about, and the rest is how it stands. `recording` and `production` say of which
    it is, so that a page asks again for those alone. `act` names the request that it came of, where the page that sent it gave it a
    name: that page knows of it from the answer.
    """

    model_config = ConfigDict(frozen=True)

    about: (
        WorkKind
        | Literal["everything", "production", "recording", "specification", "treatment", "draft", "listening"]
        | Literal["uploads", "keys", "settings", "access", "outside"]
    )
    id: str = ""
    production: UUID | None = None
    recording: UUID | None = None
    work: UUID | None = None
    state: WorkState | None = None
    stage: str = ""
    fraction: float = 0.0
    act: str = ""


@dataclass
class Act:
    """What somebody asked for just now: the name it was given, and what was announced for it so far."""

    name: str
    told: list[Notice] = field(default_factory=list)


APART = frozenset({"draft", "listening", "uploads", "everything"})
"""What is announced and leaves no line in the trail: figures as they are turned, what was heard, parts of files."""
ACT: ContextVar[Act | None] = ContextVar("act", default=None)
"""The request that is being answered; none in a worker."""


def tell(session: Session, notice: Notice) -> None:
    """Announce a change when this transaction commits, and note in the trail who asked for it."""
    if notice.about not in APART:
        trail.note(session, notice.about, notice.id, notice.production)
    if act := ACT.get():
        notice = notice.model_copy(update={"act": act.name})
        act.told.append(notice)
    session.execute(text("SELECT pg_notify(:channel, :message)"), {"channel": CHANNEL, "message": notice.model_dump_json()})


def tell_of(session: Session, recording: Recording, *, about: Literal["recording", "draft", "listening"] = "recording") -> None:
    """Announce that a recording, its draft, or what was heard and noted of it changed."""
    of = recording.id
    tell(session, Notice(about=about, id=str(of), production=recording.production_id, recording=of))
