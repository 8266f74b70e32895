"""Handing over: a package written into a folder on the server's side, or handed to an intake desk. What was handed over is noted,
with every file in it and what the desk answered."""

import os
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, func, select

from ispettore.core.deliver import answers, manifest
from ispettore.core.deliver.manifest import CERTIFICATES
from ispettore.core.errors import Cancelled
from ispettore.studio import events
from ispettore.studio.database import transaction
from ispettore.studio.delivering import asking, deliverables, desk, packing
from ispettore.studio.delivering.packing import Package, PackageFile
from ispettore.studio.delivering.views import DeliveryNote, DeskAnswer, DeskFile
from ispettore.studio.errors import FolderTaken, NoDesk
from ispettore.studio.jobs import retrying, works
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Conforming, DeliverableRecord, Delivery, Production, Recording, Work, WorkKind, now

FOLDER, DESK = "folder", "desk"
PART = ".part"
NAMING = 0x1597_70E4
"""Of PostgreSQL's advisory locks."""


def deliver_to_folder(production_id: UUID, chosen: Sequence[UUID] | None = None) -> UUID:
    """Have the files of a production that are made, or those of some recordings, written into a new folder on the server's side;
    what notes it. Raises NotFound, and NothingMade where there are no files."""
    with transaction() as session:
        production = asking.there(session, production_id, lock=True)
        found = packing.package(session, production, deliverables.ready(session, production, chosen))
        session.execute(select(func.pg_advisory_xact_lock(NAMING)))  # one name at a time: productions may be called alike
        before = session.exec(select(Delivery.place)).all()
        return _asked(session, production, found, FOLDER, _free(f"{packing.plain(production.name)} {now():%Y-%m-%d}", set(before)))


def hand_in(production_id: UUID, requirements: str, chosen: Sequence[UUID] | None = None) -> UUID:
    """Have the files of a production that are made, or those of some recordings, handed to the intake desk, which holds them
    against what it calls so; what notes it. Raises NotFound, NoDesk, and NothingMade where there are no files."""
    with transaction() as session:
        production = asking.there(session, production_id, lock=True)
        if not desk.there():
            raise NoDesk(production=production.name)
        found = packing.package(session, production, deliverables.ready(session, production, chosen))
        return _asked(session, production, found, DESK, settings().desk, requirements=requirements)


def _asked(session: Session, production: Production, found: Package, way: str, place: str, *, requirements: str = "") -> UUID:
    delivery = Delivery(
        production_id=production.id,
        way=way,
        place=place,
        requirements=requirements,
        files=[{"name": one.name, "sha256": one.sha256, "size_bytes": one.size_bytes} for one in found.files],
        deliverables=[str(one) for one in found.deliverables],
    )
    session.add(delivery)
    session.flush()
    works.ask(session, WorkKind.HAND_OVER, delivery.id, of=None, production_id=production.id)
    return delivery.id


def _free(name: str, taken: set[str]) -> str:
    """A folder's name that no delivery has, nor anything in the folder of deliveries."""
    found, count = name, 1
    while found in taken or (settings().delivered / found).exists():
        count += 1
        found = f"{name} ({count})"
    return found


def submit(delivery: Delivery, store: Store, told: desk.Told) -> dict[str, Any]:
    """Hand the package of a delivery to the desk; its answer. Raises what `desk.hand_in` and reading the store raise."""
    with transaction() as session:
        production = session.get_one(Production, delivery.production_id)
        found = packing.package(session, production, [UUID(one) for one in delivery.deliverables])
    zipped = found.zipped(store)
    return desk.hand_in(zipped.read, zipped.size, title=production.name, requirements=delivery.requirements, told=told)


def write(delivery: Delivery, store: Store, progress: Callable[[int, int], bool]) -> None:
    """Write the package of a delivery into its folder: under a hidden name, synced, then renamed. `progress` is told how many bytes
    of how many there are, and says whether to give up. What an earlier try left is written anew.

    Raises FolderTaken, Cancelled, what reading the store raises, NoRoomLeft and StoreReadOnly.
    """
    with transaction() as session:
        production = session.get_one(Production, delivery.production_id)
        found = packing.package(session, production, [UUID(one) for one in delivery.deliverables])
    target = settings().delivered / delivery.place
    if target.exists():
        sums = target / manifest.NAME
        if sums.is_file() and sums.read_bytes() == found.files[-1].content:
            return  # an earlier try ended between renaming and saying so
        raise FolderTaken(folder=str(target))
    hidden = settings().delivered / f".{delivery.id.hex}{PART}"
    shutil.rmtree(hidden, ignore_errors=True)
    try:
        with disk.in_words(delivery.place):
            disk.room_for(found.size_bytes, settings().delivered, file=delivery.place)
            (hidden / CERTIFICATES).mkdir(parents=True)
            done = 0
            for file in found.files:
                done = _copied(file, store, hidden / file.name, done, found.size_bytes, progress)
            if not any((hidden / CERTIFICATES).iterdir()):
                (hidden / CERTIFICATES).rmdir()
            _synced(hidden)
            hidden.rename(target)
            _synced(target.parent)
    except BaseException:
        shutil.rmtree(hidden, ignore_errors=True)
        raise


