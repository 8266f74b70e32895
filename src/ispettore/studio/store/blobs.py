"""The store: files under the SHA-256 of their bytes, on any fsspec file system; a local folder by default.

A blob is written under a temporary name, synced where that means something, and moved into place: it is there whole or not at all.
What stands there already is replaced by the same bytes, so that a damaged file is healed by bringing it in again.

Nothing is believed because it lies there. Whoever reads a part reads it against the checksums of its pieces (`open`, `read`),
whoever needs a path for something that is only heard or drawn has all pieces compared (`compared`), and what a certificate will
rest on is hashed whole, every time (`checked`).
"""

import contextlib
import fcntl
import hashlib
import io
import os
import shutil
import time
import uuid
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, BinaryIO

import fsspec

from ispettore.core.audio.facts import sha256_of
from ispettore.core.errors import ContentChanged, IspettoreError
from ispettore.studio.store import disk
from ispettore.studio.store.sums import PIECE, CheckedFile, Sums

CHUNK = 1024 * 1024
STALE_S = 7 * 86_400
COMPARED_S = 3_600
KEPT_SUMS = 256
JUST_MADE_S = 30
"""A file is made a moment before it is held."""


class TooLarge(IspettoreError):
    """“{file}” is larger than {limit_gb:.1f} GB, this server's limit. Split it, or ask for a higher limit."""

    file: str
    limit_gb: float


class NotInStore(IspettoreError):
    """“{file}” is missing from Ispettore's store. Add the same file again to restore it."""

    file: str


@dataclass(frozen=True)
class Blob:
    sha256: str
    size_bytes: int


