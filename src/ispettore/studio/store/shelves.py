"""Where whole files lie by their names: a folder of this machine, or a bucket elsewhere with copies of what is used here.

A file is written on this machine first and then put in its place: it is there whole or not at all.
"""

import contextlib
import fcntl
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any, BinaryIO, Protocol, cast
from uuid import uuid4

import fsspec

from ispettore.core.errors import IspettoreError
from ispettore.studio.settings import settings
from ispettore.studio.store import disk

READ_AHEAD = 1024 * 1024


class StoreAway(IspettoreError):
    """The place where Ispettore keeps its files does not answer. Nothing is lost; try again in a moment."""


class Shelf(Protocol):
    """`coming` is the folder on this machine in which files are written that are then put in their places; `here` is below what all
    paths lie that are given out. `folder` is None where the files lie elsewhere."""

    @property
    def folder(self) -> Path | None: ...

    @property
    def here(self) -> Path: ...

    @property
    def coming(self) -> Path: ...

    def put(self, path: Path, name: str) -> None:
        """Move a whole file to its name; it is not at `path` any more."""

    def open(self, name: str) -> BinaryIO:
        """To read and seek in. Raises FileNotFoundError."""

    def path(self, name: str) -> contextlib.AbstractContextManager[Path]:
        """The file as a path on this machine; never write to it. Raises FileNotFoundError."""

    def exists(self, name: str) -> bool: ...

    def size(self, name: str) -> int: ...

    def remove(self, name: str) -> None:
        """Raises FileNotFoundError."""

    def listed(self) -> Iterator[tuple[str, int]]:
        """Every file's name and size in bytes."""

    def forget(self, name: str) -> bool:
        """Drop a copy that turned out wrong; whether there was one, so that asking again may help."""


def shelf(url: str) -> Shelf:
    """`url` is a folder, or any address that fsspec knows."""
    # What others put there meanwhile has to be seen.
    fs, root = fsspec.core.url_to_fs(url, use_listings_cache=False)
    local = "file" in (fs.protocol if isinstance(fs.protocol, tuple) else (fs.protocol,))
    return Folder(Path(root)) if local else Bucket(fs, root, Copies(settings().cache, limit_bytes=settings().cache_bytes))


class Folder:
    """A folder of this machine."""

    def __init__(self, root: Path) -> None:
        self.folder: Path | None = root
        self.here, self.coming = root, root / "incoming"
        _make(self.coming)

    def put(self, path: Path, name: str) -> None:
        target = self.here / name
        _make(target.parent)
        path.chmod(0o600)
        path.replace(target)

    def open(self, name: str) -> BinaryIO:
        return (self.here / name).open("rb")

    @contextmanager
    def path(self, name: str) -> Iterator[Path]:
        if not self.exists(name):
            raise FileNotFoundError(name)
        yield self.here / name

    def exists(self, name: str) -> bool:
        return (self.here / name).is_file()

    def size(self, name: str) -> int:
        return (self.here / name).stat().st_size

    def remove(self, name: str) -> None:
        (self.here / name).unlink()

    def listed(self) -> Iterator[tuple[str, int]]:
        for path in self.here.rglob("*"):
            with contextlib.suppress(FileNotFoundError):
                if path.is_file():
                    yield str(path.relative_to(self.here)), path.stat().st_size

    def forget(self, name: str) -> bool:
        return False


