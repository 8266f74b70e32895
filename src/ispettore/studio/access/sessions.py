"""Sessions: what a browser's cookie stands for, in the database, ended by the person or after some time without use."""

from datetime import timedelta
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, select, update

from ispettore.studio import events
from ispettore.studio.access import secrets
from ispettore.studio.access.letting_in import access
from ispettore.studio.access.views import SessionView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.settings import settings
from ispettore.studio.tables import Person, SessionRecord, TokenRecord, now
from ispettore.studio.who import RIGHTS, Right, Who, rights_of

LONGEST = timedelta(days=30)
"""After this long somebody signs in again, however much they work."""
LONGEST_HERE = timedelta(days=400)
"""How long a browser of this machine keeps what it got at the start: as long as browsers keep anything (RFC 6265bis)."""
SEEN_EVERY = timedelta(minutes=1)
LONGEST_AGENT = 200


def begin(session: Session, *, person: UUID | None, way: str, address: str, agent: str) -> tuple[UUID, str]:
    """A new session; its identifier, and the secret for its cookie."""
    secret = secrets.fresh()
    record = SessionRecord(
        secret_sha256=secrets.hashed(secret), person_id=person, way=way, address=address, agent=agent[:LONGEST_AGENT]
    )
    session.add(record)
    session.flush()
    return record.id, secret


def by_cookie(secret: str, *, address: str, used: bool = True) -> Who | None:
    """Whom a cookie stands for; None where it is unknown or has ended. `used` tells whether that counts as using it."""
    with transaction() as session:
        row = session.exec(_with_person(SessionRecord).where(SessionRecord.secret_sha256 == secrets.hashed(secret))).first()
        if row is None or not _lasts(row[0], row[1]):
            return None
        record, person = row
        if used and (now() - record.seen_at > SEEN_EVERY or record.address != address):
            record.seen_at, record.address = now(), address
            session.add(record)
        if person is None:
            return Who(way="start", rights=RIGHTS, session=record.id, address=address)
        return Who(
            way="session",
            rights=rights_of(person.roles),
            name=person.name,
            person=person.id,
            session=record.id,
            address=address,
        )


def by_token(secret: str, *, address: str) -> Who | None:
    """Whom a script's token stands for, with what both the token and its owner may do; None where it is unknown or has ended."""
    with transaction() as session:
        row = session.exec(_with_person(TokenRecord).where(TokenRecord.secret_sha256 == secrets.hashed(secret))).first()
        if row is None or row[0].ended_at is not None or row[0].expires_at < now():
            return None
        record, person = row
        if (person is None) != (record.person_id is None) or (person is None and access() == "accounts"):
            return None
        if record.used_at is None or now() - record.used_at > SEEN_EVERY:
            record.used_at = now()
            session.add(record)
        rights: frozenset[Right] = RIGHTS if person is None else rights_of(person.roles)
        return Who(
            way="token",
            rights=frozenset(right for right in rights if right in record.rights),
            name=person.name if person is not None else "",
            person=record.person_id,
            token=record.id,
            token_name=record.name,
            address=address,
        )


def _with_person(of: type[SessionRecord] | type[TokenRecord]) -> Any:
    """A session or token with its person, where that one is still here."""
    here = (col(Person.id) == of.person_id) & col(Person.ended_at).is_(None)
    return select(of, Person).join(Person, here, isouter=True)


def _lasts(record: SessionRecord, person: Person | None) -> bool:
    if record.ended_at is not None:
        return False
    if record.person_id is None:
        return access() != "accounts" and now() - record.began_at < LONGEST_HERE
    idle = now() - record.seen_at < timedelta(seconds=settings().idle_after_s)
    return person is not None and idle and now() - record.began_at < LONGEST


def of_person(session: Session, who: Who) -> list[SessionView]:
    """The browsers that somebody is signed in with, the last used first."""
    rows = select(SessionRecord).where(owned(SessionRecord, who), col(SessionRecord.ended_at).is_(None))
    found = session.exec(rows.order_by(col(SessionRecord.seen_at).desc())).all()
    person = session.get(Person, who.person) if who.person else None
    return [
        SessionView(
            id=record.id,
            agent=record.agent,
            address=record.address,
            began_at=record.began_at,
            seen_at=record.seen_at,
            this=record.id == who.session,
        )
        for record in found
        if _lasts(record, person)
    ]


def end(session_id: UUID, who: Who) -> None:
    """End a session of one's own. Raises NotFound."""
    with transaction() as session:
        record = session.exec(select(SessionRecord).where(SessionRecord.id == session_id, owned(SessionRecord, who))).first()
        if record is None:
            raise NotFound(what="session")
        record.ended_at = record.ended_at or now()
        session.add(record)
        tell(session)


def end_all(session: Session, person: UUID, *, but: UUID | None = None) -> None:
    """End every session of a person, but perhaps one."""
    ending = update(SessionRecord).where(col(SessionRecord.person_id) == person, col(SessionRecord.ended_at).is_(None))
    session.execute((ending.where(col(SessionRecord.id) != but) if but else ending).values(ended_at=now()))


def tell(session: Session, person: UUID | None = None) -> None:
    """Have every page ask again who it is for, and every stream of changes end that is nobody's any more; in the trail stands whose
    access it was."""
    events.tell(session, events.Notice(about="access", id=str(person or "")))


def owned(of: type[SessionRecord] | type[TokenRecord], who: Who) -> Any:
    """Whether rows are somebody's own; without an account, nobody's."""
    own = col(of.person_id)
    return own == who.person if who.person else own.is_(None)
