"""The trail: who did what, when and from where. A line is written in the very transaction that does it, and never changed.

What is announced (`events.tell`) is noted with what it is about. What writes a row for somebody and announces nothing is noted too,
by the row, so that no act can be forgotten here. The database refuses to change or remove lines (a trigger, and the rights of the
application's role).
"""

from typing import Any
from uuid import UUID

from sqlalchemy import event
from sqlmodel import Session

from ispettore.studio.database import before_commit
from ispettore.studio.tables import (
    ChallengeRecord,
    DraftRecord,
    DraftState,
    Listening,
    NoteRecord,
    SessionRecord,
    SignInTry,
    TokenRecord,
    TrailRecord,
    Verifying,
)
from ispettore.studio.who import WHO, Who

MOST_SUBJECTS = 100
UNNOTED = (DraftRecord, DraftState, Listening, NoteRecord, Verifying)
"""Rows that are written as figures are turned and files are listened to, or that change nothing that is there."""
OF_ITSELF = (ChallengeRecord, SessionRecord, SignInTry, TokenRecord, TrailRecord)
"""Rows that are written whenever somebody shows who they are."""
_LINE, _TOUCHED, _ENDS = "trail", "touched", "trail ends"


def note(session: Session, about: str, subject: str = "", production: UUID | None = None) -> None:
    """Note that whoever asks changes something: one line for all that a transaction changes. What nobody asked for is not noted,
    nor what a worker does of what was asked."""
    who = WHO.get()
    if who is None or who.way == "work":
        return
    line = session.info.get(_LINE)
    if line is None:
        line = session.info[_LINE] = _line(who, about, production)
        _write_at_the_end(session)
    line.production_id = line.production_id or production
    if subject and subject not in line.subjects:
        line.more += len(line.subjects) >= MOST_SUBJECTS
        line.subjects = [*line.subjects, subject][:MOST_SUBJECTS]


def of_person(session: Session, who: Who, about: str, subject: str = "") -> None:
    """Note what somebody did who is only just known, or not at all: signing in, and failing to."""
    line = _line(who, about, None)
    line.subjects = [subject] if subject else []
    session.add(line)


@event.listens_for(Session, "before_flush")
def _watch(session: Session, _context: Any, _instances: Any) -> None:
    who = WHO.get()
    if who is None or who.way == "work" or _TOUCHED in session.info:
        return
    for row in (*session.new, *session.dirty, *session.deleted):
        if not isinstance(row, (*UNNOTED, *OF_ITSELF)):
            session.info[_TOUCHED] = (row.__tablename__, str(getattr(row, "id", "")), getattr(row, "production_id", None))
            _write_at_the_end(session)
            return


def _line(who: Who, about: str, production: UUID | None) -> TrailRecord:
    return TrailRecord(
        who=who.name,
        person_id=who.person,
        way=who.way,
        address=who.address,
        act=who.act(),
        about=about,
        subjects=[],
        production_id=production,
    )


def _write_at_the_end(session: Session) -> None:
    """Have this transaction's one line written as its last: of what was announced, else of the first row that was touched."""
    if _ENDS not in session.info:
        session.info[_ENDS] = True
        before_commit(session, lambda: _write(session))


def _write(session: Session) -> None:
    if _LINE not in session.info:
        note(session, *session.info[_TOUCHED])
    if line := session.info.get(_LINE):
        session.add(line)
    for kept in (_LINE, _TOUCHED, _ENDS):
        session.info.pop(kept, None)
