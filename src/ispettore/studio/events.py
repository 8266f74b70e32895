"""What changed, told to everyone who looks: PostgreSQL's NOTIFY, received by each web process."""

import json
from typing import Any
from uuid import UUID

from sqlalchemy import text
from sqlmodel import Session

CHANNEL = "ispettore"


def tell(session: Session, about: str, subject_id: UUID | str, *, production_id: UUID | None = None, **more: Any) -> None:
    """Announce a change when this transaction commits."""
    message = {"about": about, "id": str(subject_id), "production": str(production_id) if production_id else None, **more}
    session.execute(text("SELECT pg_notify(:channel, :message)"), {"channel": CHANNEL, "message": json.dumps(message)})
