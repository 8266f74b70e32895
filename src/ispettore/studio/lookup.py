"""Stored inspections as they are needed: whole for one recording, without their long lists where many are judged at once."""

from collections.abc import Sequence
from threading import Lock
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement, Text, case, cast, func
from sqlalchemy.dialects.postgresql import ARRAY, array
from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from ispettore.core.measure.inspection import METHODS_VERSION, Inspection
from ispettore.studio.tables import InspectionRecord, Recording

LONG = ("findings", "speech", "room_tone", "pauses")
"""What grows with the length of a recording. No limit is judged by it, and it is most of what is stored."""


HELD = 1_000
"""So many inspections without their lists are held ready: what is kept under a file's hash never changes."""
_ready: dict[tuple[str, str], Inspection] = {}
_readying = Lock()


def short(session: Session, recordings: Sequence[Recording]) -> dict[UUID, Inspection]:
    """Facts and readings of recordings that are measured; the long lists are left empty."""
    keys = session.exec(select(InspectionRecord.sha256, InspectionRecord.room_tone).where(*_of(recordings))).all()
    there = {(sha256, tone) for sha256, tone in keys}
    with _readying:
        found = {key: _ready[key] for key in there if key in _ready}
    if missing := there - found.keys():
        read = _without_lists(session, {sha256 for sha256, _ in missing})
        with _readying:
            _ready.update(read)
            for oldest in list(_ready)[:-HELD]:
                del _ready[oldest]
        found.update(read)
    known = {}
    for recording in recordings:
        for key in _keys(recording):
            if key in found:
                known[recording.id] = found[key]
                break
    return known


def _without_lists(session: Session, hashes: set[str]) -> dict[tuple[str, str], Inspection]:
    data = col(InspectionRecord.data).op("-")(cast(array(LONG), ARRAY(Text)))
    rows = session.exec(select(InspectionRecord.sha256, InspectionRecord.room_tone, data).where(*_among(hashes))).all()
    return {(sha256, tone): Inspection.model_validate(filled(content)) for sha256, tone, content in rows}


def measured(session: Session) -> set[str]:
    """Hashes of the files that are measured by the methods of now."""
    return set(session.exec(select(InspectionRecord.sha256).where(InspectionRecord.methods_version == METHODS_VERSION)).all())


def ribbons(session: Session, recordings: Sequence[Recording]) -> dict[str, bytes]:
    """The packed miniature ribbons of files by their hash."""
    return dict(session.exec(select(InspectionRecord.sha256, InspectionRecord.ribbon).where(*_of(recordings))).all())


def whole(session: Session, recording: Recording, *, light: bool = False) -> InspectionRecord | None:
    """What is kept of a recording's inspection: everything, or all but the readings themselves and the miniature.

    Until it is measured with room tone just chosen, what was before.
    """
    options = [defer(InspectionRecord.data), defer(InspectionRecord.ribbon)] if light else []  # type: ignore[arg-type]
    for sha256, tone in _keys(recording):
        found = session.get(InspectionRecord, (sha256, METHODS_VERSION, tone), options=options)
        if found is not None:
            return found
    return None


def exact(session: Session, recording: Recording) -> InspectionRecord | None:
    """The inspection with the room tone that the recording has now, or None."""
    return session.get(InspectionRecord, (recording.sha256, METHODS_VERSION, recording.room_tone))


def _keys(recording: Recording) -> list[tuple[str, str]]:
    return [(recording.sha256, recording.room_tone)] + ([(recording.sha256, "")] if recording.room_tone else [])


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


def _of(recordings: Sequence[Recording]) -> tuple[Any, ...]:
    return _among({recording.sha256 for recording in recordings})


def _among(hashes: set[str]) -> tuple[Any, ...]:
    return col(InspectionRecord.sha256).in_(hashes), InspectionRecord.methods_version == METHODS_VERSION
