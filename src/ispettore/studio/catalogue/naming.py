"""Which rows name which files of the store. What a row names is kept; what none names any more is cleared away."""

from collections.abc import Iterator, Mapping
from typing import Any

from sqlmodel import Session, SQLModel, col, select

from ispettore.studio.database import after_commit
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import (
    ArchiveRecord,
    BedSound,
    Conforming,
    DeliverableRecord,
    Importing,
    InspectionRecord,
    Production,
    Recording,
    TakeRecord,
    Verifying,
)

NAMING: dict[type[SQLModel], tuple[str, ...]] = {
    Production: ("cover_sha256",),
    Recording: ("sha256",),
    InspectionRecord: ("listening_sha256", "pyramid_sha256", "levels_sha256"),
    Conforming: ("sha256", "pyramid_sha256", "listening_sha256"),
    DeliverableRecord: ("sha256",),
    TakeRecord: ("sha256", "prepared_sha256"),
    BedSound: ("sha256", "heard_sha256"),
}
"""Columns of what belongs to productions that name files of the store."""
OWN = "sha256"
GONE: dict[type[SQLModel], str] = {Recording: "erased_at", Conforming: "cleared_at", DeliverableRecord: "cleared_at"}
"""Where this is set, a row's own file is gone, and its hash only says which it was."""


def still(model: type[SQLModel], column: str) -> tuple[Any, ...]:
    """What has to hold of a row for a column of it to name a file that is there."""
    gone = GONE.get(model) if column == OWN else None
    return (getattr(model, gone).is_(None),) if gone else ()


def of_row(model: type[SQLModel], row: Mapping[str, Any]) -> set[str]:
    """The files that a row names which are there."""
    names = NAMING.get(model, ())
    here = [name for name in names if not (name == OWN and model in GONE and row.get(GONE[model]) is not None)]
    return {row[name] for name in here if row[name] is not None}


def of_rows(session: Session, model: type[SQLModel], which: Any) -> set[str]:
    """The files that rows of a table name which are there."""
    found: set[str | None] = set()
    for name in NAMING[model]:
        found |= set(session.exec(select(getattr(model, name)).where(which, *still(model, name))).all())
    return {sha256 for sha256 in found if sha256 is not None}


def every(session: Session) -> set[str]:
    """All files that any row names."""
    found = {sha256 for column, which in _columns() for sha256 in session.exec(select(column).where(*which)).all() if sha256}
    return found.union(*session.exec(select(ArchiveRecord.own)).all())


def among(session: Session, hashes: set[str]) -> set[str]:
    """Those of these files that any row names."""
    found: set[str] = set()
    for column, which in _columns():
        found |= set(session.exec(select(column).where(column.in_(hashes), *which)).all())
    for own in session.exec(select(ArchiveRecord.own)).all():
        found |= hashes.intersection(own)
    return found


def _columns() -> Iterator[tuple[Any, tuple[Any, ...]]]:
    for model, names in NAMING.items():
        for name in names:
            yield getattr(model, name), still(model, name)
    yield from ((col(Verifying.sha256), ()), (col(Importing.sha256), ()))


def remove_unnamed(session: Session, hashes: set[str], store: Store) -> set[str]:
    """Remove those of these files that no row names, once this transaction has committed; which these are. Inside `clearing()`."""
    gone = hashes - among(session, hashes)

    def remove() -> None:
        for sha256 in gone:
            store.remove(sha256)

    after_commit(session, remove)
    return gone