def _copied(file: PackageFile, store: Store, path: Path, done: int, total: int, progress: Callable[[int, int], bool]) -> int:
    with path.open("wb") as out:
        for piece in file.read(store):
            out.write(piece)
            done += len(piece)
            if progress(done, total):
                raise Cancelled()
        out.flush()
        os.fsync(out.fileno())
    return done


def _synced(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def handed_over(session: Session, delivery: Delivery) -> None:
    """Note that a package arrived: when, and that its files were delivered, of those that a desk answered for what it accepted."""
    delivery.done_at = now()
    session.add(delivery)
    there = col(DeliverableRecord.id).in_([UUID(one) for one in delivery.deliverables])
    of = select(DeliverableRecord.conforming_id).where(there)
    if delivery.answer is not None:
        accepted = [file["sha256"] for file in delivery.answer["files"] if file["accepted"]]
        of = of.where(col(DeliverableRecord.sha256).in_(accepted))
    for conforming in session.exec(select(Conforming).where(col(Conforming.id).in_(of))).all():
        conforming.handed_over_at = delivery.done_at
        session.add(conforming)
        events.tell_of(session, session.get_one(Recording, conforming.recording_id))


def sweep() -> None:
    """Let go of folders on their way that no work is about any more."""
    folder = settings().delivered
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    with transaction() as session:
        rows = select(Work.subject_id).where(Work.kind == WorkKind.HAND_OVER, col(Work.state).in_(retrying.UNFINISHED))
        under_way = {of.hex for of in session.exec(rows).all()}
    for path in folder.glob(f".*{PART}"):
        if path.name.removeprefix(".").removesuffix(PART) not in under_way:
            shutil.rmtree(path, ignore_errors=True)


def notes(session: Session, production_id: UUID) -> list[DeliveryNote]:
    """What of a production was handed over, the newest first."""
    rows = select(Delivery).where(Delivery.production_id == production_id).order_by(col(Delivery.created_at).desc())
    found = session.exec(rows).all()
    running = works.newest(session, WorkKind.HAND_OVER, [one.id for one in found])
    return [
        DeliveryNote(
            id=one.id,
            way=one.way,
            place=_place(one),
            files=len(one.deliverables),
            size_bytes=sum(file["size_bytes"] for file in one.files),
            created_at=one.created_at,
            done_at=one.done_at,
            work=works.view(running.get(one.id)),
            requirements=one.requirements,
            answer=_answer(session, one),
        )
        for one in found
    ]


def _place(delivery: Delivery) -> str:
    """Where a package went; with its way on this machine, where it lies here or will."""
    path = settings().delivered / delivery.place
    here = delivery.way == FOLDER and (delivery.done_at is None or path.is_dir())
    return str(path) if here else delivery.place


def _answer(session: Session, delivery: Delivery) -> DeskAnswer | None:
    """What the desk answered, each file beside what was read of it here."""
    if delivery.answer is None:
        return None
    said = desk.Said.model_validate(delivery.answer)
    ids = [UUID(one) for one in delivery.deliverables]
    rows = session.exec(select(DeliverableRecord.id, DeliverableRecord.sha256).where(col(DeliverableRecord.id).in_(ids))).all()
    by_hash = {sha256: identifier for identifier, sha256 in rows}
    ours = deliverables.inspections(session, ids)
    files, against = [], []
    for file in said.files:
        inspection = ours.get(by_hash.get(file.sha256, delivery.id))
        readings = answers.beside(inspection, file.readings) if inspection is not None else []
        against += [answers.told(file.name, one) for one in readings if not one.agree]
        reasons = [reason.text for reason in file.reasons]
        files.append(DeskFile(name=file.name, accepted=file.accepted, reasons=reasons, readings=readings))
    return DeskAnswer(accepted=said.accepted, reasons=said.reasons, files=files, against=against)
