"""Making an archive: every row and every file of a production as of one moment, laid out as one ZIP file.

Files stay where they are in the store; what is written for the archive is put beside them. So it takes no room of its own, and is
sent from any byte on.
"""

import json
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import datetime
from typing import Any, Protocol
from uuid import UUID

import rfc8785
from sqlmodel import Session, SQLModel, col, select

from ispettore.core.archive import form
from ispettore.core.archive import record as core_record
from ispettore.core.archive.form import Head, Names
from ispettore.core.certify import seal
from ispettore.core.certify.certificate import issuer
from ispettore.core.deliver import manifest, naming
from ispettore.core.errors import Cancelled
from ispettore.studio.archiving import record, rows
from ispettore.studio.catalogue import certificates, recordings
from ispettore.studio.delivering.packing import PackageFile
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import (
    BedSound,
    CertificateRecord,
    Conforming,
    DeliverableRecord,
    InspectionRecord,
    Production,
    Recording,
    TakeRecord,
)

Told = Callable[[str, float], bool]
"""Is told a stage and how far it is, and says whether to give up."""


def gathered(session: Session, production: Production, store: Store, told: Told) -> "Laid":
    """The files of the store that this session sees named for the production, each read once.

    Raises NotInStore and ContentChanged with the file that is missing or damaged, and Cancelled.
    """
    laid = Laid(store)
    _files(session, production, laid)
    laid.read(told)
    return laid


def written(session: Session, production: Production, laid: "Laid", as_of: datetime, told: Told) -> list[PackageFile]:
    """What is written for the archive, put in the store; then all files of it, its head first. Raises Cancelled."""
    for model in rows.TABLES:
        laid.write(f"{form.ROWS}/{model.__tablename__}.jsonl", _lines(session, model, production.id, told))
    deeds = record.whole(session, production)
    laid.write(form.RECORD, [core_record.as_json(production.name, deeds).encode()])
    laid.write(form.RECORD_TEXT, [core_record.as_text(production.name, deeds).encode()])
    laid.write(form.README, [form.readme(production.name).encode()])
    _papers(session, production, laid)
    _templates(session, production, laid)
    files = sorted(laid.files, key=lambda one: one.name)
    sums = laid.write(manifest.NAME, [manifest.text((one.sha256, one.name) for one in files).encode()])
    head = Head(
        id=production.id,
        production=production.name,
        made=as_of.replace(microsecond=0),
        software=issuer(),
        recordings=len(recordings.current(session, production.id)),
        files=len(files),
        size_bytes=sum(one.size_bytes for one in files),
        sums=sums.sha256,
    )
    sealed = seal.seal(head.model_dump(mode="json"), certificates.keys().own(), what="archive")
    first = laid.write(form.HEAD, [json.dumps(sealed, ensure_ascii=False, indent=1).encode() + b"\n"])
    return [first, sums, *files]


