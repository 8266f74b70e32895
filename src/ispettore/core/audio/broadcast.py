"""The broadcast extension of a WAV file (EBU Tech 3285, version 2): where it comes from, when it was written, how loud it is."""

import struct
import unicodedata
from datetime import datetime
from pathlib import Path
from typing import Any

import soundfile
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.chunks import chunks

VERSION = 2
NOT_STATED = 0x7FFF
STATED = ("integrated_loudness_lufs", "loudness_range_lu", "true_peak_dbtp", "momentary_max_lufs", "short_term_max_lufs")
"""The loudness fields in their order, by the quantities they hold; each in hundredths, in two bytes."""
LOUDNESS_AT = 412
_FIELDS = "@256s32s32s10s8sIIh64s5h180sI256s"  # as the library's structure lies in memory
_WRITTEN = "<256s32s32s10s8sQH64s5h180s"
_SET = 0x10F1  # the library's command for it


class Broadcast(BaseModel):
    """What is stated. `levels` holds readings by quantity; those of `STATED` are written, the others are not asked for."""

    model_config = ConfigDict(frozen=True)

    description: str = ""
    originator: str = ""
    reference: str = ""
    written_at: datetime | None = None
    levels: dict[str, float] = {}
    history: str = ""


def put(file: soundfile.SoundFile, stated: Broadcast) -> None:
    """Have a WAV file that is open for writing, and still empty, carry the chunk before its samples."""
    history = f"{_plain(stated.history)}\r\n".encode("ascii") if stated.history else b""
    content = struct.pack(_FIELDS, *_texts(stated), 0, 0, VERSION, b"", *_loudness(stated), b"", len(history), history)
    # The library can write the chunk but its Python side has no name for it.
    library: Any = soundfile
    library._snd.sf_command(file._file, _SET, library._ffi.new("char[]", content), len(content))


def written(stated: Broadcast) -> bytes:
    """The chunk as it stands in a file, for those who write one themselves: 8 + 602 bytes, without a history."""
    content = struct.pack(_WRITTEN, *_texts(stated), 0, VERSION, b"", *_loudness(stated), b"")
    return struct.pack("<4sI", b"bext", len(content)) + content


def stated(content: bytes) -> dict[str, float]:
    """The loudness fields of a chunk's content by quantity, without those that are not stated."""
    if len(content) < LOUDNESS_AT + 10 or int.from_bytes(content[346:348], "little") < VERSION:
        return {}
    values = struct.unpack_from("<5h", content, LOUDNESS_AT)
    return {quantity: value / 100 for quantity, value in zip(STATED, values, strict=True) if abs(value) <= 9_999}


def retell(path: Path, *, description: str, originator: str) -> None:
    """Have a file's chunk say something else of what it is and who made it; a file without one stays as it is. Raises OSError."""
    with path.open("rb+") as file:
        chunk = next((one for one in chunks(file) if one.name == b"bext"), None)
        if chunk is None:
            return
        file.seek(chunk.offset)
        for text, size in ((description, 256), (originator, 32)):
            file.write(_plain(text).encode("ascii")[:size].ljust(size, b"\0"))


def _texts(stated: Broadcast) -> list[bytes]:
    day, hour = (stated.written_at.strftime(form) if stated.written_at else "" for form in ("%Y-%m-%d", "%H:%M:%S"))
    return [_plain(text).encode("ascii") for text in (stated.description, stated.originator, stated.reference, day, hour)]


def _loudness(stated: Broadcast) -> list[int]:
    return [_hundredths(stated.levels.get(quantity)) for quantity in STATED]


def _hundredths(value: float | None) -> int:
    """−99.99 to 99.99 as the standard has it, or that nothing is stated."""
    return round(value * 100) if value is not None and abs(value) <= 99.99 else NOT_STATED


def _plain(text: str) -> str:
    """In ASCII, as the standard asks: letters without their accents, a question mark for what has no such form.

    >>> _plain("Müller – 1")
    'Muller ? 1'
    """
    bare = "".join(letter for letter in unicodedata.normalize("NFKD", text) if not unicodedata.combining(letter))
    return bare.encode("ascii", "replace").decode()