class Bucket:
    """Files elsewhere. What is used as a path is copied here; parts are read where they are. Everything raises StoreAway."""

    folder: Path | None = None

    def __init__(self, fs: Any, root: str, copies: "Copies") -> None:
        self._fs, self._root, self._copies = fs, root, copies
        self.here, self.coming = copies.folder, copies.folder / "incoming"
        _make(self.coming)

    def _at(self, name: str) -> str:
        return f"{self._root}/{name}"

    def put(self, path: Path, name: str) -> None:
        with _answering():
            self._fs.makedirs(self._at(name).rsplit("/", 1)[0], exist_ok=True)
            self._fs.put_file(str(path), self._at(name))
        path.unlink()

    def open(self, name: str) -> BinaryIO:
        with _answering():
            return cast(BinaryIO, self._fs.open(self._at(name), "rb", block_size=READ_AHEAD))

    @contextmanager
    def path(self, name: str) -> Iterator[Path]:
        with self._copies.held(name, self.size, partial(self._fetch, name)) as path:
            yield path

    def _fetch(self, name: str, target: Path) -> None:
        with _answering():
            self._fs.get_file(self._at(name), str(target))

    def exists(self, name: str) -> bool:
        with _answering():
            return bool(self._fs.exists(self._at(name)))

    def size(self, name: str) -> int:
        with _answering():
            return int(self._fs.size(self._at(name)))

    def remove(self, name: str) -> None:
        self._copies.drop(name)
        with _answering():
            self._fs.rm_file(self._at(name))

    def listed(self) -> Iterator[tuple[str, int]]:
        with _answering():
            found = self._fs.find(self._root, detail=True)
        for path, entry in found.items():
            yield path.removeprefix(self._root).lstrip("/"), int(entry["size"])

    def forget(self, name: str) -> bool:
        return self._copies.drop(name)


@contextmanager
def _answering() -> Iterator[None]:
    """Raises StoreAway where a bucket can't be asked."""
    from aiohttp import ClientError
    from botocore.exceptions import BotoCoreError

    try:
        yield
    except (BotoCoreError, ClientError, TimeoutError, ConnectionError) as error:
        raise StoreAway from error


class Copies:
    """A folder with copies of files that lie elsewhere: together at most so large, unless more are in use at once; those that
    nobody used for longest go first."""

    def __init__(self, folder: Path, *, limit_bytes: int) -> None:
        self.folder, self._limit = folder, limit_bytes

    @contextmanager
    def held(self, name: str, size: Callable[[str], int], fetch: Callable[[Path], None]) -> Iterator[Path]:
        """The copy of a file, fetched where there is none, and there while it is held. Raises FileNotFoundError and NoRoomLeft."""
        path = self.folder / name
        while True:
            try:
                descriptor = os.open(path, os.O_RDONLY)
            except FileNotFoundError:
                self._fetched(path, size(name), fetch)
                continue
            try:
                fcntl.flock(descriptor, fcntl.LOCK_SH)
                if os.fstat(descriptor).st_nlink == 0:
                    continue  # dropped just before it was held
                os.utime(descriptor)
                yield path
                return
            finally:
                os.close(descriptor)

    def drop(self, name: str) -> bool:
        """Let go of a copy, also one in use: who reads it reads on."""
        try:
            (self.folder / name).unlink()
        except FileNotFoundError:
            return False
        return True

    def _fetched(self, path: Path, size: int, fetch: Callable[[Path], None]) -> None:
        disk.room_for(size, self.folder, file=path.name)
        temporary = self.folder / "incoming" / uuid4().hex
        try:
            with disk.in_words(path.name):
                fetch(temporary)
                _make(path.parent)
                temporary.chmod(0o600)
                temporary.replace(path)
        finally:
            temporary.unlink(missing_ok=True)
        self._trim(besides=path)

    def _trim(self, *, besides: Path) -> None:
        found = []
        for path in self.folder.rglob("*"):
            with contextlib.suppress(FileNotFoundError):
                if path.is_file() and path.parent.name != "incoming":
                    told = path.stat()
                    found.append((told.st_mtime, told.st_size, path))
        over = sum(size for _, size, _ in found) - self._limit
        for _, size, path in sorted(found):
            if over <= 0:
                return
            if path != besides and _let_go(path):
                over -= size


def _let_go(path: Path) -> bool:
    """Remove a copy that nobody holds; whether that was so."""
    try:
        with path.open("rb") as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            path.unlink()
    except OSError:
        return False
    return True


def _make(folder: Path) -> None:
    with disk.in_words("the store"):
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)


def moved(path: Path, target: Path) -> None:
    """Move a file, also to another disk; synced before it has its new name."""
    with path.open("rb") as file:
        os.fsync(file.fileno())
    shutil.move(path, target, copy_function=shutil.copyfile)  # a copy is as old as it is
