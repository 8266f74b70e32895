"""Titles and names a file carries, in the same words for every format (mutagen reads them)."""

from pathlib import Path

import mutagen
from mutagen.aiff import AIFF
from mutagen.id3 import ID3
from mutagen.wave import WAVE

WORDS = {
    "TIT2": "title", "TPE1": "artist", "TALB": "album", "TRCK": "track", "TDRC": "date", "TCON": "genre", "COMM": "comment",
    "TCOM": "composer", "TPE2": "album artist", "TPUB": "publisher", "TCOP": "copyright", "TLAN": "language", "TSSE": "encoder",
}  # fmt: skip
KNOWN = frozenset(WORDS.values()) | {"tracknumber", "albumartist", "description", "organization", "narrator", "isrc", "performer"}
LONGEST = 500


def read(path: Path) -> dict[str, str]:
    """Tags by name, at most 500 characters each; empty where there are none or they cannot be read. Never raises."""
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
    return {key: text[:LONGEST] for key, text in sorted(found.items()) if text}
