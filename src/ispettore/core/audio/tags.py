"""Titles and names a file carries, in the same words for every format (mutagen reads them)."""

import os
import struct
from pathlib import Path

import mutagen
from mutagen.aiff import AIFF
from mutagen.id3 import ID3
from mutagen.wave import WAVE

from ispettore.core.audio.broadcast import stated

WORDS = {
    "TIT2": "title", "TPE1": "artist", "TALB": "album", "TRCK": "track", "TDRC": "date", "TCON": "genre", "COMM": "comment",
    "TCOM": "composer", "TPE2": "album artist", "TPUB": "publisher", "TCOP": "copyright", "TLAN": "language", "TSSE": "encoder",
}  # fmt: skip
KNOWN = frozenset(WORDS.values()) | {"tracknumber", "albumartist", "description", "organization", "narrator", "isrc", "performer"}
STATED_AS = {
    "integrated_loudness_lufs": ("stated loudness", "LUFS"),
    "loudness_range_lu": ("stated loudness range", "LU"),
    "true_peak_dbtp": ("stated true peak", "dBTP"),
    "momentary_max_lufs": ("stated loudest moment", "LUFS"),
    "short_term_max_lufs": ("stated loudest 3 s", "LUFS"),
}
LONGEST = 500
MOST_CHUNKS = 64


def read(path: Path) -> dict[str, str]:
    """Tags by name, at most 500 characters each; empty where there are none or they cannot be read. Never raises.

    A Broadcast Wave file's own (EBU Tech 3285) come first; where its other tags have the same name, these count.
    """
    return {key: text[:LONGEST] for key, text in sorted({**_broadcast(path), **_general(path)}.items()) if text}


def _broadcast(path: Path) -> dict[str, str]:
    """Description, originator, reference, date, time and stated loudness of a `bext` chunk before the samples."""
    try:
        with path.open("rb") as file:
            head = file.read(12)
            if head[:4] not in (b"RIFF", b"RF64") or head[8:] != b"WAVE":
                return {}
            for _ in range(MOST_CHUNKS):
                name, size = struct.unpack("<4sI", file.read(8))
                if name == b"bext":
                    content = file.read(min(size, 602))
                    break
                if name == b"data":
                    return {}
                file.seek(size + size % 2, os.SEEK_CUR)
            else:
                return {}
    except (OSError, struct.error):
        return {}
    places = {"description": (0, 256), "originator": (256, 288), "reference": (288, 320), "date": (320, 330), "time": (330, 338)}
    told = {key: _text(content[first:last]) for key, (first, last) in places.items()}
    for quantity, value in stated(content).items():
        title, unit = STATED_AS[quantity]
        told[title] = f"{value:.2f} {unit}".replace("-", "−")
    return told


def _text(content: bytes) -> str:
    return content.split(b"\0")[0].decode("utf-8", errors="replace").strip()


def _general(path: Path) -> dict[str, str]:
    try:
        file = mutagen.File(path)
    except Exception:  # broken tags must not keep a recording from being measured
        return {}
    if file is None or file.tags is None:
        return {}
    if isinstance(file.tags, ID3) or isinstance(file, AIFF | WAVE):
        found = {WORDS[key[:4]]: str(value) for key, value in file.tags.items() if key[:4] in WORDS}
    else:
        found = {
            str(key).lower(): str(value[0] if isinstance(value, list) and value else value)
            for key, value in dict(file.tags).items()
            if str(key).lower() in KNOWN
        }
    return found
