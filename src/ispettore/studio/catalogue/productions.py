"""Productions: making, changing and ordering them, and how they stand."""

from collections.abc import Callable
from datetime import datetime
from typing import Literal
from uuid import UUID, uuid4

import sqlalchemy
from natsort import natsorted, ns
from sqlmodel import Session, col, func, select

from ispettore.core.deliver.labels import Delivering
from ispettore.core.spec import kept
from ispettore.core.spec.specification import Specification
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, defaults, recordings, sheets, specifications
from ispettore.studio.catalogue.sheet_views import ProductionSummary
from ispettore.studio.database import transaction
from ispettore.studio.errors import AlreadyErased, NameMissing, NotFound, OrderChanged
from ispettore.studio.jobs import works
from ispettore.studio.tables import DeedRecord, Production, Recording, Work, now


def create(name: str, specification_id: str, *, production_id: UUID | None = None) -> UUID:
    """Make a production that is held against a specification; its certificates show the name that is set here. Asked for twice
    under one identifier it is made once.

    Raises UnknownSpecification, NameMissing and BadText.
    """
    specification = specifications.specification(specification_id)
    if not name.strip():
        raise NameMissing(what="production")
    shown = refuse(name.strip(), what="The production's name")
    identifier = production_id or uuid4()
    with transaction() as session:
        session.execute(select(func.pg_advisory_xact_lock(identifier.int % 2**63)))
        if session.get(Production, identifier) is not None:
            return identifier
        production = Production(id=identifier, name=shown, specification=specification.model_dump(mode="json"))
        if certified_by := defaults.of(session).name:
            production.delivering = Delivering(certified_by=certified_by).model_dump(mode="json")
        session.add(production)
        session.flush()
        deeds.held_against(session, production, begun=True)
        events.tell(session, events.Notice(about="production", id=str(production.id), production=production.id))
        return production.id


def change(
    production_id: UUID,
    *,
    specification_id: str | None = None,
    specification_version: int | None = None,
    name: str | None = None,
    notes: str | None = None,
    archived: bool | None = None,
    reference: UUID | Literal["none"] | None = None,
) -> None:
    """Change what is given. Held against another specification, its readings are judged anew; nothing is measured again.

    A specification is taken in its newest version unless another is named. `reference` is the recording that the others are
    brought to, "none" for none. Raises NotFound, UnknownSpecification and NameMissing.
    """
    specification = _wanted(specification_id, specification_version)
    if name is not None and not refuse(name, what="The production's name").strip():
        raise NameMissing(what="production")
    with transaction() as session:
        production = session.get(Production, production_id)
        if production is None:
            raise NotFound(what="production")
        if specification is not None:
            specifications.hold(session, production, specification)
        if name is not None and name.strip() != production.name:
            deeds.note(session, production, f"Production renamed from “{production.name}” to “{name.strip()}”.")
            production.name = name.strip()
        if notes is not None:
            production.notes = notes
        if archived is not None and archived != (production.archived_at is not None):
            deeds.note(session, production, "Production hidden." if archived else "Production restored.")
            production.archived_at = (production.archived_at or now()) if archived else None
        if reference is not None:
            production.reference_id = _referred(session, production_id, reference) if reference != "none" else None
        session.add(production)
        events.tell(session, events.Notice(about="production", id=str(production_id), production=production_id))


def _wanted(identifier: str | None, version: int | None) -> Specification | None:
    if identifier is None:
        return None
    return specifications.specification(identifier) if version is None else specifications.version(identifier, version)


def remove(production_id: UUID, *, removed: bool) -> None:
    """Take a production out of sight, or bring it back; all that is in it stays. Raises NotFound and AlreadyErased."""
    with transaction() as session:
        production = session.get(Production, production_id, with_for_update=True)
        if production is None:
            raise NotFound(what="production")
        if production.erased_at is not None and not removed:
            raise AlreadyErased(name=production.name)
        if removed != (production.removed_at is not None):
            deeds.note(session, production, "Production removed." if removed else "Removed production restored.")
        production.removed_at = (production.removed_at or now()) if removed else None
        session.add(production)
        events.tell(session, events.Notice(about="production", id=str(production_id), production=production_id))


def _referred(session: Session, production_id: UUID, recording_id: UUID) -> UUID:
    if recording_id not in {recording.id for recording in recordings.current(session, production_id)}:
        raise NotFound(what="recording")
    return recording_id


def order(production_id: UUID, wanted: list[UUID]) -> None:
    """Put the recordings of a production in this order. Raises NotFound, and OrderChanged where they are not just these."""
    _reorder(production_id, lambda _found: wanted)


def order_by_name(production_id: UUID) -> None:
    """Put the recordings in the order of their names, numbers in them read as numbers: "2" comes before "10"."""
    _reorder(production_id, lambda found: [recording.id for recording in natsorted(found, key=lambda r: r.name, alg=ns.IGNORECASE)])


def _reorder(production_id: UUID, arrange: Callable[[list[Recording]], list[UUID]]) -> None:
    with transaction() as session:
        production = session.get(Production, production_id, with_for_update=True)
        if production is None:
            raise NotFound(what="production")
        found = {recording.id: recording for recording in recordings.current(session, production_id)}
        wanted = arrange(list(found.values()))
        if len(wanted) != len(found) or set(wanted) != set(found):
            raise OrderChanged(production=production.name)
        for position, recording_id in enumerate(wanted, start=1):
            found[recording_id].position = position
            session.add(found[recording_id])
        events.tell(session, events.Notice(about="production", id=str(production_id), production=production_id))


def cancel(production_id: UUID) -> None:
    """Cancel all that waits or runs for a production."""
    works.cancel_unfinished(col(Work.production_id) == production_id)


def summaries() -> list[ProductionSummary]:
    """Every production that was not removed, with how its recordings stand."""
    found = []
    with transaction() as session:
        there = select(Production).where(col(Production.removed_at).is_(None)).order_by(col(Production.created_at))
        active = _last_active(session)
        for production in session.exec(there).all():
            specification = kept.specification(production.specification)
            standing, certified = sheets.counted(session, production)
            found.append(
                ProductionSummary(
                    id=production.id,
                    name=production.name,
                    specification_id=specification.id,
                    specification_name=specification.name,
                    recordings=sum(each.count for each in standing),
                    standing=standing,
                    certified=certified,
                    last_activity=max(production.created_at, active.get(production.id, production.created_at)),
                    archived=production.archived_at is not None,
                )
            )
    return found


def _last_active(session: Session) -> dict[UUID, datetime]:
    """When something last happened in each production: a file came in, work was asked for or ended, something was decided."""
    times = (
        (col(Recording.production_id), col(Recording.created_at)),
        (col(Work.production_id), func.coalesce(Work.finished_at, Work.created_at)),
        (col(DeedRecord.production_id), col(DeedRecord.at)),
    )
    last: dict[UUID, datetime] = {}
    for of, at in times:
        for production_id, time in session.execute(sqlalchemy.select(of, func.max(at)).where(of.is_not(None)).group_by(of)).all():
            last[production_id] = max(last.get(production_id, time), time)
    return last
