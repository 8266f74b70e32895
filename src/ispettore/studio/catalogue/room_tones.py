"""Room tone chosen by a person: what it would change, choosing it, and leaving it to the meters again."""

from collections.abc import Callable
from uuid import UUID

from sqlmodel import Session

from ispettore.core.errors import Cancelled
from ispettore.core.figures import clock
from ispettore.core.measure import chosen_tone
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span
from ispettore.core.measure.spectrogram import never
from ispettore.core.spec import kept
from ispettore.core.spec.verdict import judge, role_of
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, edited, lookup, sounds
from ispettore.studio.catalogue.views import ChosenToneView, LimitChange
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NotReady, RoomTonePutIn
from ispettore.studio.jobs import works
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import InspectionRecord, Production, Recording, WorkKind


def look(recording_id: UUID, span: Span, store: Store, *, cancelled: Callable[[], bool] = never) -> ChosenToneView:
    """Level and spectrum of a span, and every limit whose reading it would change. Raises NotFound, NotReady and as `check`."""
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is None:
            raise NotFound(what="recording")
        inspection = _inspection(lookup.whole(session, recording), recording.name)
        specification = kept.specification(session.get_one(Production, recording.production_id).specification)
    span = chosen_tone.snapped(span)
    chosen_tone.check(span, inspection)
    rate = inspection.facts.sample_rate_hz
    start = round(span.start_s * rate)
    if cancelled():
        raise Cancelled
    with sounds.opened(recording_id, store) as samples:
        tone = chosen_tone.look(samples(start, round(span.end_s * rate) - start), span, inspection)
    changed = inspection.model_copy(update={"readings": {**inspection.readings, **tone.changed}})
    role = role_of(inspection)
    after = {limit.quantity: limit for limit in judge(changed, specification, role=role).limits}
    limits = [
        LimitChange(before=limit, after=after[limit.quantity])
        for limit in judge(inspection, specification, role=role).limits
        if limit.quantity in tone.changed
    ]
    was = {quantity: inspection.readings[quantity] for quantity in tone.changed}
    return ChosenToneView(**tone.model_dump(), was=was, limits=limits)


def choose(recording_id: UUID, span: Span | None) -> None:
    """Have a recording measured with this room tone, or with what the meters find. Raises NotFound, NotReady and as `check`."""
    with transaction() as session:
        recording = session.get(Recording, recording_id, with_for_update=True)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        inspection = _inspection(lookup.whole(session, recording), recording.name)
        if span is not None:
            span = chosen_tone.snapped(span)
            chosen_tone.check(span, inspection)
            start_s, end_s = edited.in_file(edited.line(session, recording), span.start_s, span.end_s)
            if end_s - start_s < chosen_tone.SHORTEST_S:
                raise RoomTonePutIn(file=recording.name)
            span = Span(start_s=start_s, end_s=end_s)
        if recording.room_tone != (chosen := edited.tone_written(span) if span is not None else ""):
            deeds.note(session, recording, _told(span))
        recording.room_tone = chosen
        session.add(recording)
        events.tell_of(session, recording)
        if lookup.exact(session, recording) is None:
            works.ask(session, WorkKind.INSPECT, recording.id, of=recording)


def heard(session: Session, recording: Recording) -> Span | None:
    """Where a person chose the room tone, by the time of the recording as it is edited; None where it is to be found, or no more
    of it is left than would do."""
    span = edited.tone_read(recording.room_tone)
    times = edited.heard(edited.line(session, recording), span.start_s, span.end_s) if span is not None else None
    found = Span(start_s=times[0], end_s=times[1]) if times is not None else None
    return found if found is not None and found.length_s >= chosen_tone.SHORTEST_S else None


def _told(span: Span | None) -> str:
    if span is None:
        return "Room tone detected automatically."
    return f"Room tone set manually: {clock(span.start_s, 1)} to {clock(span.end_s, 1)}."


def _inspection(record: InspectionRecord | None, name: str) -> Inspection:
    if record is None:
        raise NotReady(file=name, reason="has not been inspected yet")
    # Two recordings of the same bytes share an inspection; what is said bears this one's name.
    return lookup.inspection(record).model_copy(update={"name": name})
