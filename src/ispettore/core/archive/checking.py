"""Checking an archive: its seal, its list, and every file against that list."""

import hashlib
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from zipfile import BadZipFile

from joserfc.jwk import OKPKey
from pydantic import ValidationError

from ispettore.core.archive.form import HEAD, STORED, Head
from ispettore.core.certify import seal
from ispettore.core.deliver import manifest
from ispettore.core.deliver.unpacked import UNREADABLE, Unpacked, opened
from ispettore.core.errors import IspettoreError, NotACertificate
from ispettore.core.progress import Progress, no_progress

LARGEST_LIST = 64 << 20
NAMED = 3


class NotAnArchive(IspettoreError):
    """“{file}” is not an archive of a production: {reason}. Nothing was imported."""

    file: str
    reason: str


class ArchiveChanged(IspettoreError):
    """“{file}” was changed after it was made: {reason} Nothing was imported; ask whoever made it for a whole one."""

    file: str
    reason: str


class ArchiveTooNew(IspettoreError):
    """“{file}” was made by a newer version of Ispettore than this: {reason}. Nothing was imported; update Ispettore, then import it
    again."""

    file: str
    reason: str


@dataclass(frozen=True)
class Archive:
    """An archive whose head is whole. `sums` are its other files with their hashes, `key` is what the head was sealed with."""

    name: str
    head: Head
    key: OKPKey
    sums: dict[str, str]
    package: Unpacked

    def changed(self, reason: str) -> ArchiveChanged:
        return ArchiveChanged(file=self.name, reason=reason)

    def pieces(self, member: str) -> Iterator[bytes]:
        """A file in pieces, held against its hash when all have passed. Raises ArchiveChanged."""
        found = hashlib.sha256()
        try:
            for piece in self.package.pieces(member):
                found.update(piece)
                yield piece
        except UNREADABLE as error:
            raise self.changed(f"“{member}” can't be read ({error}).") from error
        if found.hexdigest() != self.sums[member]:
            raise self.changed(f"“{member}” is not what its list says.")

    @property
    def stored(self) -> dict[str, str]:
        """Its files that go into a store, by their hashes."""
        return {sha256: member for member, sha256 in self.sums.items() if member.split("/")[0] in STORED}

    def size_bytes(self) -> int:
        return sum(self.package.size(member) for member in self.sums)


@contextmanager
def archive(path: Path, *, name: str) -> Iterator[Archive]:
    """A folder or ZIP file as an archive; its head, its list and that there is just what the list names are checked.

    Raises NotAnArchive, ArchiveChanged and ArchiveTooNew.
    """
    with ExitStack() as files:
        try:
            found = _headed(files.enter_context(opened(path, None)), name)
        except UNREADABLE as error:
            said = "it is none, or a part is missing" if isinstance(error, BadZipFile) else f"{error}"
            raise NotAnArchive(file=name, reason=f"it can't be read as a ZIP file ({said})") from error
        yield found


def check(found: Archive, progress: Progress = no_progress) -> None:
    """Hold every file against its hash. Raises ArchiveChanged with the first that is another, and Cancelled."""
    total, done = max(found.size_bytes(), 1), 0
    for member in found.sums:
        for piece in found.pieces(member):
            done += len(piece)
            progress("Checking", min(done / total, 1.0))


def _headed(package: Unpacked, name: str) -> Archive:
    text = package.read(HEAD, seal.LARGEST_BYTES)
    if text is None:
        raise NotAnArchive(file=name, reason=f"there is no “{HEAD}” in it")
    try:
        sealed = seal.parse(text, name=HEAD, what="archive")
    except NotACertificate as error:
        raise NotAnArchive(file=name, reason=f"“{HEAD}” can't be used: {error.reason}") from error
    key = seal.sealing_key(sealed)
    if key is None or not seal.intact(sealed, key):
        raise ArchiveChanged(file=name, reason=f"“{HEAD}” is not what was sealed.")
    head = _read(sealed["archive"], name)
    listed = package.read(manifest.NAME, LARGEST_LIST) or b""
    if hashlib.sha256(listed).hexdigest() != head.sums:
        raise ArchiveChanged(file=name, reason=f"its list, “{manifest.NAME}”, is missing or another.")
    sums = manifest.read(listed.decode())
    there = package.names - {HEAD, manifest.NAME}
    for which, what in (
        (set(sums) - there, "missing"),
        (there - set(sums), "in it, but not in its list"),
        (package.twice, "in it twice"),
    ):
        if which:
            raise ArchiveChanged(file=name, reason=_told(sorted(which), what))
    return Archive(name, head, key, sums, package)


def _read(content: dict[str, Any], name: str) -> Head:
    if isinstance(content.get("version"), int) and content["version"] > 1:
        raise ArchiveTooNew(file=name, reason=f"its form is version {content['version']}")
    try:
        return Head.model_validate(content)
    except ValidationError as error:
        raise NotAnArchive(file=name, reason=f"“{HEAD}” does not hold what it must") from error


def _told(which: list[str], what: str) -> str:
    more = f" and {len(which) - NAMED} more" if len(which) > NAMED else ""
    named = ", ".join(f"“{one}”" for one in which[:NAMED])
    return f"{named}{more} {'is' if len(which) == 1 else 'are'} {what}."
