"""What changed, told to everyone who looks: PostgreSQL's NOTIFY, received by each web process."""

from typing import Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict
from sqlalchemy import text
from sqlmodel import Session

from ispettore.studio.tables import Recording, WorkKind, WorkState

CHANNEL = "ispettore"


class Notice(BaseModel):
    """One thing that changed: what it is `about`, and its identifier; `everything` asks a page to read all of it anew.

    About a kind of work, `id` is what that work is about, and the rest is how it stands. `recording` and `production` say of which
    it is, so that a page asks again for those alone.
    """

    model_config = ConfigDict(frozen=True)

    about: (
        WorkKind
        | Literal["everything", "production", "recording", "specification", "treatment", "draft", "listening", "keys", "settings"]
    )
    id: str = ""
    production: UUID | None = None
    recording: UUID | None = None
    work: UUID | None = None
    state: WorkState | None = None
    stage: str = ""
    fraction: float = 0.0


def tell(session: Session, notice: Notice) -> None:
    """Announce a change when this transaction commits."""
    session.execute(text("SELECT pg_notify(:channel, :message)"), {"channel": CHANNEL, "message": notice.model_dump_json()})


def tell_of(session: Session, recording: Recording, *, about: Literal["recording", "draft", "listening"] = "recording") -> None:
    """Announce that a recording, its draft, or what was heard and noted of it changed."""
    of = recording.id
    tell(session, Notice(about=about, id=str(of), production=recording.production_id, recording=of))