class Laid:
    """Files of an archive as they are found: those in the store once each, and those that are written for it."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._names = Names((form.HEAD, manifest.NAME))
        self._stored: dict[str, str] = {}
        self.files: list[PackageFile] = []
        self.own: set[str] = set()

    def take(self, folder: str, name: str, sha256: str | None) -> None:
        """A file of the store; the same bytes are laid out once."""
        if sha256 is not None and sha256 not in self._stored:
            self._stored[sha256] = self._names.free(folder, name)

    def read(self, told: Told) -> None:
        """Read all that were taken, hold them against their hashes, and note their sizes and check sums."""
        done, sizes = 0, {sha256: self._store.size(sha256) if self._store.has(sha256) else 0 for sha256 in self._stored}
        total = max(sum(sizes.values()), 1)
        for sha256, name in self._stored.items():
            size, crc = 0, 0
            for piece in self._store.read_checked(sha256, name=name):
                size, crc = size + len(piece), zlib.crc32(piece, crc)
                done += len(piece)
                if told("Reading files", min(done / total, 1.0)):
                    raise Cancelled()
            self.files.append(PackageFile(name, size, sha256, crc))

    def write(self, name: str, pieces: Iterable[bytes]) -> PackageFile:
        """A file that is written for the archive."""
        crc = 0

        def summed() -> Iterator[bytes]:
            nonlocal crc
            for piece in pieces:
                crc = zlib.crc32(piece, crc)
                yield piece

        blob = self._store.put(summed(), name=name)
        found = PackageFile(name, blob.size_bytes, blob.sha256, crc)
        if name not in (form.HEAD, manifest.NAME):
            self.files.append(found)
        self.own.add(blob.sha256)
        return found

    def put(self, folder: str, name: str, content: bytes, *, end: str = "") -> None:
        self.write(self._names.free(folder, name, end), [content])


def _lines(session: Session, model: type[SQLModel], production_id: UUID, told: Told) -> Iterator[bytes]:
    for row in rows.of_production(session, model, production_id):
        if told("Writing the data", 0.0):
            raise Cancelled()
        yield rows.line(row)


def _files(session: Session, production: Production, laid: Laid) -> None:
    """All files of the store that its rows name: those a person looks for by their names, the newest first."""
    mine = select(Recording).where(Recording.production_id == production.id)
    every = session.exec(mine.order_by(col(Recording.position), col(Recording.created_at), col(Recording.id))).all()
    placed = [(one.removed_at is not None or one.replaced_by is not None, one) for one in every if one.erased_at is None]
    for earlier, one in sorted(placed, key=lambda each: each[0]):
        laid.take(f"{form.SOURCES}/{form.EARLIER}" if earlier else form.SOURCES, one.name, one.sha256)
    of = {one.id: one for one in every}
    delivered = (DeliverableRecord.file_name, DeliverableRecord.sha256, DeliverableRecord.cleared_at)
    for file in _newest(session, DeliverableRecord, of, *delivered):
        if file.cleared_at is None:
            laid.take(form.DELIVERABLES, file.file_name, file.sha256)
    written = (
        Conforming.file_name,
        Conforming.sha256,
        Conforming.cleared_at,
        Conforming.pyramid_sha256,
        Conforming.listening_sha256,
    )
    for file in _newest(session, Conforming, of, *written):
        if file.sha256 is not None and file.cleared_at is None:
            laid.take(form.MASTERS, file.file_name, file.sha256)
        for kept in (file.pyramid_sha256, file.listening_sha256):
            laid.take(form.KEPT, kept or "", kept)
    retakes = select(TakeRecord).where(rows.TABLES[TakeRecord](production.id)).order_by(col(TakeRecord.id))
    for take in session.exec(retakes).all():
        laid.take(form.KEPT, take.name, take.sha256)
        laid.take(form.KEPT, take.prepared_sha256 or "", take.prepared_sha256)
    laid_under = select(BedSound).where(rows.TABLES[BedSound](production.id)).order_by(col(BedSound.id))
    for sound in session.exec(laid_under).all():
        laid.take(form.KEPT, sound.name, sound.sha256)
        laid.take(form.KEPT, sound.heard_sha256 or "", sound.heard_sha256)
    if production.cover_sha256 is not None:
        laid.take(form.COVER, (production.cover or {}).get("name", "cover"), production.cover_sha256)
    drawn: tuple[Any, ...] = (InspectionRecord.listening_sha256, InspectionRecord.pyramid_sha256, InspectionRecord.levels_sha256)
    for row in session.exec(select(*drawn).where(rows.TABLES[InspectionRecord](production.id))).all():
        for kept in row:
            laid.take(form.KEPT, kept or "", kept)


class _Dated(Protocol):
    id: Any
    recording_id: Any
    created_at: Any


def _newest(session: Session, table: type[_Dated], of: Iterable[UUID], *columns: Any) -> Any:
    found = select(*columns).where(col(table.recording_id).in_(of)).order_by(col(table.created_at).desc(), col(table.id))
    return session.exec(found).all()


def _papers(session: Session, production: Production, laid: Laid) -> None:
    """Certificates with their notices as files, and the keys that sealed them."""
    mine = select(CertificateRecord).where(CertificateRecord.production_id == production.id)
    keys = {}
    for one in session.exec(mine.order_by(col(CertificateRecord.issued_at).desc(), col(CertificateRecord.id))).all():
        for sealed, ending in ((one.sealed, naming.BESIDE), (one.notice, ".notice.json")):
            if not sealed:
                continue
            laid.put(form.CERTIFICATES, one.name, rfc8785.dumps(dict(sealed)) + b"\n", end=ending)
            if (key := seal.sealing_key(sealed)) is not None:
                keys[key.thumbprint()] = key
    for thumbprint, key in sorted(keys.items()):
        laid.put(form.KEYS, f"{thumbprint}.pem", key.as_pem(private=False))


def _templates(session: Session, production: Production, laid: Laid) -> None:
    """Every specification and kept treatment that anything was made for or by, as files."""
    attempts = select(Conforming.specification, Conforming.treatment, Conforming.kept_id).join(Recording)
    found = session.exec(attempts.where(Recording.production_id == production.id)).all()
    specifications = [production.specification, *(specification for specification, _, _ in found)]
    for name, content in sorted({f"{one['id']}.v{one['version']}.json": _pretty(one) for one in specifications}.items()):
        laid.put(form.SPECIFICATIONS, name, content)
    kept = {f"{one['id']}.v{one['revision']}.json": _pretty(one) for _, one, of in found if one and of and one.get("id")}
    for name, content in sorted(kept.items()):
        laid.put(form.TREATMENTS, name, content)


def _pretty(content: Mapping[str, Any]) -> bytes:
    return json.dumps(content, ensure_ascii=False, indent=2).encode() + b"\n"
