"""What an archive is: a ZIP file with everything that was kept of a production, in files that anybody can read.

| in it           | what                                                                                                  |
| --------------- | ----------------------------------------------------------------------------------------------------- |
| `archive.json`  | its head, sealed: of which production, when, and the SHA-256 of the list                               |
| `SHA256SUMS`    | the list: every other file with its SHA-256, as `sha256sum -c` checks it                               |
| `README.txt`    | what this is, in words                                                                                |
| `record.json`, `record.txt` | what was done to which recording when                                                     |
| `sources/`, `masters/`, `deliverables/`, `cover/` | files as they came in, were made and were delivered                 |
| `certificates/`, `keys/` | sealed certificates, the notices that ended any, and the public keys they are sealed with        |
| `specifications/`, `treatments/` | those that were written here, as they are exported                                     |
| `kept/`         | pictures, levels and copies to listen from, by their SHA-256                                           |
| `rows/`         | all that is known of it, a line of JSON (https://jsonlines.org) for each row of each table              |

The seal (`certify/seal.py`) holds the head, the head holds the list by its hash, and the list every file by its own.
"""

from collections.abc import Iterable
from datetime import datetime
from pathlib import PurePosixPath
from typing import Literal
from uuid import UUID

from pathvalidate import sanitize_filename
from pydantic import BaseModel, ConfigDict

from ispettore.core.text import LONGEST_NAME_BYTES

HEAD, README = "archive.json", "README.txt"
RECORD, RECORD_TEXT = "record.json", "record.txt"
SOURCES, MASTERS, DELIVERABLES, COVER, KEPT = "sources", "masters", "deliverables", "cover", "kept"
SPECIFICATIONS, TREATMENTS = "specifications", "treatments"
EARLIER = "earlier"
"""The folder of sources that were removed or replaced."""
CERTIFICATES, KEYS, ROWS = "certificates", "keys", "rows"
STORED = (SOURCES, MASTERS, DELIVERABLES, COVER, KEPT)
"""Folders whose files are kept by their hash."""


class Head(BaseModel):
    """`recordings` counts those of the production that nobody removed or replaced, `files` and `size_bytes` all that the list
    names; `sums` is the SHA-256 of the list."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    format: Literal["ispettore-archive"] = "ispettore-archive"
    version: Literal[1] = 1
    id: UUID
    production: str
    made: datetime
    software: str
    recordings: int
    files: int
    size_bytes: int
    sums: str


def readme(production: str) -> str:
    """What an archive is, for whoever finds it without this program."""
    return f"""Archive of “{production}”

This is everything that was kept of one production: recordings as they came in (sources), what was made
of them (masters, deliverables), certificates with the public keys they are sealed with, the
specifications and treatments that were written for it, and the record of what was done when
(record.txt to read, record.json for programs).

Whether anything was changed, any system can tell:  sha256sum -c SHA256SUMS

Ispettore imports the archive as it is: Productions, Import an archive.
"""


class Names:
    """Names for files of an archive, no two alike on any system."""

    def __init__(self, taken: Iterable[str] = ()) -> None:
        self._taken = {name.casefold() for name in taken}

    def free(self, folder: str, name: str, end: str = "") -> str:
        """A name in a folder that nothing has yet, with something at its end.

        >>> names = Names()
        >>> [names.free("sources", name) for name in ("one.wav", "One.wav", "a/b?.wav")]
        ['sources/one.wav', 'sources/One (2).wav', 'sources/a b.wav']
        """
        words = " ".join(name.replace("/", " ").replace("\\", " ").split())
        plain = sanitize_filename(words, platform="universal").strip(" .") or "file"
        path = PurePosixPath(plain)
        count = 1
        found = f"{folder}/{_short(path.stem, f'{path.suffix}{end}')}"
        while found.casefold() in self._taken:
            count += 1
            found = f"{folder}/{_short(path.stem, f' ({count}){path.suffix}{end}')}"
        self._taken.add(found.casefold())
        return found


def _short(stem: str, end: str) -> str:
    while len(f"{stem}{end}".encode()) > LONGEST_NAME_BYTES - 32:
        stem = stem[:-1]
    return f"{stem}{end}"
