"""The INFO list of a WAV file: titles and names as RIFF has them, in UTF-8 (Multimedia Programming Interface 1.0, chapter 3)."""

import struct
from pathlib import Path

from ispettore.core.audio.chunks import chunks

WORDS = {
    "INAM": "title",
    "IART": "artist",
    "IPRD": "album",
    "ITRK": "track",
    "ICRD": "date",
    "IGNR": "genre",
    "ICMT": "comment",
    "ICOP": "copyright",
    "ILNG": "language",
    "ISFT": "encoder",
}
"""What each entry is called here."""
LARGEST = 1 << 20


def read(path: Path) -> dict[str, str]:
    """Entries by their names here; {} where there are none. Raises OSError."""
    found: dict[str, str] = {}
    with path.open("rb") as file:
        for chunk in chunks(file):
            if chunk.name == b"LIST" and chunk.size <= LARGEST:
                file.seek(chunk.offset)
                found |= _entries(file.read(chunk.size))
    return found


def _entries(content: bytes) -> dict[str, str]:
    found: dict[str, str] = {}
    if content[:4] != b"INFO":
        return found
    place = 4
    while place + 8 <= len(content):
        name, size = struct.unpack_from("<4sI", content, place)
        if place + 8 + size > len(content):
            break  # the file is cut off here
        text = content[place + 8 : place + 8 + size].split(b"\0")[0].decode("utf-8", errors="replace").strip()
        word = WORDS.get(name.decode("latin-1"))
        if word is not None and text:
            found[word] = text
        place += 8 + size + size % 2
    return found


def write(path: Path, entries: dict[str, str]) -> None:
    """Append a list with these entries (by their names here) to a WAV file that has none yet. Raises ValueError where it would grow
    beyond what RIFF can hold (4 GB)."""
    codes = {word: code for code, word in WORDS.items()}
    content = b"INFO"
    for word, text in entries.items():
        value = text.encode() + b"\0"
        content += codes[word].encode() + struct.pack("<I", len(value)) + value + bytes(len(value) % 2)
    with path.open("rb+") as file:
        last = list(chunks(file))[-1]
        end = last.offset + last.size + last.size % 2
        whole = end + len(content)
        if whole > 0xFFFF_FFFF:
            raise ValueError("the file would be larger than 4 GB, the most a WAV file can hold")
        file.truncate(end)
        file.seek(end)
        file.write(b"LIST" + struct.pack("<I", len(content)) + content)
        file.seek(4)
        file.write(struct.pack("<I", whole))
