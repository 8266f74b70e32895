"""Looking after one watched folder: what lands there whole is brought in, measured and, where wished, conformed; what leaves is
noted; the files that count go to the folder of results, under the names of what they were made of.

Whatever is half done when this process dies is done by the next look: bytes are in the store before a row names them, and a result
is written under a hidden name first.
"""

import hashlib
import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from uuid import UUID

import structlog
from sqlmodel import Session, col, select

from ispettore.core.audio.facts import sha256_of
from ispettore.core.deliver.manifest import CERTIFICATES
from ispettore.core.deliver.naming import BESIDE
from ispettore.core.errors import IspettoreError
from ispettore.core.spec import kept
from ispettore.studio.attending import folders
from ispettore.studio.attending.looking import Folder, FolderAway, Found, opened
from ispettore.studio.catalogue import conformings, made, recordings
from ispettore.studio.catalogue.incoming import allowed_name
from ispettore.studio.database import transaction
from ispettore.studio.delivering import packing
from ispettore.studio.errors import NotReady
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import CHUNK, Blob, Store
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import CertificateRecord, Conforming, Production, Recording, WatchedFile, WatchedFolder, now
from ispettore.studio.who import RIGHTS, Who, acting

LATER_S = 10.0
"""What the machine can't do just now is tried again after so long; everything is gone through anew as often."""
PART = ".part"

log = structlog.get_logger()
Said = Callable[[str], None]


class NotOurs(IspettoreError):
    """“{file}” in the folder of results was not written by Ispettore, or was changed since. Move it elsewhere, and the result takes
    its place."""

    file: str


class FileShut(IspettoreError):
    """“{file}” can't be read: Ispettore may not open it. Allow reading it, or copy it into the folder once more."""

    file: str


class ResultsAway(IspettoreError):
    """The folder of results “{folder}” can't be written to: {reason}. It is tried again by itself."""

    folder: str
    reason: str


@dataclass(frozen=True, slots=True)
class _Result:
    """A file that counts: where it lies in the store, what it ends in, and its certificate."""

    sha256: str
    name: str
    certificate: bytes | None


