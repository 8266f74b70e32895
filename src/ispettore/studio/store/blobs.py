"""The store: files under the SHA-256 of their bytes, in a folder or in a bucket (`shelves.py`).

A blob is written under a temporary name on this machine, synced, and moved into place: it is there whole or not at all.
What stands there already is replaced by the same bytes, so that a damaged file is healed by bringing it in again.

Nothing is believed because it lies there. Whoever reads a part reads it against the checksums of its pieces (`open`, `read`),
whoever needs a path for something that is only heard or drawn has all pieces compared (`compared`), and what a certificate will
rest on is hashed whole, every time (`checked`).
"""

import contextlib
import errno
import fcntl
import hashlib
import io
import os
import time
import uuid
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, BinaryIO

from ispettore.core.audio.facts import sha256_of
from ispettore.core.errors import ContentChanged, IspettoreError
from ispettore.studio.store import disk
from ispettore.studio.store.shelves import moved, shelf
from ispettore.studio.store.sums import PIECE, CheckedFile, Sums

CHUNK = 1024 * 1024
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
        self.shelf = shelf(url)
        self._sums: dict[str, bytes] = {}
        self._compared: dict[tuple[str, int, int, int, int], float] = {}

    @property
    def folder(self) -> Path | None:
        """Where it lies on this machine; None where it is elsewhere."""
        return self.shelf.folder

    def _temporary(self) -> Path:
        return self.shelf.coming / uuid.uuid4().hex

    def _place(self, temporary: Path, sha256: str, sums: bytes) -> None:
        """Move a whole file to where its hash says, the checksums of its pieces first."""
        self._put_sums(sha256, sums)
        self.shelf.put(temporary, _named(sha256))

    def _put_sums(self, sha256: str, sums: bytes) -> None:
        temporary = self._temporary()
        with temporary.open("xb") as file:
            _hold(file)
            file.write(sums)
            file.flush()
            self.shelf.put(temporary, _sums_of(sha256))
        self._sums.pop(sha256, None)

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
        with disk.in_words(path.name), path.open("rb") as file:
            _hold(file)  # under its new name too, however long ago it was written
            while piece := file.read(CHUNK):
                sums.update(piece)
            moved(path, temporary)
            with temporary.open("rb") as there:
                _hold(there)  # it was copied, where it came from another disk
                self._place(temporary, sha256, sums.packed())
        return Blob(sha256, size)

    def has(self, sha256: str) -> bool:
        return self.shelf.exists(_named(sha256))

    def remove(self, sha256: str) -> None:
        """Let go of a blob that nothing names any more; whoever reads it just now reads on. One that is not there is gone
        already."""
        for name in (_named(sha256), _sums_of(sha256)):
            with contextlib.suppress(FileNotFoundError):
                self.shelf.remove(name)

    def size(self, sha256: str) -> int:
        return self.shelf.size(_named(sha256))

    def open(self, sha256: str, *, name: str) -> BinaryIO:
        """The blob to read and seek in; nothing is given out that its checksum does not bear out. Reading raises ContentChanged;
        raises NotInStore."""

        def wrong() -> bytes:
            return self._summed(sha256, name)  # raises, unless the checksums are what was wrong

        try:
            file = self.shelf.open(_named(sha256))
        except FileNotFoundError:
            raise NotInStore(file=name) from None
        try:
            return io.BufferedReader(CheckedFile(file, self._known_sums(sha256, name), wrong), PIECE)
        except BaseException:
            file.close()
            raise

    def _known_sums(self, sha256: str, name: str) -> bytes:
        """The checksums of a blob's pieces; of one that has none, made now. Raises ContentChanged and NotInStore."""
        if sha256 not in self._sums:
            try:
                found = self._kept_sums(sha256)
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
            if not self.shelf.exists(_sums_of(sha256)) or self._kept_sums(sha256) != packed:
                self._put_sums(sha256, packed)
        return packed

    def _kept_sums(self, sha256: str) -> bytes:
        with self.shelf.open(_sums_of(sha256)) as file:
            return file.read()

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
        """Read a blob and hold it against its hash; its checksums are seen to on the way. Raises ContentChanged or NotInStore."""
        self._summed(sha256, name)

    def _there(self, sha256: str, name: str) -> Iterator[bytes]:
        try:
            with self.shelf.open(_named(sha256)) as file:
                while piece := file.read(CHUNK):
                    yield piece
        except FileNotFoundError:
            raise NotInStore(file=name) from None

    def local(self, sha256: str) -> Path | None:
        """Where the blob lies on this machine; None where the store is elsewhere. Never write to it."""
        return self.folder / _named(sha256) if self.folder is not None else None

    @contextmanager
    def as_local(self, sha256: str, *, name: str = "the file") -> Iterator[Path]:
        """The blob as a path on this machine. Never write to it. Raises NotInStore."""
        with ExitStack() as held:
            try:
                path = held.enter_context(self.shelf.path(_named(sha256)))
            except FileNotFoundError:
                raise NotInStore(file=name) from None
            yield path

    @contextmanager
    def checked(self, sha256: str, *, name: str) -> Iterator[Path]:
        """As `as_local`, its bytes held against their hash first: here trust in what was kept begins, and whoever gets the path
        hashes nothing again. What was made of it stands only if it was the same to the end: afterwards its pieces are compared once
        more. Raises NotInStore, and, before or afterwards, ContentChanged where a disk or a person changed the bytes."""
        with self._borne_out(sha256, name, lambda path: sha256_of(path) == sha256) as path:
            yield path
            if not self._pieces_agree(path, sha256, name):
                raise ContentChanged(file=name)

    @contextmanager
    def _borne_out(self, sha256: str, name: str, right: Callable[[Path], bool]) -> Iterator[Path]:
        """A blob as a path, if it is right; a copy that is not is fetched once more. Raises NotInStore and ContentChanged."""
        with ExitStack() as held:
            path = held.enter_context(self.as_local(sha256, name=name))
            if not right(path):
                if not self.shelf.forget(_named(sha256)):
                    raise ContentChanged(file=name)
                path = held.enter_context(self.as_local(sha256, name=name))
                if not right(path):
                    raise ContentChanged(file=name)
            yield path

    @contextmanager
    def compared(self, sha256: str, *, name: str) -> Iterator[Path]:
        """As `as_local`, for what is heard, drawn or planned: every piece held against its checksum first, unless that was done
        within the hour and nobody wrote to it since. Raises NotInStore and ContentChanged."""
        with self._borne_out(sha256, name, lambda path: self._agrees(path, sha256, name)) as path:
            yield path

    def _agrees(self, path: Path, sha256: str, name: str) -> bool:
        found, now = path.stat(), time.monotonic()
        seen = (sha256, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns)
        if now - self._compared.get(seen, -COMPARED_S) < COMPARED_S:
            return True
        if not self._pieces_agree(path, sha256, name):
            return False
        self._compared = {key: at for key, at in self._compared.items() if now - at < COMPARED_S}
        self._compared[seen] = now
        return True

    def _pieces_agree(self, path: Path, sha256: str, name: str) -> bool:
        """Whether every piece of a blob's file is there and as its checksum says."""
        try:
            with CheckedFile(path.open("rb"), self._known_sums(sha256, name), lambda: self._summed(sha256, name)) as file:
                while file.read(PIECE):
                    pass
        except (ContentChanged, FileNotFoundError):
            return False
        except OSError as error:
            if error.errno != errno.EIO:
                raise
            return False  # the file elsewhere is whole, and this copy of it is not
        return True

    def listed(self) -> Iterator[tuple[str, int]]:
        """Every blob there is, with its size in bytes."""
        for name, size in self.shelf.listed():
            sha256 = name.rpartition("/")[2]
            if len(sha256) == 64 and name == _named(sha256):
                yield sha256, size

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
        """Let go of what writers left that are gone."""
        for path in self.shelf.coming.iterdir():
            _remove_unheld(path)


