"""The store: files under the SHA-256 of their bytes, on any fsspec file system; a local folder by default.

A blob is written under a temporary name, synced where that means something, and moved into place: it is there whole or not at all.
"""

import hashlib
import os
import shutil
import uuid
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import fsspec

from ispettore.core.errors import IspettoreError

CHUNK = 1024 * 1024


class TooLarge(IspettoreError):
    """“{file}” is larger than {limit_gb:.1f} GB, the most this installation takes. Split it, or ask for a higher limit."""


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
        self._fs.makedirs(f"{self._root}/incoming", exist_ok=True)

    def _path(self, sha256: str) -> str:
        return f"{self._root}/{sha256[:2]}/{sha256}"

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
        """Move a file in whose hash is known and whose bytes are synced; it is not at `path` any more."""
        size, target = path.stat().st_size, self._path(sha256)
        if not self._fs.exists(target):
            self._fs.makedirs(target.rsplit("/", 1)[0], exist_ok=True)
            temporary = f"{self._root}/incoming/{uuid.uuid4().hex}"
            if self._local:
                shutil.move(path, temporary)
                Path(temporary).replace(target)
            else:
                self._fs.put(str(path), temporary)
                self._fs.mv(temporary, target)
        path.unlink(missing_ok=True)
        return Blob(sha256, size)

    def has(self, sha256: str) -> bool:
        return bool(self._fs.exists(self._path(sha256)))

    def size(self, sha256: str) -> int:
        return int(self._fs.size(self._path(sha256)))

    def read(self, sha256: str, *, start: int = 0, end: int | None = None) -> Iterator[bytes]:
        """The blob's bytes from `start` up to, not including, `end`, in pieces."""
        with self._fs.open(self._path(sha256), "rb") as file:
            file.seek(start)
            left = (end - start) if end is not None else None
            while left is None or left > 0:
                piece = file.read(CHUNK if left is None else min(CHUNK, left))
                if not piece:
                    return
                if left is not None:
                    left -= len(piece)
                yield piece

    def local(self, sha256: str) -> Path | None:
        """Where the blob lies on this machine; None where the store is elsewhere. Never write to it."""
        return Path(self._path(sha256)) if self._local else None

    @contextmanager
    def as_local(self, sha256: str) -> Iterator[Path]:
        """The blob as a path on this machine, fetched where the store is elsewhere. Never write to it."""
        if self._local:
            yield Path(self._path(sha256))
            return
        with TemporaryDirectory(prefix="ispettore-blob-") as folder:
            path = Path(folder) / sha256
            self._fs.get(self._path(sha256), str(path))
            yield path


class BlobWriter:
    """Takes bytes, then `finish()` or `abandon()`."""

    def __init__(self, store: Store, name: str, limit_bytes: int | None) -> None:
        self._store, self._name, self._limit = store, name, limit_bytes
        self._temporary = f"{store._root}/incoming/{uuid.uuid4().hex}"
        self._hash = hashlib.sha256()
        self.size = 0
        self._file: Any = store._fs.open(self._temporary, "wb")

    def write(self, chunk: bytes) -> None:
        self.size += len(chunk)
        if self._limit is not None and self.size > self._limit:
            raise TooLarge(file=self._name, limit_gb=self._limit / 1024**3)
        self._hash.update(chunk)
        self._file.write(chunk)

    def finish(self) -> Blob:
        fs = self._store._fs
        self._file.flush()
        if self._store._local:
            os.fsync(self._file.fileno())
        self._file.close()
        sha256 = self._hash.hexdigest()
        target = self._store._path(sha256)
        if fs.exists(target):
            fs.rm(self._temporary)
        else:
            fs.makedirs(target.rsplit("/", 1)[0], exist_ok=True)
            if self._store._local:
                Path(self._temporary).replace(target)
            else:
                fs.mv(self._temporary, target)
        return Blob(sha256, self.size)

    def abandon(self) -> None:
        self._file.close()
        if self._store._fs.exists(self._temporary):
            self._store._fs.rm(self._temporary)
