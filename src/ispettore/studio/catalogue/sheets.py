"""Inspection sheets: in short for pages, row by row, or whole, and as they are printed."""

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any
from uuid import UUID

from natsort import natsort_keygen, ns
from sqlmodel import Session

from ispettore.core.certify.certificate import issuer
from ispettore.core.certify.printed_sheet import PrintedRow, PrintedSheet
from ispettore.core.plan import status
from ispettore.core.spec import kept
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.spread import spreads
from ispettore.core.spec.verdict import LimitVerdict, Values, columns
from ispettore.studio.catalogue import progressing, recordings, standings, wholes
from ispettore.studio.catalogue.sheet_views import ProductionView, SheetEntry, SheetHead, SheetView, StatusCount
from ispettore.studio.catalogue.standings import Standing
from ispettore.studio.catalogue.views import RecordingView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import Production, now

BY_NAME = "name"
BY_STATUS = "status"
_name_key = natsort_keygen(alg=ns.IGNORECASE)


def listed(production_id: UUID, *, by: str = "", down: bool = False) -> SheetView:
    """The sheet in short, in the production's order or sorted `by` name, status or what a limit's quantity reads; those without a
    reading come last, whichever way. Raises NotFound."""
    with transaction() as session:
        production = _production(session, production_id)
        found, specification = _standings(session, production)
        head = _head(session, production, found, specification)
        apart = _apart(head, found)
    entries = [_entry(one, apart.get(one.recording.id, {})) for one in _sorted(found, by, down=down)]
    return SheetView(**_parts(head), entries=entries)


def sheet(production_id: UUID) -> ProductionView:
    """The inspection sheet of a production with all its rows. Raises NotFound."""
    with transaction() as session:
        production = _production(session, production_id)
        found, specification = _standings(session, production)
        head = _head(session, production, found, specification)
        return ProductionView(**_parts(head), recordings=recordings.rows(session, production.id, specification))


def whole(session: Session, production: Production, files: Mapping[UUID, Values]) -> list[LimitVerdict]:
    """The limits on a production, judged by what files of its recordings read, where there are any."""
    found, specification = _standings(session, production)
    return wholes.judged(session, found, specification, files)


def counted(session: Session, production: Production) -> tuple[list[StatusCount], int]:
    """How many recordings of a production have each status, and how many are certified for what it is held against."""
    found, _ = _standings(session, production)
    return _counts(found)


def _production(session: Session, production_id: UUID) -> Production:
    production = session.get(Production, production_id)
    if production is None:
        raise NotFound(what="production")
    return production


def _standings(session: Session, production: Production) -> tuple[list[Standing], Specification]:
    specification = kept.specification(production.specification)
    there = recordings.current(session, production.id)
    return standings.of_production(session, production, there, specification), specification


def _counts(found: Sequence[Standing]) -> tuple[list[StatusCount], int]:
    counts = Counter(one.status for one in found)
    each = [StatusCount(status=name, word=word, count=counts[name]) for name, word in status.ORDER.items() if counts[name]]
    return each, sum(counts[name] for name in status.COUNTS)


def _head(session: Session, production: Production, found: Sequence[Standing], specification: Specification) -> SheetHead:
    judged = [one.judged for one in found if one.judged is not None]
    read = [one.read for one in judged]
    standing, certified = _counts(found)
    return SheetHead(
        id=production.id,
        name=production.name,
        notes=production.notes,
        archived=production.archived_at is not None,
        removed=production.removed_at is not None,
        erased=production.erased_at is not None,
        specification=specification,
        columns=list(columns(specification, (name for one in judged for name in one.unmet))),
        standing=standing,
        certified=certified,
        measured=len(judged),
        whole=wholes.judged(session, found, specification),
        spreads=list(spreads(read, specification)),
        formats=recordings.formats(specification),
        lot=progressing.lot(session, production.id),
        reference=production.reference_id if any(one.recording.id == production.reference_id for one in found) else None,
    )


def _parts(head: SheetHead) -> dict[str, Any]:
    return {name: getattr(head, name) for name in SheetHead.model_fields}


def _apart(head: SheetHead, found: Sequence[Standing]) -> dict[UUID, dict[str, float]]:
    """By recording and quantity, how far a reading is from the middle of all where it stands apart."""
    measured = [one.recording.id for one in found if one.judged is not None]
    apart: dict[UUID, dict[str, float]] = {}
    for spread in head.spreads:
        for outlier in spread.outliers:
            apart.setdefault(measured[outlier.index], {})[spread.quantity] = outlier.off
    return apart


def _entry(one: Standing, apart: dict[str, float]) -> SheetEntry:
    return SheetEntry(
        id=one.recording.id,
        name=one.recording.name,
        status=one.status,
        busy=one.busy,
        measured=one.judged is not None,
        unmet=list(one.judged.unmet) if one.judged is not None else [],
        apart=apart,
    )


def _sorted(found: Sequence[Standing], by: str, *, down: bool) -> list[Standing]:
    if not by:
        return list(found)
    places = {name: place for place, name in enumerate(status.ORDER)}

    def key(one: Standing) -> Any:
        if by == BY_NAME:
            return _name_key(one.recording.name)
        if by == BY_STATUS:
            return places[one.status]
        value = one.judged.read.get(by) if one.judged is not None else None
        return None if value is None else (isinstance(value, str), value)

    keyed = [(one, key(one)) for one in found]
    there = sorted((each for each in keyed if each[1] is not None), key=lambda each: each[1], reverse=down)
    return [one for one, _ in there] + [one for one, each in keyed if each is None]


def printed(sheet: ProductionView) -> PrintedSheet:
    """The sheet as it is printed."""
    return PrintedSheet(
        production=sheet.name,
        specification=sheet.specification,
        issued=now(),
        issuer=issuer(),
        rows=[_printed_row(row) for row in sheet.recordings],
        whole=sheet.whole,
        spreads=sheet.spreads,
    )


def _printed_row(row: RecordingView) -> PrintedRow:
    conformed = row.delivered.file_name if row.delivered and row.delivered.passes else None
    return PrintedRow(
        name=row.name,
        facts=row.facts,
        ribbon=row.ribbon.drawn() if row.ribbon else None,
        verdict=row.verdict,
        problem=(row.work.error or row.work.state) if row.work else "",
        delivered=conformed or "",
    )