def _named(sha256: str) -> str:
    return f"{sha256[:2]}/{sha256}"


def _sums_of(sha256: str) -> str:
    return f"sums/{_named(sha256)}"


def _hold(file: IO[bytes]) -> None:
    """Keep a file from being swept for as long as it is open."""
    fcntl.flock(file, fcntl.LOCK_SH)


def _remove_unheld(path: Path) -> None:
    try:
        if time.time() - path.stat().st_mtime < JUST_MADE_S:
            return
        with path.open("rb") as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            path.unlink()
    except OSError:
        return  # somebody writes it, or it is gone


class BlobWriter:
    """Takes bytes, then `finish()` or `abandon()`. Raises TooLarge, NoRoomLeft and StoreReadOnly."""

    def __init__(self, store: Store, name: str, limit_bytes: int | None) -> None:
        self._store, self._name, self._limit = store, name, limit_bytes
        self._temporary = store._temporary()
        self._hash, self._sums = hashlib.sha256(), Sums()
        self.size = 0
        with disk.in_words(name):
            self._file = os.fdopen(os.open(self._temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb")
            _hold(self._file)

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
            os.fsync(self._file.fileno())
            sha256 = self._hash.hexdigest()
            self._store._place(self._temporary, sha256, self._sums.packed())
            self._file.close()
        return Blob(sha256, self.size)

    def abandon(self) -> None:
        with contextlib.suppress(OSError):
            self._file.close()
        self._temporary.unlink(missing_ok=True)
