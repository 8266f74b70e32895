"""Erasing what was removed: its files leave the disk for good, and it can't be restored. What is known of it stays: its record, its
readings and its certificates, so that these can still be checked and withdrawn.

Nothing is erased by itself, however long ago it was removed.
"""

from collections import defaultdict
from collections.abc import Sequence
from datetime import datetime
from typing import Any, Literal
from uuid import UUID

import sqlalchemy
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import and_, delete, or_, update
from sqlmodel import Session, col, select

from ispettore.core.edit.edits import Edits
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, disk_use, edited, naming
from ispettore.studio.database import transaction
from ispettore.studio.errors import AlreadyErased, NotFound, NotReady, NotRemoved
from ispettore.studio.jobs import works
from ispettore.studio.store.blobs import Store
from ispettore.studio.store.placing import clearing
from ispettore.studio.tables import (
    BedSound,
    Conforming,
    DeliverableRecord,
    EditList,
    InspectionRecord,
    Production,
    Recording,
    TakeRecord,
    Work,
    WorkKind,
    now,
)

MOST = 1_000
PATIENCE_S = 20.0
"""Work that is cancelled ends within a second, unless it is in the middle of one long step."""


class Erasable(BaseModel):
    """A production or a recording that was removed."""

    model_config = ConfigDict(extra="forbid")

    kind: Literal["production", "recording"]
    id: UUID


class WantedErased(BaseModel):
    """What is to be erased for good."""

    model_config = ConfigDict(extra="forbid")

    items: list[Erasable] = Field(min_length=1, max_length=MOST)


class Erased(BaseModel):
    """How much was erased, and what came free on disk: files that nothing else needs."""

    items: int
    files: int
    size_bytes: int


def erase(wanted: Sequence[Erasable], store: Store) -> Erased:
    """Erase what was removed, one after the other; work that is under way on it is cancelled first, and waited for. A recording
    goes with those whose place it took.

    Raises NotFound, NotRemoved, AlreadyErased, and NotReady as long as something is still at work on it; what came before stays
    erased.
    """
    files, size_bytes = 0, 0
    for one in wanted:
        with transaction() as session:
            at_work = _at_work(session, _removed(session, one))
        works.cancel_unfinished(at_work)
        works.wait_until_ended(at_work, at_most_s=PATIENCE_S)
        with clearing(), transaction() as session:
            gone = _erase(session, _removed(session, one), store)
            files, size_bytes = files + len(gone), size_bytes + sum(store.size(sha256) for sha256 in gone if store.has(sha256))
    return Erased(items=len(wanted), files=files, size_bytes=size_bytes)


def sizes(session: Session, of: Sequence[Production | Recording]) -> dict[UUID, int]:
    """What the files that would be erased with each take on disk, in bytes, apart from pictures; some may be needed by others as
    well."""
    going = _going(session, of)
    item_of = {recording: item for item, recordings in going.items() for recording in recordings}
    kept: tuple[tuple[Any, Any, Any], ...] = (
        (Recording, Recording.id, item_of),
        *((model, model.recording_id, item_of) for model in (Conforming, DeliverableRecord, TakeRecord)),
        (BedSound, BedSound.production_id, {one.id: one.id for one in of}),
    )
    held: dict[UUID, dict[str, int]] = {one.id: {} for one in of}
    for model, belongs_to, known in kept:
        rows = select(belongs_to, model.sha256, model.size_bytes)
        here = (belongs_to.in_(known), model.sha256.is_not(None), *naming.still(model, naming.OWN))
        for owner, sha256, size_bytes in session.exec(rows.where(*here)).all():
            held[known[owner]][sha256] = size_bytes
    return {item: sum(files.values()) for item, files in held.items()}


def _removed(session: Session, one: Erasable) -> Production | Recording:
    model: Any = Production if one.kind == "production" else Recording
    found: Production | Recording | None = session.get(model, one.id, with_for_update=True)
    if found is None:
        raise NotFound(what=one.kind)
    if found.erased_at is not None:
        raise AlreadyErased(name=found.name)
    if found.removed_at is None:
        raise NotRemoved(name=found.name)
    return found


def _going(session: Session, of: Sequence[Production | Recording]) -> dict[UUID, list[UUID]]:
    """The recordings that go with each: those of a production that are not erased yet; or one with all whose place it took, unless
    another has its own place now."""
    going: dict[UUID, list[UUID]] = {one.id: [] for one in of}
    productions = [one.id for one in of if isinstance(one, Production)]
    mine = (col(Recording.production_id).in_(productions), col(Recording.erased_at).is_(None))
    for recording, production in session.exec(select(Recording.id, Recording.production_id).where(*mine)).all():
        going[production].append(recording)
    alone = [one for one in of if isinstance(one, Recording)]
    earlier: dict[UUID, list[UUID]] = defaultdict(list)
    there = (col(Recording.production_id).in_({one.production_id for one in alone}), col(Recording.replaced_by).is_not(None))
    for recording, later in session.exec(select(Recording.id, Recording.replaced_by).where(*there)).all():
        if later is not None:
            earlier[later].append(recording)
    for one in alone:
        going[one.id], before = [one.id], [one.id] if one.replaced_by is None else []
        while before:
            before = [recording for later in before for recording in earlier[later]]
            going[one.id] += before
    return going


