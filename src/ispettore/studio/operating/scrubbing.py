"""Every file of the store held against its hash: what is damaged or missing, and what that touches.

What is damaged stays where it is: bringing the same file in again heals it, and until then whoever asks for it is told. What was
only worked out of a recording is worked out of it once more.
"""

import json
from collections import defaultdict
from collections.abc import Iterator
from contextlib import suppress
from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ValidationError
from sqlmodel import Session, col, select

from ispettore.core.errors import ContentChanged
from ispettore.core.progress import Progress
from ispettore.studio.access import secrets
from ispettore.studio.catalogue import naming, recordings
from ispettore.studio.database import transaction
from ispettore.studio.locations import state
from ispettore.studio.store.blobs import NotInStore, Store
from ispettore.studio.store.placing import clearing
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
    now,
)

KEPT = "store-check.json"
MEASURED = ("pyramid_sha256", "levels_sha256", "listening_sha256")


class WrongFile(BaseModel):
    """A file that is not what it was: what needs it, in words, and whether it is worked out once more by itself."""

    sha256: str
    what: Literal["damaged", "missing"]
    of: list[str]
    mended: bool


class StoreCheck(BaseModel):
    """What a check of the whole store found. `unnamed` are files that nothing needs, `removed` those of them that were cleared
    away."""

    form: Literal[1] = 1
    at: datetime
    files: int
    size_bytes: int
    wrong: list[WrongFile]
    unnamed: int
    unnamed_bytes: int
    removed: int


def check(store: Store, progress: Progress, *, tidy: bool = False) -> StoreCheck:
    """Hash every file; with `tidy`, clear away what nothing needs. Work goes on meanwhile. What was found is kept, for `last`."""
    with transaction() as session:
        needed = _needed(session)
    there = dict(store.listed())
    total, done = sum(there.values()) or 1, 0
    wrong = {sha256: "missing" for sha256 in needed if sha256 not in there}
    for number, (sha256, size) in enumerate(sorted(there.items()), start=1):
        progress(f"file {number} of {len(there)}", done / total)
        with suppress(NotInStore):  # cleared away meanwhile
            try:
                store.check(sha256, name=sha256)
            except ContentChanged:
                wrong[sha256] = "damaged"
        done += size
    with transaction() as session:
        needed = _needed(session)  # what was cleared away meanwhile is not missed
    unnamed = {sha256: size for sha256, size in there.items() if sha256 not in needed}
    found = StoreCheck(
        at=now(),
        files=len(there),
        size_bytes=sum(there.values()),
        wrong=[_wrong(sha256, what, needed[sha256]) for sha256, what in wrong.items() if sha256 in needed],
        unnamed=len(unnamed),
        unnamed_bytes=sum(unnamed.values()),
        removed=_tidied(store, unnamed) if tidy else 0,
    )
    state().mkdir(parents=True, exist_ok=True, mode=0o700)
    secrets.put(state() / KEPT, found.model_dump_json(indent=1).encode())
    return found


def last() -> StoreCheck | None:
    """What the last check found; None where there was none."""
    try:
        return StoreCheck.model_validate_json((state() / KEPT).read_bytes())
    except (OSError, ValidationError, json.JSONDecodeError):
        return None


class _Need(BaseModel):
    """Who needs a file, in words, and the recordings that it can be worked out of once more."""

    of: list[str] = []
    again: list[Any] = []


def _needed(session: Session) -> dict[str, _Need]:
    """Every file that a row names, with what needs it."""
    found: dict[str, _Need] = defaultdict(_Need)
    for sha256, told, recording in _rows(session):
        if told not in found[sha256].of:
            found[sha256].of.append(told)
        if recording is not None:
            found[sha256].again.append(recording)
    return dict(found)


def _rows(session: Session) -> Iterator[tuple[str, str, Any]]:
    """Each naming of a file: its hash, what for, and the recording it was worked out of, if it was."""
    productions = dict(session.exec(select(Production.id, Production.name)).all())
    rows = session.exec(select(Recording)).all()
    called = {one.id: f"“{one.name}” of {productions[one.production_id]}" for one in rows}
    by_hash: dict[str, list[tuple[Any, Any]]] = defaultdict(list)
    for one in rows:
        if one.erased_at is None:
            yield one.sha256, called[one.id], None
            by_hash[one.known_as].append((one.id, one.id if one.removed_at is None else None))
    for sha256, *drawn in session.exec(
        select(InspectionRecord.sha256, *(getattr(InspectionRecord, name) for name in MEASURED))
    ).all():
        for recording, again in by_hash.get(sha256, [(None, None)]):
            of = called.get(recording, "a recording as it was edited before")
            yield from ((file, f"the picture and levels of {of}", again) for file in drawn if file)
    for column in naming.NAMING[Conforming]:
        made = select(getattr(Conforming, column), Conforming.file_name, Conforming.recording_id)
        for sha256, name, recording in session.exec(made.where(*naming.still(Conforming, column))).all():
            if sha256:
                yield sha256, f"“{name}”, made of {called[recording]}", None
    takes = select(TakeRecord.sha256, TakeRecord.prepared_sha256, TakeRecord.name, TakeRecord.recording_id)
    for *files, name, recording in session.exec(takes).all():
        yield from ((one, f"“{name}”, a retake for {called[recording]}", None) for one in files if one)
    sounds = select(BedSound.sha256, BedSound.heard_sha256, BedSound.name, BedSound.production_id)
    for *files, name, production in session.exec(sounds).all():
        yield from ((one, f"“{name}”, a sound for the beds of {productions[production]}", None) for one in files if one)
    delivered = select(DeliverableRecord.sha256, DeliverableRecord.file_name).where(*naming.still(DeliverableRecord, naming.OWN))
    yield from ((sha256, f"“{name}”, to be delivered", None) for sha256, name in session.exec(delivered).all() if sha256)
    covers = select(Production.cover_sha256, Production.name).where(col(Production.cover_sha256).is_not(None))
    yield from ((sha256, f"the cover of {name}", None) for sha256, name in session.exec(covers).all() if sha256)
    for model, what in ((Importing, "to be imported"), (Verifying, "to be verified")):
        given = session.exec(select(model.sha256, model.file_name).where(col(model.sha256).is_not(None))).all()
        yield from ((sha256, f"“{name}”, {what}", None) for sha256, name in given if sha256)
    for own, production in session.exec(select(ArchiveRecord.own, ArchiveRecord.production_id)).all():
        yield from ((sha256, f"the archive of {productions[production]}", None) for sha256 in own)


def _wrong(sha256: str, what: Any, need: _Need) -> WrongFile:
    for recording in need.again:
        recordings.inspect_again(recording)
    return WrongFile(sha256=sha256, what=what, of=need.of, mended=bool(need.again))


def _tidied(store: Store, unnamed: dict[str, int]) -> int:
    """Clear away what nothing needs, asked once more while nothing is put into the store."""
    with clearing():
        with transaction() as session:
            gone = set(unnamed) - naming.among(session, set(unnamed))
        for sha256 in gone:
            store.remove(sha256)
    return len(gone)
