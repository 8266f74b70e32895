"""What a production holds on disk, and clearing away what no certificate rests on."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from pydantic import BaseModel
from sqlmodel import Session, col, select

from ispettore.core.spec import kept
from ispettore.studio import events
from ispettore.studio.catalogue import edited, made, naming
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.store.blobs import Store
from ispettore.studio.store.placing import clearing
from ispettore.studio.tables import (
    ArchiveRecord,
    BedSound,
    Conforming,
    DeliverableRecord,
    InspectionRecord,
    Production,
    Recording,
    TakeRecord,
    now,
)


class DiskPart(BaseModel):
    """Files of one sort: how many, and how many bytes they take."""

    title: str
    files: int
    size_bytes: int


class DiskUse(BaseModel):
    """What a production holds on disk; the same bytes are counted once. `clearable` are masters and other files without a
    certificate that are not the one that counts for their recording."""

    parts: list[DiskPart]
    size_bytes: int
    clearable: DiskPart


@dataclass(frozen=True, slots=True)
class _Made:
    """What an attempt wrote."""

    id: UUID
    sha256: str
    size_bytes: int
    certified: bool
    cleared: bool
    picture: str | None

    @property
    def file(self) -> tuple[str, int]:
        return self.sha256, self.size_bytes


def of_production(production_id: UUID, store: Store) -> DiskUse:
    """Raises NotFound."""
    with transaction() as session:
        production = _production(session, production_id)
        recordings = session.exec(select(Recording).where(Recording.production_id == production_id)).all()
        written = _written(session, production_id)
        clearable = _clearable(session, production, written)
        delivered = _delivered(session, production_id)
        archives = session.exec(select(ArchiveRecord).where(*_archived(production_id))).all()
        archived = {sha256 for one in archives for sha256 in one.own}
        drawn = _drawn(session, production_id) | {one.picture for one in written if one.picture is not None}
        of = col(TakeRecord.recording_id).in_([one.id for one in recordings])
        retakes = {
            sha256 for row in session.exec(select(TakeRecord.sha256, TakeRecord.prepared_sha256).where(of)).all() for sha256 in row
        }
        laid = select(BedSound.sha256, BedSound.heard_sha256).where(BedSound.production_id == production_id)
        under = {sha256 for row in session.exec(laid).all() for sha256 in row}
    there = [one for one in recordings if one.erased_at is None]
    gone = [one for one in there if one.removed_at is not None or one.replaced_by is not None]
    here = [one for one in there if one not in gone]
    kept_files = [one for one in written if not one.cleared]
    seen: set[str] = set()
    parts = [
        _part("recordings", [(one.sha256, one.size_bytes) for one in here], seen),
        _part("removed or replaced recordings", [(one.sha256, one.size_bytes) for one in gone], seen),
        _part("retakes", [(sha256, store.size(sha256)) for sha256 in retakes if sha256 and store.has(sha256)], seen),
        _part("sounds for beds", [(sha256, store.size(sha256)) for sha256 in under if sha256 and store.has(sha256)], seen),
        _part("certified files", [one.file for one in kept_files if one.certified], seen),
        _part("masters and other files", [one.file for one in kept_files if not one.certified], seen),
        _part("delivered files", delivered, seen),
        _part("its archive", [(sha256, store.size(sha256)) for sha256 in archived if store.has(sha256)], seen),
        _part("pictures and levels", [(sha256, store.size(sha256)) for sha256 in drawn if store.has(sha256)], seen),
    ]
    return DiskUse(
        parts=[part for part in parts if part.files],
        size_bytes=sum(part.size_bytes for part in parts),
        clearable=_part("masters and other files", [one.file for one in clearable], set()),
    )


def clear(production_id: UUID, store: Store) -> DiskPart:
    """Clear away masters and other files without a certificate of recordings for which another file counts; what that was. What
    they read and what made them stays, and so does any file that something else is made of. Raises NotFound."""
    with clearing():
        with transaction() as session:
            gone = _clearable(session, _production(session, production_id), _written(session, production_id))
            for one in gone:
                conforming = session.get_one(Conforming, one.id)
                conforming.cleared_at = now()
                session.add(conforming)
            if gone:
                forget_archives_of(session, production_id, store)
                events.tell(session, events.Notice(about="production", id=str(production_id), production=production_id))
        with transaction() as session:
            # Those cleared before too: should a process end between the two, the next clearing does the rest.
            unnamed = {one.sha256 for one in _written(session, production_id) if one.cleared}
            unnamed -= naming.among(session, unnamed)
        for sha256 in unnamed:
            store.remove(sha256)
    return _part("masters and other files", [one.file for one in gone], set())


def _production(session: Session, production_id: UUID) -> Production:
    production = session.get(Production, production_id)
    if production is None:
        raise NotFound(what="production")
    return production


def _written(session: Session, production_id: UUID) -> list[_Made]:
    columns: tuple[Any, ...] = (
        Conforming.id,
        Conforming.sha256,
        Conforming.size_bytes,
        col(Conforming.certificate_id).is_not(None),
        col(Conforming.cleared_at).is_not(None),
        Conforming.pyramid_sha256,
    )
    rows = select(*columns).join(Recording, col(Recording.id) == Conforming.recording_id)
    here = (Recording.production_id == production_id, col(Conforming.sha256).is_not(None))
    return [_Made(*row) for row in session.exec(rows.where(*here)).all()]


def _clearable(session: Session, production: Production, written: Sequence[_Made]) -> list[_Made]:
    here = select(Recording.id).where(Recording.production_id == production.id)
    counting = made.newest(session, here, kept.specification(production.specification))
    stays = {found.counts for found in counting.values()}
    return [one for one in written if not one.certified and not one.cleared and one.id not in stays]


def _delivered(session: Session, production_id: UUID) -> list[tuple[str, int]]:
    """Files as they are delivered: named and tagged."""
    rows = select(DeliverableRecord.sha256, DeliverableRecord.size_bytes).join(
        Recording, col(DeliverableRecord.recording_id) == Recording.id
    )
    of_it = (Recording.production_id == production_id, *naming.still(DeliverableRecord, naming.OWN))
    found = session.exec(rows.where(*of_it)).all()
    return [(sha256, size) for sha256, size in found if sha256 is not None and size is not None]


def _drawn(session: Session, production_id: UUID) -> set[str]:
    """Files that were kept beside the inspections of a production's recordings."""
    columns: tuple[Any, ...] = (InspectionRecord.pyramid_sha256, InspectionRecord.levels_sha256, InspectionRecord.listening_sha256)
    rows = session.exec(select(*columns).where(col(InspectionRecord.sha256).in_(edited.sounds_of(production_id)))).all()
    return {sha256 for row in rows for sha256 in row if sha256 is not None}


def _archived(production_id: UUID) -> tuple[Any, ...]:
    return (ArchiveRecord.production_id == production_id, col(ArchiveRecord.as_of).is_not(None))


def forget_archives_of(session: Session, production_id: UUID, store: Store) -> None:
    """Let go of a production's archives as files of it go: they would promise what is not there any more. Inside `clearing()`."""
    forget_archives(session, session.exec(select(ArchiveRecord).where(*_archived(production_id))).all(), store)


def forget_archives(session: Session, archives: Sequence[ArchiveRecord], store: Store) -> None:
    """Let go of archives, with the files that were written for them alone; inside `clearing()`."""
    for one in archives:
        session.delete(one)
    session.flush()
    naming.remove_unnamed(session, {sha256 for one in archives for sha256 in one.own}, store)


def _part(title: str, files: Iterable[tuple[str, int]], seen: set[str]) -> DiskPart:
    """Those of the files that were not counted yet."""
    fresh = {sha256: size for sha256, size in files if sha256 not in seen}
    seen |= fresh.keys()
    return DiskPart(title=title, files=len(fresh), size_bytes=sum(fresh.values()))
