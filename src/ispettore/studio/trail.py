"""The trail: who did what, when and from where. A line is written in the very transaction that does it, and never changed.

The database refuses to change or remove lines (a trigger, and the rights of the application's role).
"""

from uuid import UUID

from sqlmodel import Session

from ispettore.studio.database import before_commit
from ispettore.studio.tables import TrailRecord
from ispettore.studio.who import WHO, Who

MOST_SUBJECTS = 100
_LINE = "trail"


def note(session: Session, about: str, subject: str = "", production: UUID | None = None) -> None:
    """Note that whoever asks changes something: one line for all that a transaction changes. What nobody asked for is not noted,
    nor what a worker does of what was asked."""
    who = WHO.get()
    if who is None or who.way == "work":
        return
    line = session.info.get(_LINE)
    if line is None:
        line = session.info[_LINE] = _line(who, about, production)
        before_commit(session, lambda: _write(session))
    line.production_id = line.production_id or production
    if subject and subject not in line.subjects:
        line.more += len(line.subjects) >= MOST_SUBJECTS
        line.subjects = [*line.subjects, subject][:MOST_SUBJECTS]


def of_person(session: Session, who: Who, about: str, subject: str = "") -> None:
    """Note what somebody did who is only just known, or not at all: signing in, and failing to."""
    line = _line(who, about, None)
    line.subjects = [subject] if subject else []
    session.add(line)


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


def _write(session: Session) -> None:
    session.add(session.info.pop(_LINE))
