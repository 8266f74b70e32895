"""Beds as they are kept: what lies under the voice of a recording, or of every recording of a production that has nothing of its
own. Whatever is planned or made keeps the text of the bed that it was made with."""

import json
from collections.abc import Sequence
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement, case
from sqlmodel import Session, col, select

from ispettore.core.measure.inspection import Inspection
from ispettore.core.treat.bed import Bed
from ispettore.studio.tables import BedSound, Production, Recording

TOLD = ("integrated_loudness_lufs", "true_peak_dbtp")


def text(production: Production, recording: Recording) -> str:
    """What lies under a recording, as it is kept; empty where nobody said anything."""
    return recording.bed or production.bed


def of(session: Session, recording: Recording) -> str:
    """The same, where its production is not at hand."""
    return text(session.get_one(Production, recording.production_id), recording)


def each(session: Session, recordings: Sequence[Recording]) -> dict[UUID, str]:
    """The same of many, by their identifiers; their productions are read once."""
    wanted = {recording.production_id for recording in recordings}
    found = session.exec(select(Production).where(col(Production.id).in_(wanted))).all()
    productions = {production.id: production for production in found}
    return {recording.id: text(productions[recording.production_id], recording) for recording in recordings}


def counting() -> ColumnElement[Any]:
    """The same of `Recording` and `Production` in a query."""
    return case((col(Recording.bed) != "", col(Recording.bed)), else_=col(Production.bed))


def read(kept: str) -> Bed | None:
    """A bed from its text; None where nothing is laid."""
    bed = whole(kept)
    return bed if bed.clips else None


def whole(kept: str) -> Bed:
    """A bed from its text, be it one without sounds."""
    return Bed.model_validate_json(kept) if kept else Bed()


def written(bed: Bed) -> str:
    """A bed as it is kept: the same bed is the same text."""
    return json.dumps(bed.model_dump(mode="json", exclude_defaults=True), ensure_ascii=False, sort_keys=True, separators=(",", ":"))


def measured(session: Session, sound: BedSound, inspection: Inspection, heard: str) -> None:
    """Keep what was measured of a sound, and the file that it is read from."""
    facts = inspection.facts
    sound.heard_sha256 = heard
    sound.told = {
        "duration_s": facts.duration_s,
        "sample_rate_hz": facts.sample_rate_hz,
        "channels": facts.channels,
        **{name: inspection.value(name) for name in TOLD},
    }
    session.add(sound)
