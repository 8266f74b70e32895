"""Tokens for scripts: what they may do is chosen, and ends by itself."""

from datetime import timedelta
from uuid import UUID

from sqlmodel import select

from ispettore.core.deliver.entries import LONGEST
from ispettore.core.text import refuse
from ispettore.studio.access import secrets, sessions
from ispettore.studio.access.views import NewToken
from ispettore.studio.database import transaction
from ispettore.studio.errors import NameMissing, NotFound
from ispettore.studio.tables import TokenRecord, now
from ispettore.studio.who import Right, Who

PREFIX = "ispettore_"
"""So that a token is known for one wherever it turns up."""
MOST_DAYS = 366
GIVABLE: tuple[Right, ...] = ("read", "work", "certify")
"""No script administers."""


def make(who: Who, *, name: str, rights: list[Right], days: int) -> NewToken:
    """A token of one's own, shown this once. It may never do more than its owner, whatever it was made for. Raises NameMissing and
    BadText."""
    if not name.strip():
        raise NameMissing(what="token")
    called, secret = refuse(name.strip()[:LONGEST], what="The name"), PREFIX + secrets.fresh()
    kept: list[str] = [right for right in GIVABLE if right in (*rights, "read")]
    with transaction() as session:
        record = TokenRecord(
            secret_sha256=secrets.hashed(secret),
            person_id=who.person,
            name=called,
            rights=kept,
            expires_at=now() + timedelta(days=min(days, MOST_DAYS)),
        )
        session.add(record)
        sessions.tell(session)
        return NewToken(id=record.id, secret=secret)


def end(token_id: UUID, who: Who) -> None:
    """End a token of one's own. Raises NotFound."""
    with transaction() as session:
        mine = sessions.owned(TokenRecord, who)
        record = session.exec(select(TokenRecord).where(TokenRecord.id == token_id, mine)).first()
        if record is None:
            raise NotFound(what="token")
        record.ended_at = record.ended_at or now()
        session.add(record)
        sessions.tell(session)