class Store:
    """`url` is a folder or any fsspec address."""

    def __init__(self, url: str) -> None:
        self._fs: Any
        self._fs, self._root = fsspec.core.url_to_fs(url)
        self._local = "file" in (self._fs.protocol if isinstance(self._fs.protocol, tuple) else (self._fs.protocol,))
        self._sums: dict[str, bytes] = {}
        self._compared: dict[tuple[str, int, int, int, int], float] = {}
        self._make(f"{self._root}/incoming")

    @property
    def folder(self) -> Path | None:
        """Where it lies on this machine; None where it is elsewhere."""
        return Path(self._root) if self._local else None

    def _path(self, sha256: str) -> str:
        return f"{self._root}/{sha256[:2]}/{sha256}"

    def _sums_path(self, sha256: str) -> str:
        return f"{self._root}/sums/{sha256[:2]}/{sha256}"

    def _temporary(self) -> str:
        return f"{self._root}/incoming/{uuid.uuid4().hex}"

    def _make(self, folder: str) -> None:
        if self._local:
            with disk.in_words("the store"):
                Path(folder).mkdir(parents=True, exist_ok=True, mode=0o700)
        else:
            self._fs.makedirs(folder, exist_ok=True)

    def _place(self, temporary: str, sha256: str, sums: bytes) -> None:
        """Move a whole file to where its hash says, the checksums of its pieces first."""
        self._put_sums(sha256, sums)
        self._move(temporary, self._path(sha256))

    def _put_sums(self, sha256: str, sums: bytes) -> None:
        temporary = self._temporary()
        with self._fs.open(temporary, "wb") as file:
            file.write(sums)
        self._move(temporary, self._sums_path(sha256))
        self._sums.pop(sha256, None)

    def _move(self, temporary: str, target: str) -> None:
        self._make(target.rsplit("/", 1)[0])
        if self._local:
            Path(temporary).chmod(0o600)
            Path(temporary).replace(target)
        else:
            self._fs.mv(temporary, target)

    def put(self, chunks: Iterable[bytes], *, name: str, limit_bytes: int | None = None) -> Blob:
        """Write a stream; the same bytes twice are kept once. Raises TooLarge and keeps nothing past the limit."""
        writer = self.writer(name=name, limit_bytes=limit_bytes)
        try:
            for chunk in chunks:
                writer.write(chunk)
            return writer.finish()
        except BaseException:
            writer.abandon()
            raise

    def writer(self, *, name: str, limit_bytes: int | None = None) -> "BlobWriter":
        """A blob to be written piece by piece."""
        return BlobWriter(self, name, limit_bytes)

    def put_file(self, path: Path) -> Blob:
        """Copy a file in."""
        with path.open("rb") as file:
            return self.put(iter(lambda: file.read(CHUNK), b""), name=path.name)

    def take(self, path: Path, sha256: str) -> Blob:
        """Move a file in whose hash is known, having just been worked out; it is not at `path` any more."""
        size, temporary, sums = path.stat().st_size, self._temporary(), Sums()
        with disk.in_words(path.name):
            with path.open("rb") as file:
                while piece := file.read(CHUNK):
                    sums.update(piece)
                os.fsync(file.fileno())
            if self._local:
                shutil.move(path, temporary)
            else:
                self._fs.put(str(path), temporary)
            self._place(temporary, sha256, sums.packed())
        path.unlink(missing_ok=True)
        return Blob(sha256, size)

    def has(self, sha256: str) -> bool:
        return bool(self._fs.exists(self._path(sha256)))

    def remove(self, sha256: str) -> None:
        """Let go of a blob that nothing names any more; whoever reads it just now reads on. One that is not there is gone
        already."""
        for path in (self._path(sha256), self._sums_path(sha256)):
            with contextlib.suppress(FileNotFoundError):
                self._fs.rm(path)

    def size(self, sha256: str) -> int:
        return int(self._fs.size(self._path(sha256)))

    def open(self, sha256: str, *, name: str) -> BinaryIO:
        """The blob to read and seek in; nothing is given out that its checksum does not bear out. Reading raises ContentChanged;
        raises NotInStore."""

        def wrong() -> bytes:
            return self._summed(sha256, name)  # raises, unless the checksums are what was wrong

        try:
            file = self._fs.open(self._path(sha256), "rb")
        except FileNotFoundError:
            raise NotInStore(file=name) from None
        try:
            return io.BufferedReader(CheckedFile(file, self._sums_of(sha256, name), wrong), PIECE)
        except BaseException:
            file.close()
            raise

    def _sums_of(self, sha256: str, name: str) -> bytes:
        """The checksums of a blob's pieces; of one that has none, made now. Raises ContentChanged and NotInStore."""
        if sha256 not in self._sums:
            try:
                with self._fs.open(self._sums_path(sha256), "rb") as file:
                    found = bytes(file.read())
            except FileNotFoundError:
                found = self._summed(sha256, name)
            while len(self._sums) >= KEPT_SUMS:
                with contextlib.suppress(KeyError, StopIteration):
                    del self._sums[next(iter(self._sums))]
            self._sums[sha256] = found
        return self._sums[sha256]

    def _summed(self, sha256: str, name: str) -> bytes:
        """The checksums of a blob's pieces, kept from now on where they can be. It is hashed for it: raises ContentChanged and
        NotInStore."""
        found, sums = hashlib.sha256(), Sums()
        for piece in self._there(sha256, name):
            found.update(piece)
            sums.update(piece)
        if found.hexdigest() != sha256:
            raise ContentChanged(file=name)
        packed = sums.packed()
        with contextlib.suppress(OSError, IspettoreError):
            if not self._fs.exists(self._sums_path(sha256)) or self._fs.cat_file(self._sums_path(sha256)) != packed:
                self._put_sums(sha256, packed)
        return packed

    def read(self, sha256: str, *, name: str, start: int = 0, end: int | None = None) -> Iterator[bytes]:
        """The blob's bytes from `start` up to, not including, `end`, in pieces, each borne out by its checksum. Raises as `open`
        does."""
        with self.open(sha256, name=name) as file:
            file.seek(start)
            left = (end - start) if end is not None else None
            while left is None or left > 0:
                piece = file.read(CHUNK if left is None else min(CHUNK, left))
                if not piece:
                    return
                if left is not None:
                    left -= len(piece)
                yield piece

    def read_checked(self, sha256: str, *, name: str) -> Iterator[bytes]:
        """The whole blob in pieces, the last of them held back until the hash of all agrees. Raises ContentChanged or NotInStore.

        Whoever gets fewer bytes than there should be knows that something is wrong; nobody gets a damaged file as if it were whole.
        """
        found, held = hashlib.sha256(), b""
        for piece in self._there(sha256, name):
            found.update(piece)
            if held:
                yield held
            held = piece
        if found.hexdigest() != sha256:
            raise ContentChanged(file=name)
        yield held

    def check(self, sha256: str, *, name: str) -> None:
        """Read a blob and hold it against its hash. Raises ContentChanged or NotInStore."""
        found = hashlib.sha256()
        for piece in self._there(sha256, name):
            found.update(piece)
        if found.hexdigest() != sha256:
            raise ContentChanged(file=name)

    def _there(self, sha256: str, name: str) -> Iterator[bytes]:
        try:
            with self._fs.open(self._path(sha256), "rb") as file:
                while piece := file.read(CHUNK):
                    yield piece
        except FileNotFoundError:
            raise NotInStore(file=name) from None

    def local(self, sha256: str) -> Path | None:
        """Where the blob lies on this machine; None where the store is elsewhere. Never write to it."""
        return Path(self._path(sha256)) if self._local else None

    @contextmanager
    def as_local(self, sha256: str, *, name: str = "the file", folder: Path | None = None) -> Iterator[Path]:
        """The blob as a path on this machine, fetched into `folder` where the store is elsewhere. Never write to it.

        Raises NotInStore.
        """
        if not self.has(sha256):
            raise NotInStore(file=name)
        if self._local:
            yield Path(self._path(sha256))
            return
        with TemporaryDirectory(prefix="ispettore-blob-", dir=folder) as held:
            path = Path(held) / sha256
            self._fs.get(self._path(sha256), str(path))
            yield path

    @contextmanager
    def checked(self, sha256: str, *, name: str, folder: Path | None = None) -> Iterator[Path]:
        """As `as_local`, its bytes held against their hash first: here trust in what was kept begins, and whoever gets the path
        hashes nothing again. Raises NotInStore, and ContentChanged where a disk or a person changed the bytes."""
        with self.as_local(sha256, name=name, folder=folder) as path:
            if sha256_of(path) != sha256:
                raise ContentChanged(file=name)
            yield path

    @contextmanager
    def compared(self, sha256: str, *, name: str, folder: Path | None = None) -> Iterator[Path]:
        """As `as_local`, for what is heard, drawn or planned: every piece held against its checksum first, unless that was done
        within the hour and nobody wrote to it since. Raises NotInStore and ContentChanged."""
        with self.as_local(sha256, name=name, folder=folder) as path:
            found = path.stat()
            seen = (sha256, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns)
            if time.monotonic() - self._compared.get(seen, -COMPARED_S) >= COMPARED_S:
                for _ in self.read(sha256, name=name):
                    pass
                self._compared = {key: at for key, at in self._compared.items() if time.monotonic() - at < COMPARED_S}
                self._compared[seen] = time.monotonic()
            yield path

    def listed(self) -> Iterator[tuple[str, int]]:
        """Every blob there is, with its size in bytes."""
        for path, entry in self._fs.find(self._root, detail=True).items():
            parts = path.split("/")
            if len(parts[-1]) == 64 and parts[-2] == parts[-1][:2] and parts[-3] != "sums":
                yield parts[-1], int(entry["size"])

    def scrub(self, sha256: str, *, name: str) -> None:
        """Hash a blob, and see to the checksums of its pieces. Raises ContentChanged and NotInStore."""
        self._summed(sha256, name)

    def whole(self, *hashes: str | None) -> bool:
        """Whether all of these blobs are there and undamaged."""
        try:
            for sha256 in hashes:
                if sha256 is None:
                    return False
                with self.compared(sha256, name=sha256):
                    pass
        except (NotInStore, ContentChanged):
            return False
        return True

    def sweep(self) -> None:
        """Let go of what writers left that are gone: on this machine those that nobody holds, elsewhere what is a week old."""
        for entry in self._fs.ls(f"{self._root}/incoming", detail=True):
            if self._local:
                _remove_unheld(Path(entry["name"]))
            elif (age := _age_s(entry)) is not None and age > STALE_S:
                with contextlib.suppress(OSError):
                    self._fs.rm(entry["name"])


