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

from ispettore.studio import disk
from ispettore.studio.database import transaction
from ispettore.studio.tables import Work, WorkState


class Superseded(Exception):
    """Another attempt has taken this work up, or it has ended."""


@dataclass(frozen=True)
class Attempt:
    """`work` is as it was when the attempt began."""

    work: Work
    token: UUID
    folder: Path

    def held(self, session: Session) -> Work:
        """The work, for writing to. Raises Superseded where this attempt holds it no more."""
        work = session.get(Work, self.work.id, with_for_update=True, populate_existing=True)
        if work is None or work.token != self.token or work.state != WorkState.RUNNING:
            raise Superseded
        return work


@contextmanager
def folder_for(work_id: UUID, token: UUID, folder: Path) -> Iterator[Path]:
    """A folder for one attempt, held while it runs and removed with all that is in it. Raises NoRoomLeft and StoreReadOnly."""
    own = folder / f"{work_id}-{token.hex[:12]}"
    with disk.in_words("the work's own files"):
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        own.mkdir(mode=0o700)
    descriptor = os.open(own, os.O_RDONLY)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX)
        yield own
    finally:
        shutil.rmtree(own, ignore_errors=True)
        os.close(descriptor)


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


def give_back(attempt: Attempt) -> None:
    """A superseded attempt did not fail: it does not count."""
    with transaction() as session:
        work = session.get(Work, attempt.work.id, with_for_update=True)
        if work is not None:
            work.attempts = max(0, work.attempts - 1)
            session.add(work)
