"""What lies in a folder that others write to, and which of it is whole."""

import fcntl
import os
import signal
import stat
import struct
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from ispettore.core.audio.formats import SOUND
from ispettore.core.errors import IspettoreError

STILL_S = 2.0
"""A file is taken for whole that has not changed for so long, and that nobody of this machine has open for writing."""
STILL_ELSEWHERE_S = 20.0
"""Where nobody can say whether it is open: on a disk of another machine, or of another user."""
STILL_SHORT_S = 60.0
"""Where its own header says that it is longer than what is there: a recorder that died leaves it so for good."""
STILL_OPEN_S = 600.0
"""Where somebody has it open all the same, as an editor that was left standing; should it change later, it comes in anew."""
LEASES = frozenset({"bcachefs", "exfat", "ext2", "ext3", "ext4", "f2fs", "ntfs3", "overlay", "tmpfs", "vfat", "xfs", "zfs"})
"""File systems that know who of this machine has a file open. Those of other machines refuse leases for reasons of their own."""
F_SETSIG = 10


class FolderAway(IspettoreError):
    """The folder “{folder}” can't be read: {reason}. It is looked at again by itself as soon as it is there."""

    folder: str
    reason: str


@dataclass(frozen=True, slots=True)
class Found:
    """A file as it was seen: how many bytes it has, and when it was last written to (nanoseconds since 1970)."""

    size_bytes: int
    modified_ns: int


class Folder:
    """A folder that is looked at again and again."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._since: dict[str, tuple[Found, float]] = {}

    def there(self, now: float) -> Mapping[str, Found]:
        """The sound files of the folder itself, by their names; `now` is any clock, in seconds. Hidden files, links and folders
        are left alone. Raises FolderAway."""
        found = {}
        try:
            with os.scandir(self.path) as entries:
                for entry in entries:
                    if entry.name.startswith((".", "~")) or Path(entry.name).suffix.lower() not in SOUND:
                        continue
                    with suppress(FileNotFoundError):
                        if entry.is_file(follow_symlinks=False):
                            seen = entry.stat(follow_symlinks=False)
                            found[entry.name] = Found(seen.st_size, seen.st_mtime_ns)
        except OSError as error:
            raise FolderAway(folder=str(self.path), reason=_why(error)) from error
        before = self._since
        self._since = {
            name: before[name] if name in before and before[name][0] == seen else (seen, now) for name, seen in found.items()
        }
        return found

    def whole(self, name: str, now: float) -> bool:
        """Whether a file that is there has been written to its end."""
        seen, since = self._since[name]
        still_s = now - since
        if not seen.size_bytes or still_s < STILL_S:
            return False
        path = self.path / name
        try:
            open_for_s = {True: STILL_OPEN_S, None: STILL_ELSEWHERE_S, False: STILL_S}
            if still_s < open_for_s[being_written(path)]:
                return False
            return still_s >= STILL_SHORT_S or stated_bytes(path) <= seen.size_bytes
        except OSError:
            return False  # gone, or not to be read yet


def being_written(path: Path) -> bool | None:
    """Whether a process of this machine has a file open for writing; None where that can't be told. Raises OSError.

    A lease for reading is granted only on files that nobody has open for writing (fcntl(2), "Leases"); it is given back at once.
    """
    descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    try:
        if _file_system(os.fstat(descriptor).st_dev) not in LEASES:
            return None
        # Should somebody open it just now, we are told by a signal that is ignored unless asked for.
        fcntl.fcntl(descriptor, F_SETSIG, signal.SIGURG)
        fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_RDLCK)
        fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_UNLCK)
    except BlockingIOError:
        return True
    except OSError:
        return None
    finally:
        os.close(descriptor)
    return False


@lru_cache(maxsize=64)
def _file_system(device: int) -> str:
    """What kind of file system a device holds; empty where that is not told (proc(5), "mountinfo")."""
    wanted = f"{os.major(device)}:{os.minor(device)}"
    try:
        lines = Path("/proc/self/mountinfo").read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return ""
    return next((line.partition(" - ")[2].split(" ")[0] for line in lines if line.split(" ")[2] == wanted), "")


def stated_bytes(path: Path) -> int:
    """How many bytes a RIFF or AIFF file says it has; 0 where it says nothing. Raises OSError."""
    with path.open("rb") as file:
        head = file.read(8)
    for name, form in ((b"RIFF", "<I"), (b"FORM", ">I")):
        if len(head) == 8 and head.startswith(name):
            size = int(struct.unpack(form, head[4:])[0])
            return 0 if size >= 2**32 - 9 else size + 8  # written as a stream: how long it gets was not known
    return 0


def opened(path: Path) -> int:
    """A descriptor of an ordinary file, to be read. Raises OSError where it is none any more."""
    descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise FileNotFoundError(path)
    return descriptor


def _why(error: OSError) -> str:
    match error:
        case FileNotFoundError():
            return "it is not there"
        case NotADirectoryError():
            return "it is no folder"
        case PermissionError():
            return "Ispettore may not look into it"
    return (error.strerror or "the disk did not answer").lower()
