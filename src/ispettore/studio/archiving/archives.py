"""Archives of productions: asked for, looked at, sent; the newest of each production stays."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.deliver.zipped import Member, Zipped
from ispettore.studio.archiving import making, record
from ispettore.studio.archiving.views import ArchiveView
from ispettore.studio.catalogue import disk_use
from ispettore.studio.database import snapshot, transaction
from ispettore.studio.delivering import asking, packing
from ispettore.studio.delivering.packing import PackageFile
from ispettore.studio.errors import NotFound, NotReady
from ispettore.studio.jobs import retrying, works
from ispettore.studio.store.blobs import NotInStore, Store
from ispettore.studio.store.placing import clearing, placing
from ispettore.studio.tables import ArchiveRecord, Production, Work, WorkKind, now


def ask(production_id: UUID) -> UUID:
    """Have the archive of a production made; one that is being made already is not begun twice. Raises NotFound, and NotReady while
    other work on it is under way."""
    with transaction() as session:
        production = asking.there(session, production_id, lock=True)
        for one in session.exec(_of(production_id)).all():
            if works.under_way(session, WorkKind.ARCHIVE, one.id):
                return UUID(str(one.id))
        _quiet(session, production)
        archive = ArchiveRecord(production_id=production_id)
        session.add(archive)
        session.flush()
        works.ask(session, WorkKind.ARCHIVE, archive.id, of=None, production_id=production_id)
        return archive.id


def _of(production_id: UUID) -> Any:
    return select(ArchiveRecord).where(ArchiveRecord.production_id == production_id).order_by(col(ArchiveRecord.created_at).desc())


def _quiet(session: Session, production: Production) -> None:
    """Raises NotReady while anything waits or runs that could change what is archived."""
    busy = select(Work.id).where(
        Work.production_id == production.id, Work.kind != WorkKind.ARCHIVE, col(Work.state).in_(retrying.UNFINISHED)
    )
    if session.exec(busy.limit(1)).first() is not None:
        raise NotReady(file=production.name, reason="has work under way, which would be half in its archive")


@dataclass(frozen=True)
class Made:
    """An archive as it was laid out: its files, the hashes of those that were written for it, and the moment of which it is."""

    files: list[PackageFile]
    own: set[str]
    as_of: datetime


@contextmanager
def made(archive_id: UUID, store: Store, told: making.Told) -> Iterator[Made]:
    """Lay an archive out, and note it inside: until then nothing that was written for it is cleared away.

    Raises NotReady, NotInStore, ContentChanged and Cancelled.
    """
    with snapshot() as session:
        archive = session.get_one(ArchiveRecord, archive_id)
        production, as_of = session.get_one(Production, archive.production_id), now()
        _quiet(session, production)
        laid = making.gathered(session, production, store, told)
        with placing():
            files = making.written(session, production, laid, as_of, told)
            yield Made(files, laid.own, as_of)


def note(session: Session, archive_id: UUID, found: Made) -> None:
    """Note that an archive is laid out."""
    archive = session.get_one(ArchiveRecord, archive_id)
    archive.members = [
        {"name": one.name, "size_bytes": one.size_bytes, "sha256": one.sha256, "crc32": one.crc32} for one in found.files
    ]
    archive.own, archive.as_of = sorted(found.own), found.as_of
    session.add(archive)


def clear_earlier(archive_id: UUID, store: Store) -> None:
    """Let go of the archives of a production that were made before this one, with what was written for them alone."""
    with clearing(), transaction() as session:
        newest = session.get(ArchiveRecord, archive_id)
        if newest is None:
            return
        earlier = [one for one in session.exec(_of(newest.production_id)).all() if one.created_at < newest.created_at]
        disk_use.forget_archives(session, earlier, store)


def view(production_id: UUID) -> ArchiveView:
    """The newest archive of a production that is laid out, and how the making of another stands. Raises NotFound."""
    with snapshot() as session:
        production = asking.there(session, production_id)
        every = session.exec(_of(production_id)).all()
        ready = next((one for one in every if one.as_of is not None), None)
        running = works.newest(session, WorkKind.ARCHIVE, [one.id for one in every[:1]])
        since = record.whole(session, production)[-1:] if ready is not None else []
        return ArchiveView(
            id=ready.id if ready is not None else None,
            as_of=ready.as_of if ready is not None else None,
            files=len(ready.members) if ready is not None else 0,
            size_bytes=_zipped(production, ready).size if ready is not None else 0,
            current=ready is not None and ready.as_of is not None and all(deed.at <= ready.as_of for deed in since),
            work=works.view(running.get(every[0].id)) if every else None,
        )


def zipped(archive_id: UUID, store: Store) -> tuple[str, Zipped]:
    """An archive as one ZIP file, and what its file is called. Raises NotFound, and NotInStore before anything is read."""
    with transaction() as session:
        archive = session.get(ArchiveRecord, archive_id)
        if archive is None or archive.as_of is None:
            raise NotFound(what="archive")
        production = session.get_one(Production, archive.production_id)
    for one in archive.members:
        if not store.has(one["sha256"]):
            raise NotInStore(file=one["name"])
    return f"{packing.plain(production.name)} archive {archive.as_of:%Y-%m-%d}.zip", _zipped(production, archive, store)


def _zipped(production: Production, archive: ArchiveRecord, store: Store | None = None) -> Zipped:
    folder = packing.plain(production.name)
    members = [_member(folder, PackageFile(**one), store) for one in archive.members]
    return Zipped(members, when=archive.as_of or archive.created_at)


def _member(folder: str, file: PackageFile, store: Store | None) -> Member:
    def read(start: int, end: int) -> Iterator[bytes]:
        return file.read(store, start, end) if store is not None else iter(())

    return Member(f"{folder}/{file.name}", file.size_bytes, file.crc32, read)
