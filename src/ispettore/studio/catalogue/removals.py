"""What was removed and can be restored: productions, recordings, specifications and treatments."""

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel
from sqlmodel import Session, col, select

from ispettore.studio.catalogue import erasing
from ispettore.studio.database import transaction
from ispettore.studio.tables import Production, Recording, SpecificationRecord, TreatmentRecord


class Removed(BaseModel):
    """One thing that was removed; `production` is the name of the one a recording was in."""

    kind: Literal["production", "recording", "specification", "treatment"]
    id: str
    name: str
    production: str = ""
    removed_at: datetime
    size_bytes: int = 0
    """What its files take on disk, apart from pictures: those of all recordings that would be erased with it."""


def everything() -> list[Removed]:
    """All that was removed, the newest first. What was in a removed production comes back with it and is not told again."""
    with transaction() as session:
        found = [*_with_files(session), *_specifications(session), *_treatments(session)]
    return sorted(found, key=lambda one: one.removed_at, reverse=True)


def _with_files(session: Session) -> Iterator[Removed]:
    """Productions, and recordings of productions that are there."""
    gone = (col(Production.removed_at).is_not(None), col(Production.erased_at).is_(None))
    productions = session.exec(select(Production).where(*gone)).all()
    apart = select(Recording, Production.name).join(Production, col(Production.id) == col(Recording.production_id))
    there = (col(Recording.removed_at).is_not(None), col(Recording.erased_at).is_(None), col(Production.removed_at).is_(None))
    recordings = session.exec(apart.where(*there)).all()
    sizes = erasing.sizes(session, [*productions, *(one for one, _ in recordings)])
    for one in productions:
        yield _of("production", one, sizes)
    for each, production in recordings:
        yield _of("recording", each, sizes, production=production)


def _of(
    kind: Literal["production", "recording"], one: Production | Recording, sizes: Mapping[UUID, int], *, production: str = ""
) -> Removed:
    at = _when(one.removed_at)
    return Removed(kind=kind, id=str(one.id), name=one.name, production=production, removed_at=at, size_bytes=sizes[one.id])


def _specifications(session: Session) -> list[Removed]:
    gone = select(SpecificationRecord).where(col(SpecificationRecord.removed_at).is_not(None))
    return _newest("specification", session.exec(gone.order_by(col(SpecificationRecord.version))).all())


def _treatments(session: Session) -> list[Removed]:
    gone = select(TreatmentRecord).where(col(TreatmentRecord.removed_at).is_not(None))
    return _newest("treatment", session.exec(gone.order_by(col(TreatmentRecord.version))).all())


def _newest(
    kind: Literal["specification", "treatment"], versions: Sequence[SpecificationRecord | TreatmentRecord]
) -> list[Removed]:
    """Of what has versions, each by the name of its newest."""
    newest = {one.identifier: one for one in versions}
    return [Removed(kind=kind, id=key, name=str(one.data["name"]), removed_at=_when(one.removed_at)) for key, one in newest.items()]


def _when(at: datetime | None) -> datetime:
    assert at is not None
    return at
