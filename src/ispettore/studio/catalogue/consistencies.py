"""The recordings of a production against one another, the recordings or the processed files, and the seams between neighbours."""

from collections.abc import Sequence
from uuid import UUID

from pydantic import BaseModel
from sqlmodel import Session

from ispettore.core.certify.certificate import issuer
from ispettore.core.certify.consistency_report import ConsistencyReport
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.consistency import SPEECH, Consistency, compared
from ispettore.core.spec import kept
from ispettore.studio.catalogue import lookup, made, recordings
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import Production, Recording, now

OF = {False: "the recordings", True: "the processed files"}


class SoundView(BaseModel):
    """What of a recording can be listened to: its address, and what is needed to ask for a piece of it."""

    address: str
    sample_rate_hz: int
    frames: int
    voice_dbfs: float | None


class ChapterView(BaseModel):
    """A recording among those that are compared."""

    id: UUID
    name: str
    sound: SoundView


class ConsistencyView(BaseModel):
    """Recordings against one another, in the production's order; `missing` are those that are not measured, or not made yet. `made`
    says which of both was compared; `files` counts what was made."""

    name: str
    made: bool
    files: int
    chapters: list[ChapterView]
    missing: list[str]
    found: Consistency


def of_production(production_id: UUID, *, made_files: bool) -> ConsistencyView:
    """As they came in, or the files that count. Raises NotFound."""
    with transaction() as session:
        production = session.get(Production, production_id)
        if production is None:
            raise NotFound(what="production")
        there = recordings.current(session, production_id)
        files = _files(session, production, there)
        sources = lookup.short(session, there) if not made_files else {}
    chapters, read, missing = [], [], []
    for recording in there:
        address, inspection = _one(recording, sources, files, made_files=made_files)
        if inspection is None:
            missing.append(recording.name)
            continue
        read.append(inspection)
        chapters.append(ChapterView(id=recording.id, name=recording.name, sound=_sound(address, inspection)))
    return ConsistencyView(
        name=production.name,
        made=made_files,
        files=len(files),
        chapters=chapters,
        missing=missing,
        found=compared(read),
    )


def report(production_id: UUID, *, made_files: bool) -> ConsistencyReport:
    """The same on paper. Raises NotFound."""
    view = of_production(production_id, made_files=made_files)
    return ConsistencyReport(
        production=view.name,
        of=OF[made_files],
        names=[chapter.name for chapter in view.chapters],
        found=view.found,
        issued=now(),
        issuer=issuer(),
    )


def _files(session: Session, production: Production, there: Sequence[Recording]) -> dict[UUID, tuple[UUID, Inspection]]:
    """For each recording that has a file that counts, its attempt and what that reads."""
    here = recordings.current_ids(production.id)
    counting = {of: one.counts for of, one in made.newest(session, here, kept.specification(production.specification)).items()}
    attempts = {of: counts for of, counts in counting.items() if counts is not None}
    read = made.inspections(session, list(attempts.values()))
    return {one.id: (attempts[one.id], read[attempts[one.id]]) for one in there if attempts.get(one.id) in read}


def _one(
    recording: Recording, sources: dict[UUID, Inspection], files: dict[UUID, tuple[UUID, Inspection]], *, made_files: bool
) -> tuple[str, Inspection | None]:
    if not made_files:
        return f"/api/recordings/{recording.id}/sound", sources.get(recording.id)
    attempt, inspection = files.get(recording.id, (None, None))
    return f"/api/conformings/{attempt}/sound", inspection


def _sound(address: str, inspection: Inspection) -> SoundView:
    facts = inspection.facts
    return SoundView(address=address, sample_rate_hz=facts.sample_rate_hz, frames=facts.frames, voice_dbfs=inspection.value(SPEECH))
