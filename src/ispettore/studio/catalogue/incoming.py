"""Files on their way in, kept piece by piece until they are whole: a broken connection, a reload or a killed server loses nothing.

Beside each file stands what is known of it. Only the bytes up to its recorded offset count: they were synced before it was written.
"""

import contextlib
import hashlib
import json
import os
import re
import threading
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO
from uuid import UUID

import structlog

from ispettore.core.errors import IspettoreError
from ispettore.core.text import LONGEST_NAME_BYTES, cleaned, refuse
from ispettore.studio import events
from ispettore.studio.catalogue import importings, recordings
from ispettore.studio.catalogue.views import UnfinishedUpload
from ispettore.studio.database import GONE, transaction
from ispettore.studio.errors import NameTooLong, NameUnreadable, NotFound, UploadCutShort
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import CHUNK, Blob, Store, TooLarge
from ispettore.studio.store.placing import placing

log = structlog.get_logger()
UID = re.compile(r"^[0-9a-f]{32}$")
KEEP_DAYS = 7
ARCHIVE = "archive"
"""What a file's metadata holds where it is an archive to be imported, and of no production here yet."""

# Requests that were broken off speak late, beside those that go on: what is known of a file is read and written by one at a time.
_noting = threading.RLock()
COULD_NOT = "It could not be added as a recording; the log has the details. Add the file again, or discard it."


