"""Stored inspections as they are needed: whole for one recording, without their long lists where many are judged at once."""

from collections.abc import Sequence
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement, Text, case, cast, func, tuple_
from sqlalchemy.dialects.postgresql import ARRAY, array
from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from ispettore.core.measure import kept, methods_history
from ispettore.core.measure.inspection import Inspection
from ispettore.studio.catalogue.held import Held
from ispettore.studio.tables import InspectionRecord, Recording

LONG = ("findings", "speech", "room_tone", "pauses", "turns")
"""What grows with the length of a recording. No limit is judged by it, and it is most of what is stored."""


Key = tuple[str, str, int]
"""What the sound is known by, room tone chosen, version of the methods: what is kept under these never changes."""
_ready: Held[Key, Inspection] = Held(1_000)
_whole: Held[Key, Inspection] = Held(4)
"""Those of three hours hold thousands of findings and pauses."""


def keys(session: Session, recordings: Sequence[Recording]) -> dict[UUID, Key]:
    """Under what the inspection of each recording is kept, for those that are measured: by the newest methods they were measured
    by, and until it is measured with room tone just chosen, as before."""
    newest = (
        select(InspectionRecord.sha256, InspectionRecord.room_tone, func.max(InspectionRecord.methods_version))
        .where(_of(recordings))
        .group_by(col(InspectionRecord.sha256), col(InspectionRecord.room_tone))
    )
    there = {(sha256, tone): version for sha256, tone, version in session.exec(newest).all()}
    known: dict[UUID, Key] = {}
    for recording in recordings:
        for sha256, tone in _keys(recording):
            if (sha256, tone) in there:
                known[recording.id] = (sha256, tone, there[sha256, tone])
                break
    return known


def short(session: Session, recordings: Sequence[Recording]) -> dict[UUID, Inspection]:
    """Facts and readings of recordings that are measured, by the newest methods they were measured by; the long lists are left
    empty."""
    known = keys(session, recordings)
    found = _ready.of(known.values(), lambda missing: without_long(session, missing))
    return {of: found[key] for of, key in known.items() if key in found}


def without_long(session: Session, wanted: Sequence[Key]) -> dict[Key, Inspection]:
    """Inspections read anew, their long lists left empty."""
    data = shortened(col(InspectionRecord.data))
    identity = (InspectionRecord.sha256, InspectionRecord.room_tone, InspectionRecord.methods_version)
    rows = session.exec(select(*identity, data).where(tuple_(*identity).in_(wanted))).all()
    return {(sha256, tone, version): kept.inspection(filled(content)) for sha256, tone, version, content in rows}


def shortened(column: Any) -> ColumnElement[Any]:
    """A JSON column with an inspection, without its long lists."""
    found: ColumnElement[Any] = column.op("-")(cast(array(LONG), ARRAY(Text)))
    return found


def measured(session: Session) -> set[str]:
    """What those sounds are known by that are measured by the methods of now."""
    return set(
        session.exec(select(InspectionRecord.sha256).where(InspectionRecord.methods_version == methods_history.current())).all()
    )


def ribbons(session: Session, recordings: Sequence[Recording]) -> dict[str, bytes]:
    """The packed miniature ribbons of sounds by what they are known by, those of the newest methods."""
    rows = select(InspectionRecord.sha256, InspectionRecord.ribbon).where(_of(recordings))
    return dict(session.exec(rows.order_by(col(InspectionRecord.methods_version))).all())


def whole(session: Session, recording: Recording, *, light: bool = False) -> InspectionRecord | None:
    """What is kept of a recording's inspection: everything, or all but the readings themselves and the miniature.

    Until it is measured with room tone just chosen, or by the methods of now, what was before.
    """
    options = [defer(InspectionRecord.data), defer(InspectionRecord.ribbon)] if light else []  # type: ignore[arg-type]
    for sha256, tone in _keys(recording):
        found = session.exec(
            select(InspectionRecord)
            .where(InspectionRecord.sha256 == sha256, InspectionRecord.room_tone == tone)
            .order_by(col(InspectionRecord.methods_version).desc())
            .limit(1)
            .options(*options)
        ).first()
        if found is not None:
            return found
    return None


def inspection(record: InspectionRecord) -> Inspection:
    """A whole inspection as it is kept, whatever version wrote it."""
    return kept.inspection(record.data)


def held(session: Session, recording: Recording) -> Inspection | None:
    """A recording's whole inspection, as `whole` finds it; those that were asked for last are held ready. None where there is
    none."""
    record = whole(session, recording, light=True)
    if record is None:
        return None
    key = (record.sha256, record.room_tone, record.methods_version)
    return _whole.of([key], lambda _: {key: inspection(record)})[key]


def exact(session: Session, recording: Recording) -> InspectionRecord | None:
    """The inspection by the methods of now with the room tone that the recording has now, or None."""
    return session.get(InspectionRecord, (recording.known_as, methods_history.current(), recording.room_tone))


def _keys(recording: Recording) -> list[tuple[str, str]]:
    return [(recording.known_as, recording.room_tone)] + ([(recording.known_as, "")] if recording.room_tone else [])


def holds_something(column: Any) -> ColumnElement[bool]:
    """Whether a JSON column holds an object: where nothing came of an attempt it may hold SQL's null or JSON's own."""
    return func.coalesce(func.jsonb_typeof(column) == "object", False)


def without_lists(column: Any, *keys: str, drop: str) -> ColumnElement[Any]:
    """A JSON column without one key, whose inspections, under the other keys, come without their long lists."""
    shortened = column.op("-")(drop)
    for key in keys:
        for name in LONG:
            shortened = shortened.op("#-")(cast(array((key, name)), ARRAY(Text)))
    # Where nothing has come of it yet the column holds JSON's null, from which nothing can be taken.
    return case((func.jsonb_typeof(column) == "object", shortened), else_=column)


def filled(data: dict[str, Any]) -> dict[str, Any]:
    """An inspection's JSON with empty lists for those that were left out."""
    return {**dict.fromkeys(LONG, ()), **data}


def _of(recordings: Sequence[Recording]) -> ColumnElement[bool]:
    return col(InspectionRecord.sha256).in_({recording.known_as for recording in recordings})