def _remove_unheld(path: Path) -> None:
    try:
        if time.time() - path.stat().st_mtime < JUST_MADE_S:
            return
        with path.open("rb") as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            path.unlink()
    except OSError:
        return  # somebody writes it, or it is gone


def _age_s(entry: dict[str, Any]) -> float | None:
    changed = entry.get("LastModified") or entry.get("mtime") or entry.get("created")
    stamp = changed.timestamp() if isinstance(changed, datetime) else changed
    return time.time() - stamp if isinstance(stamp, int | float) else None


class BlobWriter:
    """Takes bytes, then `finish()` or `abandon()`. Raises TooLarge, NoRoomLeft and StoreReadOnly."""

    def __init__(self, store: Store, name: str, limit_bytes: int | None) -> None:
        self._store, self._name, self._limit = store, name, limit_bytes
        self._temporary = store._temporary()
        self._hash, self._sums = hashlib.sha256(), Sums()
        self.size = 0
        self._file: Any
        with disk.in_words(name):
            if store._local:
                self._file = os.fdopen(os.open(self._temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb")
                fcntl.flock(self._file, fcntl.LOCK_EX)
            else:
                self._file = store._fs.open(self._temporary, "wb")

    def write(self, chunk: bytes) -> None:
        self.size += len(chunk)
        if self._limit is not None and self.size > self._limit:
            raise TooLarge(file=self._name, limit_gb=self._limit / 1024**3)
        self._hash.update(chunk)
        self._sums.update(chunk)
        with disk.in_words(self._name):
            self._file.write(chunk)

    def finish(self) -> Blob:
        with disk.in_words(self._name):
            self._file.flush()
            if self._store._local:
                os.fsync(self._file.fileno())
            sha256 = self._hash.hexdigest()
            if not self._store._local:
                self._file.close()
            self._store._place(self._temporary, sha256, self._sums.packed())
            self._file.close()
        return Blob(sha256, self.size)

    def abandon(self) -> None:
        with contextlib.suppress(OSError):
            self._file.close()
        if self._store._fs.exists(self._temporary):
            self._store._fs.rm(self._temporary)