def _at_work(session: Session, of: Production | Recording) -> Any:
    """Work that reads what is to go."""
    if isinstance(of, Production):
        return col(Work.production_id) == of.id
    laid_out = and_(col(Work.kind) == WorkKind.ARCHIVE, col(Work.production_id) == of.production_id)
    return or_(col(Work.recording_id).in_(_going(session, [of])[of.id]), laid_out)


def _erase(session: Session, of: Production | Recording, store: Store) -> set[str]:
    """Let go of all files of a production or a recording; which of them nothing else needs, so that they are removed."""
    if works.unfinished(session, _at_work(session, of)):
        raise NotReady(file=of.name, reason="is still being worked on")
    at, production = now(), of.id if isinstance(of, Production) else of.production_id
    disk_use.forget_archives_of(session, production, store)
    going = _going(session, [of])[of.id]
    files = naming.of_rows(session, Recording, col(Recording.id).in_(going)) | _let_go(session, production, going, at)
    for one in session.exec(select(Recording).where(col(Recording.id).in_(going))).all():
        one.erased_at, one.removed_at = at, one.removed_at or at
        session.add(one)
    if isinstance(of, Production):
        files |= naming.of_rows(session, Production, Production.id == of.id)
        files |= naming.of_rows(session, BedSound, BedSound.production_id == of.id)
        session.exec(delete(BedSound).where(col(BedSound.production_id) == of.id))
        of.cover_sha256, of.cover, of.erased_at = None, None, at
        session.add(of)
    deeds.note(session, of, "Production erased." if isinstance(of, Production) else "Erased, with every file made of it.")
    events.tell(session, events.Notice(about="production", id=str(production), production=production))
    session.flush()
    return naming.remove_unnamed(session, files, store)


def _let_go(session: Session, production: UUID, recordings: Sequence[UUID], at: datetime) -> set[str]:
    """Let go of what was measured and made of recordings; the files that were named for that."""
    files = _of_sounds(session, recordings) | _of_retakes(session, production, recordings)
    for made in (Conforming, DeliverableRecord):
        of_them = col(made.recording_id).in_(recordings)
        files |= naming.of_rows(session, made, of_them)
        there = (of_them, col(made.sha256).is_not(None), col(made.cleared_at).is_(None))
        session.exec(update(made).where(*there).values(cleared_at=at))
    drawn = {name: None for name in naming.NAMING[Conforming] if name != naming.OWN}
    session.exec(update(Conforming).where(col(Conforming.recording_id).in_(recordings)).values(**drawn))
    return files


def _of_sounds(session: Session, recordings: Sequence[UUID]) -> set[str]:
    """Files that were kept beside the inspections of sounds which no other recording has. These inspections are deleted: the same
    sound is measured anew should it come in again."""
    sounds = set(session.execute(edited.sounds(col(Recording.id).in_(recordings))).scalars())
    others = edited.sounds(col(Recording.id).not_in(recordings)).subquery()
    shared = session.execute(sqlalchemy.select(others.c[0]).where(others.c[0].in_(sounds))).scalars()
    of_them = col(InspectionRecord.sha256).in_(sounds - set(shared))
    files = naming.of_rows(session, InspectionRecord, of_them)
    session.exec(delete(InspectionRecord).where(of_them))
    return files


def _of_retakes(session: Session, production: UUID, recordings: Sequence[UUID]) -> set[str]:
    """Files of retakes, of recordings that were erased before as well. A retake stays as long as it is heard in another recording,
    which its own was joined to."""
    others = select(EditList.edits).join(Recording, col(EditList.recording_id) == Recording.id)
    there = (Recording.production_id == production, col(Recording.id).not_in(recordings), col(Recording.erased_at).is_(None))
    heard = {take for edits in session.exec(others.where(*there)).all() for take in Edits.model_validate(edits).takes}
    before = and_(col(Recording.production_id) == production, col(Recording.erased_at).is_not(None))
    theirs = select(TakeRecord).join(Recording, col(TakeRecord.recording_id) == Recording.id)
    theirs = theirs.where(or_(col(Recording.id).in_(recordings), before))
    gone = [take for take in session.exec(theirs).all() if take.prepared_sha256 not in heard]
    for take in gone:
        session.delete(take)
    return {sha256 for take in gone for sha256 in naming.of_row(TakeRecord, take.model_dump())}
