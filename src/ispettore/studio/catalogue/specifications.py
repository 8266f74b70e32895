"""Specifications: those that ship, and those written here, kept in versions that are added and never changed."""

from datetime import datetime
from typing import Any

from sqlalchemy import func
from sqlmodel import Session, col, select

from ispettore.core import errors
from ispettore.core.spec import builtin, catalogue, kept
from ispettore.core.spec.changes import Change, changes
from ispettore.core.spec.objections import objections, readable_limit, refusal
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.wording import pieces
from ispettore.studio import events
from ispettore.studio.catalogue import deeds
from ispettore.studio.catalogue.identifiers import free
from ispettore.studio.catalogue.views import Examined, LimitSentence, SpecificationVersion, SpecificationView
from ispettore.studio.database import transaction
from ispettore.studio.errors import BuiltIn, NotFound, SpecificationRefused, VersionChanged
from ispettore.studio.tables import Conforming, Production, SpecificationRecord, now


def all_specifications() -> list[Specification]:
    """Every specification that a production may use, in its newest version: those that ship, then ours by name, but for removed
    ones."""
    with transaction() as session:
        newest = (
            select(SpecificationRecord.identifier, func.max(SpecificationRecord.version))
            .where(col(SpecificationRecord.removed_at).is_(None))
            .group_by(col(SpecificationRecord.identifier))
        )
        found = [_version(session, identifier, version) for identifier, version in session.exec(newest).all()]
    return [*builtin.shipped().values(), *sorted(found, key=lambda found: found.name.casefold())]


def specification(identifier: str) -> Specification:
    """The newest version of one by its identifier. Raises UnknownSpecification."""
    with transaction() as session:
        return _newest(session, identifier)


def view(identifier: str) -> SpecificationView:
    """The newest version as sentences, all versions with what was made by each, and who is held against it. Raises NotFound."""
    with transaction() as session:
        records = _records(session, identifier)
        shipped = builtin.shipped().get(identifier)
        if not records and shipped is None:
            raise NotFound(what="specification")
        newest = kept.specification(records[-1].data) if records else shipped
        assert newest is not None
        held = session.exec(
            select(Production.name)
            .where(Production.specification["id"].astext == identifier, col(Production.removed_at).is_(None))
            .order_by(col(Production.name))
        ).all()
        return SpecificationView(
            specification=newest,
            ships=shipped is not None,
            removed=bool(records) and records[-1].removed_at is not None,
            sentences=sentences(newest),
            productions=list(held),
            versions=[
                SpecificationVersion(version=number, created_at=created, certificates=_certificates(session, identifier, number))
                for number, created in _dates(records) or [(each.version, None) for each in builtin.versions(identifier)]
            ],
        )


def version(identifier: str, number: int) -> Specification:
    """One version. Raises NotFound."""
    with transaction() as session:
        return _version(session, identifier, number)


def compare(identifier: str, before: int, after: int) -> list[Change]:
    """What one version changed against another. Raises NotFound."""
    with transaction() as session:
        return changes(_version(session, identifier, before), _version(session, identifier, after))


def examine(draft: dict[str, Any]) -> Examined:
    """A draft's limits as sentences, as far as they can be read, and everything that speaks against it."""
    limits = draft.get("limits")
    readable = [readable_limit(raw)[0] for raw in limits] if isinstance(limits, list) else []
    return Examined(objections=objections(draft), sentences=[_sentence(limit) if limit else None for limit in readable])


def keep(identifier: str, draft: dict[str, Any], *, follows: int) -> Specification:
    """Keep a draft as the next version; every production held against it is judged anew, and nothing is measured again.

    `follows` is the version it was made from. A draft that asks the same is not kept twice. Raises NotFound, BuiltIn,
    VersionChanged where somebody else kept a version meanwhile, and SpecificationRefused with what speaks against it.
    """
    if identifier in builtin.shipped():
        raise BuiltIn(name=builtin.shipped()[identifier].name)
    wanted = {**draft, "id": identifier, "version": follows + 1}
    _refuse(wanted)
    with transaction() as session:
        _lock(session)
        newest = _newest(session, identifier)
        if newest.version != follows:
            raise VersionChanged(name=newest.name, version=newest.version)
        found = Specification.model_validate(wanted)
        return newest if _same(newest, found) else _add(session, found)


def copy(identifier: str, name: str) -> Specification:
    """One's own that starts as the newest version of another. Raises UnknownSpecification and SpecificationRefused."""
    with transaction() as session:
        _lock(session)
        source = _newest(session, identifier)
        wanted = {**source.model_dump(mode="json"), "name": name.strip(), "version": 1, "id": _free(session, name)}
        _refuse(wanted)
        return _add(session, Specification.model_validate(wanted))


