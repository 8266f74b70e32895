"""Edits of recordings as they are kept, and the way between the time of a recording as it is edited and that of its file.

Places are kept by the time of the file, which never changes; whoever shows or uses them asks here where they are heard now.
"""

from dataclasses import dataclass
from typing import Any
from uuid import UUID

from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from ispettore.core.audio.facts import FileFacts
from ispettore.core.edit.edits import Edits
from ispettore.core.edit.timeline import Timeline
from ispettore.core.measure.reading import Span
from ispettore.studio.catalogue.held import Held
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import EditList, InspectionRecord, Recording

Times = tuple[float, float]
_lines: Held[str, Timeline] = Held(64)


@dataclass(frozen=True)
class Underneath:
    """What an edited recording is read from: its edits, the facts of its file, and the lossless copy where that can't be sought in
    exactly."""

    edits: Edits
    facts: FileFacts
    listening: str | None


def line(session: Session, recording: Recording, known_as: str | None = None) -> Timeline | None:
    """Where everything in the file of a recording went with its edits, or with those of another time; None where there are none.
    Raises NotFound."""
    wanted = recording.edited if known_as is None else known_as
    if not wanted:
        return None

    def read(_: list[str]) -> dict[str, Timeline]:
        row = session.get(EditList, (wanted, recording.id))
        if row is None:
            raise NotFound(what="edits")
        return {wanted: Timeline(Edits.model_validate(row.edits))}

    return _lines.of([wanted], read)[wanted]


def heard(line: Timeline | None, start_s: float, end_s: float) -> Times | None:
    """Where a stretch of the file is heard; None where nothing of it is."""
    return (start_s, end_s) if line is None else line.from_file(start_s, end_s)


def join_of(line: Timeline | None, at_s: float) -> float:
    """Where a moment of the file is heard, or where it was left out."""
    if line is None:
        return at_s
    times = line.from_file(at_s, at_s)
    rate = line.edits.sample_rate_hz
    return times[0] if times is not None else line.to_recording(round(at_s * rate)) / rate


def in_file(line: Timeline | None, start_s: float, end_s: float) -> Times:
    """Which stretch of the file is heard in one of the recording."""
    return (start_s, end_s) if line is None else line.into_file(start_s, end_s)


def moved(before: Timeline | None, after: Timeline | None, start_s: float, end_s: float) -> Times | None:
    """Where a stretch of the recording is heard once it is edited otherwise; None where nothing of it is."""
    return heard(after, *in_file(before, start_s, end_s))


def sounds_of(production_id: UUID) -> Any:
    """What every sound of a production's recordings is known by, with all edits that there ever were, as a query."""
    return sounds(col(Recording.production_id) == production_id)


def sounds(which: Any) -> Any:
    """What every sound of some recordings is known by, as a query; those that were erased have none any more."""
    there = (which, col(Recording.erased_at).is_(None))
    lists = select(EditList.edited).join(Recording, col(EditList.recording_id) == Recording.id)
    return select(Recording.sha256).where(*there).union(lists.where(*there))


def of_file(session: Session, recording: Recording) -> InspectionRecord | None:
    """The newest inspection of a recording's file as it came in, with whatever room tone; its long columns are read when they are
    asked for."""
    rows = select(InspectionRecord).where(InspectionRecord.sha256 == recording.sha256)
    newest = rows.order_by(col(InspectionRecord.methods_version).desc(), col(InspectionRecord.created_at).desc())
    long = [defer(InspectionRecord.data), defer(InspectionRecord.ribbon), defer(InspectionRecord.tracks)]  # type: ignore[arg-type]
    return session.exec(newest.limit(1).options(*long)).first()


def facts_of(session: Session, record: InspectionRecord) -> FileFacts:
    """The facts of a file that was inspected."""
    same = (InspectionRecord.sha256 == record.sha256, InspectionRecord.methods_version == record.methods_version)
    return FileFacts.model_validate(session.exec(select(col(InspectionRecord.data)["facts"]).where(*same).limit(1)).one())


def underneath(session: Session, recording: Recording, known_as: str | None = None) -> Underneath | None:
    """What an edited recording is read from, with its edits or those of another time; None where it has none. Raises NotFound."""
    found = line(session, recording, known_as)
    if found is None:
        return None
    record = of_file(session, recording)
    if record is None:
        raise NotFound(what="inspected recording")
    return Underneath(found.edits, facts_of(session, record), record.listening_sha256)


def tone_written(span: Span) -> str:
    """Chosen room tone as a recording keeps it, by the time of its file: START-END in seconds, to a millisecond.

    >>> tone_written(Span(start_s=9876.545, end_s=9877.25))
    '9876.545-9877.250'
    """
    return f"{span.start_s:.3f}-{span.end_s:.3f}"


def tone_read(text: str) -> Span | None:
    """The room tone that a recording keeps, as a span; None where its room tone is to be found.

    >>> tone_read("1.500-2.000"), tone_read("")
    (Span(start_s=1.5, end_s=2.0), None)
    """
    if not text:
        return None
    start, end = text.split("-")
    return Span(start_s=float(start), end_s=float(end))
