"""One try at a piece of work: a token and a folder of its own.

A worker may be stopped for minutes (a laptop that sleeps) and go on while another has taken its work up. The row of the work
carries the token of whoever took it last; only who holds that token writes progress or an outcome, and everything temporary lies
in the try's own folder and goes with it.
"""

import fcntl
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from uuid import UUID

from sqlmodel import Session

from ispettore.studio.store import disk
from ispettore.studio.tables import Work, WorkState


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
        with disk.in_words("the work's own files"):
            self.place.mkdir(parents=True, exist_ok=True, mode=0o700)
            self.folder.mkdir(mode=0o700)
        descriptor = os.open(self.folder, os.O_RDONLY)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX)
            yield
        finally:
            shutil.rmtree(self.folder, ignore_errors=True)
            os.close(descriptor)

    def held(self, session: Session) -> Work:
        """The work, for writing to. Raises Superseded where this attempt holds it no more."""
        work = session.get(Work, self.work.id, with_for_update=True, populate_existing=True)
        if work is None or work.token != self.token or work.state != WorkState.RUNNING:
            raise Superseded
        return work


def sweep(folder: Path) -> None:
    """Remove the folders of attempts whose worker is gone."""
    for own in folder.iterdir() if folder.is_dir() else ():
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