class Watcher:
    """One watched folder. `said` is told what happens, in short sentences."""

    def __init__(self, folder_id: UUID, store: Store, said: Said = lambda _: None) -> None:
        self.folder_id, self._store, self._said = folder_id, store, said
        self._folder: Folder | None = None
        self._due = float("-inf")
        self._others: set[tuple[str, int, int, int]] = set()
        """What lies in the folder of results and is not ours."""

    def look(self, moment: float, *, stirred: bool = True) -> bool:
        """Do what is to be done now; `moment` is a clock in seconds, `stirred` says that something of its production changed.
        False where the folder is watched no more. Raises what a database raises that is away."""
        with transaction() as session:
            row = session.get(WatchedFolder, self.folder_id)
            production = session.get(Production, row.production_id) if row is not None else None
            files = {file.name: file for file in session.exec(select(WatchedFile).where(self._own())).all()}
        if row is None or production is None or production.removed_at is not None:
            return False
        if self._folder is None:
            self._folder = Folder(Path(row.path))
        who = Who(way="folder", rights=RIGHTS if row.certifies else RIGHTS - {"certify"}, name=row.asked_by, act=lambda: "watch")
        problem = row.problem
        with acting(who):
            try:
                there = self._folder.there(moment)
                came = self._bring_in(row, there, files, moment)
                self._note_gone(row, there, files)
                if came or stirred or moment >= self._due:
                    self._due, problem = moment + LATER_S, ""
                    self._follow(row)
            except (FolderAway, ResultsAway, disk.JustNow) as error:
                problem, self._due = error.sentence, moment + LATER_S
        if problem != row.problem:
            self._note_problem(row, problem)
        return True

    def _own(self) -> bool:
        return WatchedFile.folder_id == self.folder_id

    def _note_problem(self, row: WatchedFolder, problem: str) -> None:
        if problem:
            self._said(problem)
        with transaction() as session:
            found = session.get(WatchedFolder, row.id, with_for_update=True)
            if found is not None:
                found.problem = problem
                session.add(found)
                folders.tell(session, row.production_id)

    def _bring_in(self, row: WatchedFolder, there: Mapping[str, Found], files: Mapping[str, WatchedFile], moment: float) -> bool:
        """Whether any file came in, or was refused."""
        assert self._folder is not None
        came = False
        for name, seen in sorted(there.items()):
            known = files.get(name)
            if (known is not None and _as_it_was(known, seen)) or not self._folder.whole(name, moment):
                continue
            came |= self._take(row, name, seen, known)
        return came

    def _take(self, row: WatchedFolder, name: str, seen: Found, known: WatchedFile | None) -> bool:
        """One file brought in, or refused with the reason; False where it changed meanwhile. Raises JustNow."""
        problem, recording = "", None
        try:
            with placing():
                blob = self._copied(Path(row.path) / name, allowed_name(name), seen)
                if blob is None:
                    return False
                older = self._older(row.production_id, name, known)
                recording = recordings.replace(older, name, blob) if older else recordings.add(row.production_id, name, blob)
        except disk.JustNow:
            raise
        except IspettoreError as error:
            problem = error.sentence
        with transaction() as session:
            found = session.get(WatchedFile, (row.id, name)) or WatchedFile(
                folder_id=row.id, name=name, size_bytes=0, modified_ns=0
            )
            found.size_bytes, found.modified_ns = seen.size_bytes, seen.modified_ns
            found.problem, found.recording_id = problem, recording or found.recording_id
            found.came_at, found.left_at = now(), None
            if session.get(WatchedFolder, row.id) is None:
                return False  # stopped just now
            session.add(found)
            folders.tell(session, row.production_id)
        self._said(problem or f"“{name}” came in.")
        return True

    def _copied(self, path: Path, name: str, seen: Found) -> Blob | None:
        """A file in the store; None where it is no longer as it was seen. Raises TooLarge, JustNow."""
        try:
            descriptor = opened(path)
        except OSError as error:
            if said := disk.told(error, name):
                raise FileShut(file=name) from said
            return None
        with os.fdopen(descriptor, "rb") as file:
            disk.room_for(seen.size_bytes, self._store.folder, file=name)
            writer = self._store.writer(name=name, limit_bytes=settings().largest_upload_bytes)
            try:
                while chunk := file.read(CHUNK):
                    writer.write(chunk)
                after = os.fstat(file.fileno())
                if Found(after.st_size, after.st_mtime_ns) == seen and writer.size == seen.size_bytes:
                    return writer.finish()
            except BaseException:
                writer.abandon()
                raise
        writer.abandon()
        return None

    def _older(self, production_id: UUID, name: str, known: WatchedFile | None) -> UUID | None:
        """The recording whose place a file takes: what it was before, else one of the same name that came in otherwise."""
        with transaction() as session:
            here = recordings.current_ids(production_id)
            if known is not None and known.recording_id is not None:
                of_it = session.exec(here.where(Recording.id == known.recording_id)).first()
                if of_it is not None:
                    return of_it
            return session.exec(here.where(Recording.name == name).order_by(col(Recording.position))).first()

    def _note_gone(self, row: WatchedFolder, there: Mapping[str, Found], files: Mapping[str, WatchedFile]) -> None:
        """Note what left the folder, and what is there again as it was."""
        changed = [name for name, file in files.items() if (file.left_at is None) != (name in there)]
        gone = [name for name in changed if name not in there]
        back = [name for name in changed if name in there and _as_it_was(files[name], there[name])]
        if not gone and not back:
            return
        with transaction() as session:
            for name in (*gone, *back):
                file = session.get(WatchedFile, (row.id, name))
                if file is not None:
                    file.left_at = now() if name in gone else None
                    session.add(file)
            folders.tell(session, row.production_id)
        for name in gone:
            self._said(f"“{name}” left the folder; its recording stays.")

    def _follow(self, row: WatchedFolder) -> None:
        """Have conformed what is measured, and write the results that are there. Raises ResultsAway and JustNow."""
        with transaction() as session:
            files = session.exec(select(WatchedFile).where(self._own(), col(WatchedFile.recording_id).is_not(None))).all()
        if row.conform:
            for file in files:
                if file.asked_for != file.recording_id and file.recording_id is not None:
                    self._conform(file, file.recording_id)
        if row.results:
            with transaction() as session:
                results = dict(_results(session, row.production_id, {file.recording_id for file in files if file.recording_id}))
            for file in files:
                found = results.get(file.recording_id) if file.recording_id else None
                if found is not None and found.sha256 != file.result_sha256:
                    self._write(row, file, found)

    def _conform(self, file: WatchedFile, recording_id: UUID) -> None:
        problem = ""
        try:
            conformings.ask_unless_made(recording_id, lambda session, _: conformings.by_plan(session, None))
        except NotReady:
            return  # it is being measured
        except IspettoreError as error:
            problem = error.sentence
        self._note(file, asked_for=recording_id, problem=problem)
        self._said(problem or f"“{file.name}” is measured, and is being conformed.")

    def _note(self, file: WatchedFile, **given: object) -> None:
        with transaction() as session:
            found = session.get(WatchedFile, (file.folder_id, file.name), with_for_update=True)
            folder = session.get(WatchedFolder, file.folder_id)
            if found is not None and folder is not None:
                for name, value in given.items():
                    setattr(found, name, value)
                session.add(found)
                folders.tell(session, folder.production_id)

    def _write(self, row: WatchedFolder, file: WatchedFile, found: _Result) -> None:
        """Put a result where it belongs, in the place of an earlier one of ours alone. Raises ResultsAway and JustNow."""
        folder = Path(row.results)
        with transaction() as session:
            others = select(WatchedFile.result).where(self._own(), WatchedFile.name != file.name)
            taken = set(session.exec(others).all())
        name = found.name if found.name not in taken else f"{file.name}{Path(found.name).suffix}"
        try:
            folder.mkdir(parents=True, exist_ok=True)
            there = folder / name
            self._refuse_others(there, file.result_sha256, found.sha256)
            _placed(there, self._store.read_checked(found.sha256, name=name))
            if found.certificate is not None:
                (folder / CERTIFICATES).mkdir(exist_ok=True)
                _placed(folder / CERTIFICATES / f"{name}{BESIDE}", iter([found.certificate]))
        except disk.JustNow:
            raise
        except IspettoreError as error:
            if file.problem != error.sentence:
                self._note(file, problem=error.sentence)
                self._said(error.sentence)
            return
        except OSError as error:
            said = disk.told(error, name)
            raise said or ResultsAway(folder=row.results, reason=(error.strerror or "the disk did not answer").lower()) from error
        self._note(file, result=name, result_sha256=found.sha256, problem="")
        self._said(f"“{name}” is in the folder of results.")

    def _refuse_others(self, path: Path, *ours: str | None) -> None:
        """Raises NotOurs where something else has a result's name; looked at again once that changed. Raises OSError."""
        if not path.is_symlink() and not path.exists():
            return
        seen = path.lstat()
        as_seen = (str(path), seen.st_ino, seen.st_size, seen.st_mtime_ns)
        if as_seen in self._others or path.is_symlink() or not path.is_file() or sha256_of(path) not in ours:
            self._others.add(as_seen)
            raise NotOurs(file=path.name)


