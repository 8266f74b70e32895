"""Titles and names a file carries, in the same words for every format (mutagen reads them)."""

from pathlib import Path

import mutagen
from mutagen.aiff import AIFF
from mutagen.id3 import ID3
from mutagen.wave import WAVE

from ispettore.core.audio import info
from ispettore.core.audio.broadcast import stated
from ispettore.core.audio.chunks import chunks
from ispettore.core.audio.facts import parted
from ispettore.core.figures import with_unit

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
MOST_VALUES = 50


def read(path: Path) -> dict[str, tuple[str, ...]]:
    """Tags by name, each with one or several values of at most 500 characters; empty where there are none or they can't be read.

    A WAV file's own come first: what its broadcast extension says (EBU Tech 3285), then its INFO list. Where its other tags have
    the same name, these count. Never raises.
    """
    found = {**{key: [text] for key, text in _of_wav(path).items()}, **_general(path)}
    fit = {key: tuple(text[:LONGEST] for value in values for text in parted(value))[:MOST_VALUES] for key, values in found.items()}
    return {key: values for key, values in sorted(fit.items()) if values}


def _of_wav(path: Path) -> dict[str, str]:
    """Description, originator, reference, date, time and stated loudness of a `bext` chunk, and what an INFO list says."""
    try:
        with path.open("rb") as file:
            chunk = next((one for one in chunks(file) if one.name == b"bext"), None)
            content = b""
            if chunk is not None:
                file.seek(chunk.offset)
                content = file.read(min(chunk.size, 602))
        return {**(_broadcast(content) if content else {}), **info.read(path)}
    except OSError:
        return {}


def _broadcast(content: bytes) -> dict[str, str]:
    places = {"description": (0, 256), "originator": (256, 288), "reference": (288, 320), "date": (320, 330), "time": (330, 338)}
    told = {key: _text(content[first:last]) for key, (first, last) in places.items()}
    for quantity, value in stated(content).items():
        title, unit = STATED_AS[quantity]
        told[title] = with_unit(value, unit, 2)
    return told


def _text(content: bytes) -> str:
    return content.split(b"\0")[0].decode("utf-8", errors="replace").strip()


def _general(path: Path) -> dict[str, list[str]]:
    try:
        file = mutagen.File(path)
    except Exception:  # broken tags must not keep a recording from being measured
        return {}
    if file is None or file.tags is None:
        return {}
    found: dict[str, list[str]] = {}
    if isinstance(file.tags, ID3) or isinstance(file, AIFF | WAVE):
        for key, frame in file.tags.items():
            if key[:4] in WORDS:
                texts = getattr(frame, "text", None)
                found.setdefault(WORDS[key[:4]], []).extend(map(str, texts if isinstance(texts, list) else [frame]))
    else:
        for key, value in dict(file.tags).items():
            if str(key).lower() in KNOWN:
                found.setdefault(str(key).lower(), []).extend(map(str, value if isinstance(value, list) else [value]))
    return found
