"""Chapter marks of a recording: from where each chapter is read, kept by the time of the file and shown where it is heard."""

from typing import Any
from uuid import UUID

from pydantic import BaseModel
from sqlmodel import Session, col, func, select

from ispettore.core.edit import chapters
from ispettore.core.figures import clock
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, edited, editings
from ispettore.studio.database import transaction
from ispettore.studio.errors import ChapterOutside, NotFound, TooManyChapters
from ispettore.studio.tables import ChapterRecord, Recording

MOST = 500
LONGEST_TITLE = 120


class ChapterMark(BaseModel):
    """A chapter mark where it is heard; its title may be empty."""

    id: UUID
    at_s: float
    title: str


def view(recording_id: UUID) -> list[ChapterMark]:
    """Those of which anything is heard, in the order of time. Raises NotFound."""
    with transaction() as session:
        recording = editings.recording_of(session, recording_id)
        rows = marks(session, recording)
        places = chapters.heard([row.at_s for row in rows], edited.line(session, recording))
        return [ChapterMark(id=row.id, at_s=at, title=row.title) for row, at in zip(rows, places, strict=True) if at is not None]


def add(recording_id: UUID, at_s: float, title: str) -> UUID:
    """Mark where a chapter begins. Raises NotFound, NotReady, FileBreaksOff, BadText, ChapterOutside and TooManyChapters."""
    with transaction() as session:
        recording = editings.recording_of(session, recording_id, locked=True)
        count = session.exec(select(func.count()).select_from(ChapterRecord).where(_of(recording))).one()
        if count >= MOST:
            raise TooManyChapters(file=recording.name, most=MOST)
        row = ChapterRecord(recording_id=recording.id, at_s=_place(session, recording, at_s), title=_title(title))
        session.add(row)
        _told(session, recording, f"Chapter mark{_named(row)} set at {clock(at_s, 1)}.")
        return row.id


def change(chapter_id: UUID, *, at_s: float | None, title: str | None) -> None:
    """Move a mark or name its chapter otherwise; None leaves one of both as it is. Raises as `add` does."""
    with transaction() as session:
        row, recording = _there(session, chapter_id)
        if title is not None:
            row.title = _title(title)
        if at_s is not None:
            row.at_s = _place(session, recording, at_s)
        session.add(row)
        moved = f"moved to {clock(at_s, 1)}" if at_s is not None else "renamed"
        _told(session, recording, f"Chapter mark{_named(row)} {moved}.")


def remove(chapter_id: UUID) -> None:
    """Take a mark away. Raises NotFound."""
    with transaction() as session:
        row, recording = _there(session, chapter_id)
        session.delete(row)
        _told(session, recording, f"Chapter mark{_named(row)} removed.")


def marks(session: Session, recording: Recording) -> list[ChapterRecord]:
    """All marks of a recording in the order of time, whether they are heard or not."""
    return list(session.exec(select(ChapterRecord).where(_of(recording)).order_by(col(ChapterRecord.at_s))).all())


def copy(session: Session, row: ChapterRecord, onto: Recording, at_s: float) -> None:
    """The same mark in another recording."""
    session.add(ChapterRecord(recording_id=onto.id, at_s=at_s, title=row.title))


def _of(recording: Recording) -> Any:
    return col(ChapterRecord.recording_id) == recording.id


def _there(session: Session, chapter_id: UUID) -> tuple[ChapterRecord, Recording]:
    row = session.get(ChapterRecord, chapter_id, with_for_update=True)
    if row is None:
        raise NotFound(what="chapter mark")
    return row, editings.recording_of(session, row.recording_id)


def _place(session: Session, recording: Recording, at_s: float) -> float:
    """The moment of the file that is heard at one of the recording."""
    edits = editings.now_of(session, recording)
    length_s = edits.seconds(edits.length)
    if not at_s < length_s:
        raise ChapterOutside(file=recording.name, length=clock(length_s, 1))
    return edited.in_file(edited.line(session, recording), at_s, at_s)[0]


def _title(title: str) -> str:
    return refuse(title.strip()[:LONGEST_TITLE], what="The title")


def _named(row: ChapterRecord) -> str:
    return f" “{row.title}”" if row.title else ""


def _told(session: Session, recording: Recording, what: str) -> None:
    deeds.note(session, recording, what)
    events.tell_of(session, recording)
