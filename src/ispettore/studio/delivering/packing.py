"""The files of a production as one package: what it holds, and as a ZIP file that is never written.

A package holds the files, their sealed certificates, that of the production where it is of just these files, and a list of hashes.
"""

import hashlib
import re
import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import rfc8785
from sqlmodel import Session, col, select

from ispettore.core.deliver import manifest, naming
from ispettore.core.deliver.manifest import CERTIFICATES, OF_PRODUCTION
from ispettore.core.deliver.zipped import Member, Zipped
from ispettore.studio.catalogue import certificates
from ispettore.studio.database import transaction
from ispettore.studio.delivering import asking, deliverables
from ispettore.studio.errors import AlreadyErased, NotFound, NothingMade
from ispettore.studio.store.blobs import NotInStore, Store
from ispettore.studio.tables import CertificateRecord, DeliverableRecord, Production

LONGEST_NAME = 80


@dataclass(frozen=True)
class PackageFile:
    """One file of a package: a blob by its hash, or its `content` where it is written for this."""

    name: str
    size_bytes: int
    sha256: str
    crc32: int
    content: bytes | None = None

    def read(self, store: Store, start: int = 0, end: int | None = None) -> Iterator[bytes]:
        """Its bytes from `start` up to, not including, `end`; held against its hash where they are all, else against checksums.
        Raises ContentChanged and NotInStore."""
        end = self.size_bytes if end is None else end
        if self.content is not None:
            return iter((self.content[start:end],))
        if (start, end) == (0, self.size_bytes):
            return store.read_checked(self.sha256, name=self.name)
        return store.read(self.sha256, name=self.name, start=start, end=end)


@dataclass(frozen=True)
class Package:
    """What is handed over of a production. `deliverables` are those whose files are in it, `made_at` when the last was made."""

    production: str
    files: tuple[PackageFile, ...]
    deliverables: tuple[UUID, ...]
    made_at: datetime

    @property
    def size_bytes(self) -> int:
        return sum(file.size_bytes for file in self.files)

    def zipped(self, store: Store) -> Zipped:
        """As one ZIP file, in a folder of the production's name. Raises NotInStore before anything is read."""
        folder = plain(self.production)
        for file in self.files:
            if file.content is None and not store.has(file.sha256):
                raise NotInStore(file=file.name)
        members = [Member(f"{folder}/{file.name}", file.size_bytes, file.crc32, _reader(file, store)) for file in self.files]
        return Zipped(members, when=self.made_at)


def _reader(file: PackageFile, store: Store) -> Callable[[int, int], Iterator[bytes]]:
    return lambda start, end: file.read(store, start, end)


def plain(name: str) -> str:
    """A name for a folder on any system.

    >>> plain("Almanac: tides/mill. ")
    'Almanac tides mill'
    """
    return re.sub(r'[\s<>:"/\\|?*.\x00-\x1f]+', " ", name).strip()[:LONGEST_NAME].strip() or "Production"


def package(session: Session, production: Production, chosen: Sequence[UUID]) -> Package:
    """The package of these deliverables, in this order. Raises NothingMade where there are none."""
    columns: tuple[Any, ...] = (
        DeliverableRecord.id,
        DeliverableRecord.file_name,
        DeliverableRecord.size_bytes,
        DeliverableRecord.sha256,
        DeliverableRecord.crc32,
        DeliverableRecord.certificate_id,
        DeliverableRecord.created_at,
    )
    rows = {row[0]: row for row in session.exec(select(*columns).where(col(DeliverableRecord.id).in_(chosen))).all()}
    there = [rows[one] for one in chosen if one in rows and rows[one][3] is not None]
    if not there:
        raise NothingMade(production=production.name)
    files = [PackageFile(name, size, sha256, crc) for _, name, size, sha256, crc, _, _ in there]
    ids = [row[5] for row in there if row[5] is not None]
    kept = select(CertificateRecord.id, CertificateRecord.sealed).where(col(CertificateRecord.id).in_(ids))
    sealed = dict(session.exec(kept).all())
    papers = [
        _sealed(f"{CERTIFICATES}/{name}{naming.BESIDE}", sealed[paper]) for _, name, _, _, _, paper, _ in there if paper in sealed
    ]
    whole = certificates.standing(session, "production", production.id)
    if whole is not None and _files(whole) == {(file.name, file.sha256) for file in files}:
        papers.append(_sealed(f"{CERTIFICATES}/{OF_PRODUCTION}", whole.sealed))
    sums = _written(manifest.NAME, manifest.text((file.sha256, file.name) for file in (*files, *papers)).encode())
    made_at = max(row[6] for row in there)
    return Package(production.name, (*files, *papers, sums), tuple(row[0] for row in there), made_at)


def _files(certificate: CertificateRecord) -> set[tuple[str, str]]:
    return {(part["name"], part["sha256"]) for part in certificate.sealed["certificate"]["files"]}


def _sealed(name: str, sealed: Mapping[str, Any]) -> PackageFile:
    return _written(name, canonical(sealed))


def canonical(sealed: Mapping[str, Any]) -> bytes:
    """A sealed document in its canonical form (RFC 8785), as it is handed over."""
    return rfc8785.dumps(dict(sealed)) + b"\n"


def _written(name: str, content: bytes) -> PackageFile:
    return PackageFile(name, len(content), hashlib.sha256(content).hexdigest(), zlib.crc32(content), content)


def of_production(production_id: UUID, chosen: Sequence[UUID] | None = None) -> Package:
    """All files of a production that are as they were asked for, or those of some recordings. Raises NotFound and NothingMade."""
    with transaction() as session:
        production = asking.there(session, production_id)
        return package(session, production, deliverables.ready(session, production, chosen))


def one(deliverable_id: UUID) -> PackageFile:
    """One delivered file by itself. Raises NotFound and AlreadyErased."""
    record = _record(deliverable_id)
    if record.cleared_at is not None:
        raise AlreadyErased(name=record.file_name)
    if record.sha256 is None or record.size_bytes is None or record.crc32 is None:
        raise NotFound(what="deliverable")
    return PackageFile(record.file_name, record.size_bytes, record.sha256, record.crc32)


def _record(deliverable_id: UUID) -> DeliverableRecord:
    with transaction() as session:
        record = session.get(DeliverableRecord, deliverable_id)
        if record is None:
            raise NotFound(what="deliverable")
        return record