def follow_shipped() -> int:
    """Hold productions against the newest version of what ships, as they follow every other; how many moved on."""
    with transaction() as session:
        _lock(session)
        moved = 0
        for known in builtin.shipped().values():
            on_it = Production.specification["id"].astext == known.id
            behind = Production.specification["version"].astext != str(known.version)
            for production in session.exec(select(Production).where(on_it, behind)).all():
                hold(session, production, known)
                moved += 1
        return moved


def remove(identifier: str, *, removed: bool) -> None:
    """Take a specification out of sight, or bring it back; productions that use it go on with it. Raises NotFound and BuiltIn."""
    if identifier in builtin.shipped():
        raise BuiltIn(name=builtin.shipped()[identifier].name)
    with transaction() as session:
        _lock(session)
        records = _records(session, identifier)
        if not records:
            raise NotFound(what="specification")
        _mark(session, records, removed=removed)


def _mark(session: Session, records: list[SpecificationRecord], *, removed: bool) -> None:
    for record in records:
        record.removed_at = (record.removed_at or now()) if removed else None
        session.add(record)
    events.tell(session, events.Notice(about="specification", id=records[0].identifier))


def bring_in(text: bytes, *, file_name: str) -> Specification:
    """A specification from its file. One that is known already is not added again; one that names another of ours follows it as
    its next version. Raises BadSpecification, also for one that takes the name or identifier of one that ships.
    """
    found = catalogue.parse(text, name=file_name)
    with transaction() as session:
        _lock(session)
        shipped = builtin.shipped().get(found.id)
        if shipped is not None:
            return shipped
        records = _records(session, found.id)
        if records:
            _mark(session, records, removed=False)
        for record in reversed(records):
            known = kept.specification(record.data)
            if _same(known, found):
                return known
        return _add(session, found.model_copy(update={"version": records[-1].version + 1 if records else found.version}))


def sentences(of: Specification) -> list[LimitSentence]:
    """The limits as sentences in pieces, in order."""
    return [_sentence(limit) for limit in of.limits]


def _sentence(limit: Limit) -> LimitSentence:
    return LimitSentence(quantity=limit.quantity, pieces=pieces(limit))


def _same(one: Specification, other: Specification) -> bool:
    return one.model_copy(update={"version": 1}) == other.model_copy(update={"version": 1})


def _refuse(wanted: dict[str, Any]) -> None:
    if against := refusal(wanted):
        raise SpecificationRefused(name=str(wanted.get("name", "")), reason=against)


def _lock(session: Session) -> None:
    """One writer at a time: versions are counted and identifiers are given out."""
    session.execute(select(func.pg_advisory_xact_lock(0x15BE77)))


def _add(session: Session, found: Specification) -> Specification:
    data = found.model_dump(mode="json")
    session.add(SpecificationRecord(identifier=found.id, version=found.version, data=data))
    held = session.exec(select(Production).where(Production.specification["id"].astext == found.id)).all()
    for production in held:
        hold(session, production, found)
    session.flush()
    events.tell(session, events.Notice(about="specification", id=str(found.id)))
    return found


def hold(session: Session, production: Production, against: Specification) -> None:
    """Hold a production against a specification from now on, in this transaction."""
    if production.specification == against.model_dump(mode="json"):
        return
    production.specification = against.model_dump(mode="json")
    session.add(production)
    deeds.held_against(session, production)
    events.tell(session, events.Notice(about="production", id=str(production.id), production=production.id))


def _records(session: Session, identifier: str) -> list[SpecificationRecord]:
    return list(
        session.exec(
            select(SpecificationRecord)
            .where(SpecificationRecord.identifier == identifier)
            .order_by(col(SpecificationRecord.version))
        ).all()
    )


def _dates(records: list[SpecificationRecord]) -> list[tuple[int, datetime | None]]:
    return [(record.version, record.created_at) for record in records]


def _newest(session: Session, identifier: str) -> Specification:
    records = _records(session, identifier)
    if records:
        return kept.specification(records[-1].data)
    shipped = builtin.shipped()
    if identifier not in shipped:
        raise errors.UnknownSpecification(name=identifier, known=", ".join(shipped))
    return shipped[identifier]


def _version(session: Session, identifier: str, number: int) -> Specification:
    record = session.get(SpecificationRecord, (identifier, number))
    if record is not None:
        return kept.specification(record.data)
    shipped = next((each for each in builtin.versions(identifier) if each.version == number), None)
    if shipped is None:
        raise NotFound(what="version of a specification")
    return shipped


def _certificates(session: Session, identifier: str, number: int) -> int:
    """How many certificates were made by a version."""
    return session.exec(
        select(func.count()).where(
            Conforming.specification["id"].astext == identifier,
            Conforming.specification["version"].astext == str(number),
            col(Conforming.certificate_id).is_not(None),
        )
    ).one()


def _free(session: Session, name: str) -> str:
    """An identifier from a name that nothing has yet."""
    taken = {*builtin.shipped(), *session.exec(select(SpecificationRecord.identifier).distinct()).all()}
    return free(name, taken, otherwise="specification")
