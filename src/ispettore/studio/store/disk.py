"""What the disk refuses, in words, and how much room it has."""

import errno
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import ClassVar

from ispettore.core.errors import IspettoreError

SPARE_BYTES = 256 * 1024**2


class JustNow(IspettoreError):
    """“{file}” can't be worked on just now: this machine refuses it. Wait a moment, then try again."""

    file: str
    waiting: ClassVar[str]
    """What work says that is tried once more in a while."""


class NoRoomLeft(JustNow):
    """There is no room left here for “{file}”. Make room on the disk that holds Ispettore's files, then try again."""

    waiting = "Waiting for room on the disk"


class StoreReadOnly(JustNow):
    """“{file}” can't be written: the disk or folder that holds Ispettore's files can only be read. Make it writable, then try
    again."""

    waiting = "Waiting until the disk can be written to"


class TooManyOpen(JustNow):
    """“{file}” can't be worked on just now: this machine has no more files to open. Wait a moment, then try again."""

    waiting = "Waiting until this machine can open files"


class TooMuchDisk(IspettoreError):
    """Working on “{file}” needs more than {limit_gb:.0f} GB of temporary disk space, the most one piece of work may take here."""

    file: str
    limit_gb: float


_IN_WORDS = {
    errno.ENOSPC: NoRoomLeft,
    errno.EDQUOT: NoRoomLeft,
    errno.EROFS: StoreReadOnly,
    errno.EACCES: StoreReadOnly,
    errno.EPERM: StoreReadOnly,
    errno.EMFILE: TooManyOpen,
    errno.ENFILE: TooManyOpen,
}


def told(error: OSError, file: str) -> IspettoreError | None:
    """What an error of the operating system means for a file, or None where it is about something else."""
    kind = _IN_WORDS.get(error.errno or 0)
    return kind(file=file) if kind is not None else None


@contextmanager
def in_words(file: str) -> Iterator[None]:
    """Raises NoRoomLeft, StoreReadOnly or TooManyOpen for what the operating system refuses while a file is written."""
    try:
        yield
    except OSError as error:
        said = told(error, file)
        if said is None:
            raise
        raise said from error


def room_for(size: int, *folders: Path | None, file: str) -> None:
    """Whether each of these folders has room for so much, and some to spare. Raises NoRoomLeft."""
    for folder in folders:
        if folder is not None and folder.exists() and size + SPARE_BYTES > shutil.disk_usage(folder).free:
            raise NoRoomLeft(file=file)


def used_by(folder: Path, process_id: int | None) -> int:
    """Bytes on disk that a folder takes, and those in files without a name that a process holds open."""
    total = 0
    for place, _, names in os.walk(folder):
        for name in names:
            try:
                total += os.lstat(Path(place) / name).st_blocks * 512
            except OSError:
                continue
    return total + sum(_unnamed(process_id) if process_id is not None else ())


def _unnamed(process_id: int) -> Iterator[int]:
    """Bytes of each file that a process holds open and that has no name any more."""
    try:
        descriptors = list(Path(f"/proc/{process_id}/fd").iterdir())
    except OSError:  # it ended meanwhile
        return
    for path in descriptors:
        try:
            held = path.stat()
        except OSError:
            continue
        if held.st_nlink == 0:
            yield held.st_blocks * 512
