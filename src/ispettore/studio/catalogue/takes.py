"""Retakes: short recordings that are put in the place of a stretch of another, once they were made to sound like it."""

from uuid import UUID

from sqlmodel import Session

from ispettore.core.edit import making
from ispettore.core.measure.reading import Span
from ispettore.core.treat import retake
from ispettore.core.treat.retake import Matched
from ispettore.studio.catalogue import deeds, edited, editings
from ispettore.studio.catalogue.recordings import shown_name
from ispettore.studio.database import transaction
from ispettore.studio.errors import NoSuchSpan, NotFound, TakeWithoutPlace
from ispettore.studio.jobs import works
from ispettore.studio.store.blobs import Blob
from ispettore.studio.tables import Recording, TakeRecord, WorkKind


def expected(recording_id: UUID, wanted: Span) -> None:
    """Whether a retake can come in for a span of a recording as it is edited. Raises NotFound, NotReady, FileBreaksOff and
    NoSuchSpan."""
    with transaction() as session:
        _place(session, recording_id, wanted)


def add(recording_id: UUID, name: str, wanted: Span, blob: Blob) -> UUID:
    """Have a stored file prepared and put in the place of a span of a recording, which may be a moment. Raises as `expected`."""
    with transaction() as session:
        recording, where = _place(session, recording_id, wanted)
        take = TakeRecord(
            recording_id=recording.id,
            name=shown_name(name),
            sha256=blob.sha256,
            size_bytes=blob.size_bytes,
            start_s=where.start_s,
            end_s=where.end_s,
        )
        session.add(take)
        session.flush()
        deeds.note(session, recording, f"Retake brought in: “{take.name}”.")
        works.ask(session, WorkKind.RETAKE, take.id, of=recording)
        return take.id


def span(session: Session, recording: Recording, take: TakeRecord) -> Span | None:
    """Where a retake belongs in a recording as it is edited; None where all of that was left out since."""
    times = edited.heard(edited.line(session, recording), take.start_s, take.end_s)
    return Span(start_s=times[0], end_s=times[1]) if times is not None else None


def put_in(session: Session, recording: Recording, take: TakeRecord, *, lead_s: float, trail_s: float) -> None:
    """Edit a recording so that a prepared retake is heard, with so much before its first word and behind its last. Raises
    TakeWithoutPlace, and as `editings.change` does."""
    where = span(session, recording, take)
    if where is None:
        raise TakeWithoutPlace(file=take.name)
    before = editings.now_of(session, recording)
    matched = Matched.model_validate(take.matched)
    rate, prepared = before.sample_rate_hz, take.prepared_sha256 or ""
    put = retake.laid(matched, prepared, lead_s=lead_s, trail_s=trail_s, sample_rate_hz=rate)
    if not before.tone:  # what it lacks before and behind it stays missing
        put = tuple(one for one in put if one.take)
    after = making.retaken(before, where.start_s, where.end_s, put, file=recording.name)
    editings.follow(session, recording, before, after)


def _place(session: Session, recording_id: UUID, wanted: Span) -> tuple[Recording, Span]:
    recording = session.get(Recording, recording_id)
    if recording is None or recording.removed_at is not None:
        raise NotFound(what="recording")
    edits = editings.now_of(session, recording)
    length_s = edits.seconds(edits.length)
    if not 0 <= wanted.start_s <= wanted.end_s <= length_s + 0.001:
        raise NoSuchSpan(longest_min=length_s / 60)
    start_s, end_s = edited.in_file(edited.line(session, recording), wanted.start_s, wanted.end_s)
    return recording, Span(start_s=start_s, end_s=end_s)
