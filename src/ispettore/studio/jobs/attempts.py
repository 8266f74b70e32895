"""One try at a piece of work: a token and a folder of its own.

A worker may be stopped for minutes (a laptop that sleeps) and go on while another has taken its work up. The row of the work
carries the token of whoever took it last; only who holds that token writes progress or an outcome, and everything temporary lies
in the try's own folder and goes with it.
"""

import fcntl
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from multiprocessing import util
from pathlib import Path
from uuid import UUID, uuid4

from sqlmodel import Session

from ispettore.studio.store import disk
from ispettore.studio.tables import Work, WorkState

TEMPORARY = "ispettore-tmp-"
LAST = -1_000
"""After multiprocessing has tidied up what it keeps in there (-100)."""


class Superseded(Exception):
    """Another attempt has taken this work up, or it has ended."""


@dataclass(frozen=True)
class Attempt:
    """`work` is as it was when the attempt began; `place` is where attempts have their folders."""

    work: Work
    token: UUID
    place: Path

    @property
    def folder(self) -> Path:
        """Where everything temporary lies, inside `with attempt.in_folder()`."""
        return self.place / f"{self.work.id}-{self.token.hex[:12]}"

    @contextmanager
    def in_folder(self) -> Iterator[None]:
        """Makes the folder, holds it, and removes it with all that is in it. Raises NoRoomLeft and StoreReadOnly."""
        with own_folder(self.folder):
            yield

    def held(self, session: Session) -> Work:
        """The work, for writing to. Raises Superseded where this attempt holds it no more."""
        work = session.get(Work, self.work.id, with_for_update=True, populate_existing=True)
        if work is None or work.token != self.token or work.state != WorkState.RUNNING:
            raise Superseded
        return work


@contextmanager
def own_folder(folder: Path) -> Iterator[Path]:
    """Makes a folder, holds it, and removes it with all that is in it; `sweep` does that for who could not. Raises NoRoomLeft and
    StoreReadOnly."""
    descriptor = _held(folder)
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        os.close(descriptor)


def _held(folder: Path) -> int:
    """A folder made and locked; made once more where somebody swept it away just between the two."""
    while True:
        with disk.in_words("the work's own files"):
            folder.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            folder.mkdir(mode=0o700, exist_ok=True)
        with suppress(FileNotFoundError):
            descriptor = os.open(folder, os.O_RDONLY)
            fcntl.flock(descriptor, fcntl.LOCK_EX)
            if os.fstat(descriptor).st_nlink:
                return descriptor
            os.close(descriptor)


def keep_temporary() -> None:
    """From now on everything temporary of this process, and of those it starts, lies in a folder of its own that goes away when it
    ends; those of processes that were killed go now."""
    place, held = Path(tempfile.gettempdir()), ExitStack()
    sweep(place, named=f"{TEMPORARY}*")
    folder = held.enter_context(own_folder(place / f"{TEMPORARY}{uuid4().hex[:8]}"))
    os.environ["TMPDIR"] = tempfile.tempdir = str(folder)
    util.Finalize(None, held.close, exitpriority=LAST)


def sweep(folder: Path, *, named: str = "*") -> None:
    """Remove the folders of those who are gone."""
    for own in folder.glob(named) if folder.is_dir() else ():
        try:
            descriptor = os.open(own, os.O_RDONLY | os.O_DIRECTORY)
        except OSError:
            continue
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            shutil.rmtree(own, ignore_errors=True)
        except OSError:
            continue  # its worker lives
        finally:
            os.close(descriptor)
