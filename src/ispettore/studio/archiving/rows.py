"""All rows that are of a production, as lines of JSON and back.

Which tables these are, and which rows of them, stands here alone. Not among them are work that is under way, checks of
certificates, and archives themselves.
"""

import base64
import json
from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import (
    Boolean,
    Column,
    ColumnElement,
    DateTime,
    Float,
    Integer,
    LargeBinary,
    String,
    Table,
    TypeDecorator,
    Uuid,
    and_,
    or_,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Session, SQLModel, col, select

from ispettore.core.text import wrong_in
from ispettore.studio.catalogue import edited
from ispettore.studio.jobs import retrying
from ispettore.studio.tables import (
    Acceptance,
    BedSound,
    CertificateRecord,
    ChapterRecord,
    Conforming,
    DeedRecord,
    DeliverableRecord,
    Delivery,
    DraftRecord,
    DraftState,
    EditList,
    EditState,
    InspectionRecord,
    Listening,
    NoteRecord,
    Planning,
    Production,
    Recording,
    SpecificationRecord,
    TakeCheckRecord,
    TakeRecord,
    TreatmentRecord,
    Work,
    WorkKind,
)

Row = dict[str, Any]
Which = Callable[[UUID], ColumnElement[bool]]
DEEPEST = 40
AT_ONCE = 50
"""Rows that are read or written at once: some hold pictures."""


class UnknownColumn(ValueError):
    """A column that a later version added."""


def _recordings(production: UUID) -> Any:
    return select(Recording.id).where(Recording.production_id == production)


def _of_recordings(table: Any) -> Which:
    return lambda production: col(table.recording_id).in_(_recordings(production))


def _of_production(table: Any) -> Which:
    return lambda production: col(table.production_id) == production


def _specifications(production: UUID) -> ColumnElement[bool]:
    own = select(Production.specification["id"].astext).where(Production.id == production)
    attempts = select(Conforming.specification["id"].astext).where(col(Conforming.recording_id).in_(_recordings(production)))
    return or_(col(SpecificationRecord.identifier).in_(own), col(SpecificationRecord.identifier).in_(attempts))


def _treatments(production: UUID) -> ColumnElement[bool]:
    attempts = select(Conforming.kept_id).where(col(Conforming.recording_id).in_(_recordings(production)))
    drafts = select(col(DraftState.kept)["id"].astext).where(col(DraftState.recording_id).in_(_recordings(production)))
    return or_(col(TreatmentRecord.identifier).in_(attempts), col(TreatmentRecord.identifier).in_(drafts))


def _inspections(production: UUID) -> ColumnElement[bool]:
    return col(InspectionRecord.sha256).in_(edited.sounds_of(production))


def _ended(production: UUID) -> ColumnElement[bool]:
    ours = col(Work.kind).not_in((WorkKind.ARCHIVE, WorkKind.IMPORT))
    return and_(col(Work.production_id) == production, ours, col(Work.state).not_in(retrying.UNFINISHED))


TABLES: dict[type[SQLModel], Which] = {
    SpecificationRecord: _specifications,
    TreatmentRecord: _treatments,
    Production: lambda production: col(Production.id) == production,
    Recording: _of_production(Recording),
    InspectionRecord: _inspections,
    EditList: _of_recordings(EditList),
    EditState: _of_recordings(EditState),
    TakeRecord: _of_recordings(TakeRecord),
    BedSound: _of_production(BedSound),
    ChapterRecord: _of_recordings(ChapterRecord),
    Acceptance: _of_recordings(Acceptance),
    Conforming: _of_recordings(Conforming),
    Planning: _of_recordings(Planning),
    DraftRecord: _of_recordings(DraftRecord),
    DraftState: _of_recordings(DraftState),
    DeliverableRecord: _of_recordings(DeliverableRecord),
    CertificateRecord: _of_production(CertificateRecord),
    TakeCheckRecord: _of_production(TakeCheckRecord),
    Delivery: _of_production(Delivery),
    Listening: _of_recordings(Listening),
    NoteRecord: _of_recordings(NoteRecord),
    DeedRecord: _of_production(DeedRecord),
    Work: _ended,
}
"""Each table with its rows that are of a production; one that another points to comes before that."""


def table(model: type[SQLModel]) -> Table:
    found: Table = model.__table__  # type: ignore[attr-defined]
    return found


def of_production(session: Session, model: type[SQLModel], production_id: UUID) -> Iterator[Row]:
    """The rows of one table, in the order of their keys."""
    of = table(model)
    rows = of.select().where(TABLES[model](production_id)).order_by(*of.primary_key.columns)
    for row in session.execute(rows.execution_options(yield_per=AT_ONCE)):
        yield dict(row._mapping)


def line(row: Row) -> bytes:
    """A row as a line of JSON: bytes in Base64, times with their zone, keys in order."""
    told = {name: _plain(value) for name, value in row.items()}
    return json.dumps(told, ensure_ascii=False, sort_keys=True, separators=(",", ":")).encode() + b"\n"


def _plain(value: Any) -> Any:
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    if isinstance(value, UUID):
        return str(value)
    return value.isoformat() if isinstance(value, datetime) else value


def read(text: bytes, model: type[SQLModel]) -> Row:
    """A line as a row. Raises ValueError with what is wrong with it, UnknownColumn for one that is not known here."""
    try:
        raw = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise ValueError("it is no JSON") from error
    columns = table(model).columns
    if not isinstance(raw, dict):
        raise ValueError("it is no row")
    if unknown := sorted(set(raw) - {column.name for column in columns}):
        raise UnknownColumn(unknown[0])
    if wrong := wrong_in(raw, deepest=DEEPEST):
        raise ValueError(f"it contains {wrong}")
    return {column.name: _value(column, raw) for column in columns if column.name in raw or not _left_out(column)}


def _left_out(column: "Column[Any]") -> bool:
    """Whether a column may be missing: one that came later has what it is filled with."""
    return column.nullable or column.server_default is not None


def _value(column: "Column[Any]", raw: Mapping[str, Any]) -> Any:
    if column.name not in raw:
        raise ValueError(f"it has no “{column.name}”")
    value = raw[column.name]
    if value is None:
        if not column.nullable:
            raise ValueError(f"its “{column.name}” is empty")
        return None
    stored = column.type.impl if isinstance(column.type, TypeDecorator) else column.type
    try:
        for kind, made in _KINDS.items():
            if isinstance(stored, kind):
                return made(value)
    except (TypeError, ValueError, AttributeError) as error:
        raise ValueError(f"its “{column.name}” can't be used") from error
    raise ValueError(f"its “{column.name}” is of no known kind")


def _just(kind: Any) -> Callable[[Any], Any]:
    def checked(value: Any) -> Any:
        if not isinstance(value, kind) or (isinstance(value, bool) and kind is not bool):
            raise TypeError
        return value

    return checked


_KINDS: dict[type, Callable[[Any], Any]] = {
    JSONB: _just((dict, list)),
    Uuid: UUID,
    DateTime: datetime.fromisoformat,
    LargeBinary: lambda value: base64.b64decode(value, validate=True),
    Boolean: _just(bool),
    Float: _just((int, float)),
    Integer: _just(int),
    String: _just(str),
}
"""How a value of each kind of column is read."""