def _as_it_was(file: WatchedFile, seen: Found) -> bool:
    """Whether a file of the folder is the one that was brought in or refused."""
    return (file.size_bytes, file.modified_ns) == (seen.size_bytes, seen.modified_ns)


def _results(session: Session, production_id: UUID, wanted: set[UUID]) -> Iterator[tuple[UUID, _Result]]:
    """Of these recordings those that have a file that counts for the specification of now."""
    production = session.get_one(Production, production_id)
    specification = kept.specification(production.specification)
    asked = (specification.id, specification.version)
    newest = made.newest(session, select(Recording.id).where(col(Recording.id).in_(wanted)), specification)
    counting = {
        found.counts: recording
        for recording, found in newest.items()
        if found.counts is not None and found.made is not None and found.made.passes and found.made.made_for == asked
    }
    rows = select(Conforming.id, Conforming.sha256, Conforming.file_name, Conforming.certificate_id)
    for identifier, sha256, name, certificate in session.exec(rows.where(col(Conforming.id).in_(counting))).all():
        sealed = session.get_one(CertificateRecord, certificate).sealed if certificate is not None else None
        if sha256 is not None:
            paper = packing.canonical(sealed) if sealed is not None else None
            yield counting[identifier], _Result(sha256, name or sha256, paper)


def _placed(path: Path, pieces: Iterator[bytes]) -> None:
    """A file written whole or not at all; what a death left is written anew. Raises OSError, and what `pieces` raises."""
    hidden = path.parent / f".{hashlib.sha256(path.name.encode()).hexdigest()[:24]}{PART}"
    try:
        with hidden.open("wb") as file:
            for piece in pieces:
                file.write(piece)
            file.flush()
            os.fsync(file.fileno())
        hidden.replace(path)
    except BaseException:
        with suppress(OSError):
            hidden.unlink(missing_ok=True)
        raise