class Incoming:
    """The folder of files on their way in."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)

    def path(self, uid: str) -> Path:
        """Where a file's bytes are. Raises NotFound for what is no identifier."""
        if not UID.match(uid):
            raise NotFound(what="upload")
        return self.folder / uid

    def info(self, uid: str) -> dict[str, Any] | None:
        """What is known of a file: its size, offset, metadata and when it expires; None where there is none."""
        if not UID.match(uid):
            return None
        try:
            found = json.loads((self.folder / f"{uid}.json").read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return None
        return found if isinstance(found, dict) else None

    def note(self, uid: str, info: dict[str, Any]) -> None:
        """Write down what is known of a file, whole or not at all."""
        target = self.path(uid).with_suffix(".json")
        temporary = target.with_suffix(".part")
        with _noting:
            with temporary.open("w", encoding="utf-8") as file:
                json.dump(info, file)
                file.flush()
                os.fsync(file.fileno())
            temporary.replace(target)

    def note_progress(self, uid: str, info: dict[str, Any]) -> None:
        """Write down how far a file has come, whoever says so and when.

        A request that was broken off may speak late: what another noted meanwhile is not taken back. One that failed may claim what
        was never written: no more counts than is there. Of a file that is gone nothing is noted.
        """
        path = self.path(uid)
        with _noting:
            if not path.exists():
                return
            known = self.info(uid) or {}
            offset = max(int(known.get("offset", 0)), min(int(info.get("offset", 0)), path.stat().st_size))
            self.note(uid, {**known, **info, "offset": offset})

    def create(self, uid: str) -> None:
        self.path(uid).touch(mode=0o600)

    def at_offset(self, uid: str) -> BinaryIO:
        """The file, cut to the bytes that count, to be written on from there."""
        info = self.info(uid) or {}
        file = self.path(uid).open("r+b")
        file.truncate(int(info.get("offset", 0)))
        file.seek(0, os.SEEK_END)
        return file

    def remove(self, uid: str) -> None:
        path = self.path(uid)
        with _noting:
            for leftover in (path, path.with_suffix(".json"), path.with_suffix(".part")):
                leftover.unlink(missing_ok=True)

    def discard(self, uid: str) -> None:
        """Let go of what came in of a file, and tell those who show it. Raises NotFound."""
        self.remove(uid)
        with transaction() as session:
            events.tell(session, events.Notice(about="uploads"))

    def uids(self) -> list[str]:
        return sorted(path.stem for path in self.folder.glob("*.json") if UID.match(path.stem))

    def unfinished(self, production_id: UUID | None) -> list[UnfinishedUpload]:
        """What came in part for a production, or as an archive (None), so that it can be gone on with; the newest last."""
        known = [self._view(uid) for uid in self.uids()]
        of = str(production_id) if production_id is not None else ""
        return [view for production, view in known if production == of and not view.problem and view.size_bytes]

    def set_aside(self) -> list[UnfinishedUpload]:
        """What came in and could not be made a recording, each with the reason; nothing is lost until somebody discards it."""
        return [view for _, view in (self._view(uid) for uid in self.uids()) if view.problem]

    def _view(self, uid: str) -> tuple[str, UnfinishedUpload]:
        """The production an entry is for, and what is known of it."""
        info = self.info(uid) or {}
        metadata = info.get("metadata") if isinstance(info.get("metadata"), dict) else {}
        assert isinstance(metadata, dict)
        size, offset = info.get("size"), info.get("offset")
        return str(metadata.get("production", "")), UnfinishedUpload(
            id=uid,
            name=cleaned(str(metadata.get("filename") or uid)),
            modified=cleaned(str(metadata.get("modified", ""))),
            size_bytes=size if isinstance(size, int) else 0,
            received_bytes=offset if isinstance(offset, int) else 0,
            problem=str(info.get("problem", "")),
        )

    def allow(self, metadata: dict[str, Any], size: int | None) -> None:
        """Whether a file may come in, asked before its first byte. Raises TooLarge, NoRoomLeft or NotFound."""
        name = allowed_name(metadata.get("filename"))
        archive = bool(metadata.get(ARCHIVE))
        limit = settings().largest_archive_bytes if archive else settings().largest_upload_bytes
        if size is None or size < 0:
            raise UploadCutShort(file=name, reason="how long it is was not said")
        if size > limit:
            raise TooLarge(file=name, limit_gb=limit / 1024**3)
        disk.room_for(size, self.folder, Store(settings().store).folder, file=name)
        if archive:
            return
        recordings.expected(_uuid(metadata.get("production")), _uuid(metadata["replaces"]) if metadata.get("replaces") else None)

    def finish(self, uid: str, store: Store) -> UUID:
        """A file that is whole becomes a recording, or an archive to import, once, however often this is tried. Raises
        UploadCutShort, NotFound and BadText."""
        info = self.info(uid)
        if info is None:
            raise NotFound(what="upload")
        name = str(info.get("metadata", {}).get("filename") or "recording")
        refuse(name, what="The file's name")
        with placing():
            made = self._placed(uid, info, store, name=name)
        self.remove(uid)
        return made

    def _placed(self, uid: str, info: dict[str, Any], store: Store, *, name: str) -> UUID:
        """What is whole, moved to the store and named by a row."""
        path, metadata = self.path(uid), info.get("metadata", {})
        if path.exists():
            if path.stat().st_size != info.get("size"):
                raise UploadCutShort(file=name, reason=f"{path.stat().st_size} of {info.get('size')} bytes came in")
            # Noted before the file moves: should this process end between the two, the next try knows where it went.
            info["sha256"] = _hash(path)
            self.note(uid, info)
            blob = store.take(path, info["sha256"])
        elif info.get("sha256") and store.has(info["sha256"]):
            blob = Blob(info["sha256"], int(info["size"]))
        else:
            raise NotFound(what="upload")
        try:
            if metadata.get(ARCHIVE):
                return importings.add(name, blob)
            if metadata.get("replaces"):
                return recordings.replace(_uuid(metadata["replaces"]), name, blob)
            return recordings.add(_uuid(metadata.get("production")), name, blob)
        except IspettoreError:
            self.remove(uid)
            raise

    def sweep(self, store: Store) -> None:
        """After a start: finish what is whole, and let go of what nobody went on with for a week.

        One bad entry stops no start: it is set aside with the reason, and shown until somebody discards it.
        """
        for uid in self.uids():
            try:
                self._swept(uid, store)
            except GONE as error:
                log.warning("an upload waits for the next start", upload=uid, reason=type(error).__name__)
            except Exception as error:
                said = error.sentence if isinstance(error, IspettoreError) else COULD_NOT
                log.warning("an upload was set aside", upload=uid, reason=said, kind=type(error).__name__)
                with contextlib.suppress(OSError):
                    self._note_problem(uid, said)

    def _swept(self, uid: str, store: Store) -> None:
        info = self.info(uid)
        if info is None:
            raise NotFound(what="record of this upload")
        if info.get("problem"):
            return
        if info.get("size") is not None and info.get("offset") == info.get("size"):
            self.finish(uid, store)
        elif datetime.now(UTC).timestamp() - self.path(uid).with_suffix(".json").stat().st_mtime > KEEP_DAYS * 86_400:
            self.remove(uid)

    def _note_problem(self, uid: str, said: str) -> None:
        if (self.folder / f"{uid}.json").exists() or self.path(uid).exists():
            self.note(uid, {**(self.info(uid) or {}), "problem": said})


def allowed_name(name: Any) -> str:
    """A file's name that can be kept. Raises NameUnreadable, NameTooLong and BadText."""
    if not isinstance(name, str) or not name:
        raise NameUnreadable()
    refuse(name, what="The file's name")
    length = len(name.encode())
    if length > LONGEST_NAME_BYTES:
        raise NameTooLong(start=name[:40], length=length)
    return name


def _hash(path: Path) -> str:
    found = hashlib.sha256()
    with path.open("rb") as file:
        while chunk := file.read(CHUNK):
            found.update(chunk)
    return found.hexdigest()


def _uuid(text: Any) -> UUID:
    try:
        return UUID(str(text))
    except ValueError:
        raise NotFound(what="production") from None
