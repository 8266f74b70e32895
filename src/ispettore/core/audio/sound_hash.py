"""The hash of a file's sound without what the file says of itself: it stays the same when tags or a cover are changed, and only
then.

What is hashed are the encoded bytes, not decoded samples, so that no decoder has a say in it (docs/CERTIFICATES.md tells how to
take it by hand):

- WAV and RF64: the chunks “fmt ” and “data”. AIFF: “COMM” and “SSND”.
- FLAC: the block STREAMINFO (RFC 9639, 8.2), then everything after the last metadata block.
- MP3: everything but an ID3v2 tag in front (ID3v2.4.0 structure, 3.1), and an APEv2 tag and an ID3v1 tag at the end.
- Ogg Vorbis and Opus: every packet but the second, which holds the comments (Vorbis I, 5; RFC 7845, 5.2), then the granule position
  of the last page as eight bytes, which says where the sound ends.
"""

import hashlib
import struct
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

from mutagen import MutagenError
from mutagen.ogg import OggPage

from ispettore.core.audio.chunks import chunks
from ispettore.core.audio.facts import recognise
from ispettore.core.audio.mpeg_frames import after_tag

PIECE = 1 << 20
ID3V1_BYTES, APE_FOOTER_BYTES = 128, 32
STREAMINFO_BYTES = 34


def sound_sha256(path: Path) -> str | None:
    """SHA-256 over the encoded sound of a file, as lower-case hexadecimal; None for a file whose parts can't be told apart."""
    with path.open("rb") as file:
        container = recognise(file.read(64)) or ""
        parts = _PARTS.get(container)
        if parts is None:
            return None
        found = hashlib.sha256()
        try:
            for piece in parts(file):
                found.update(piece)
        except (MutagenError, EOFError, ValueError):
            return None
    return found.hexdigest()


def _between(file: BinaryIO, start: int, end: int) -> Iterator[bytes]:
    file.seek(start)
    while start < end and (piece := file.read(min(PIECE, end - start))):
        start += len(piece)
        yield piece


def _size(file: BinaryIO) -> int:
    return file.seek(0, 2)


def _riff(file: BinaryIO) -> Iterator[bytes]:
    for chunk in list(chunks(file)):
        if chunk.name in (b"fmt ", b"data"):
            yield from _between(file, chunk.offset, chunk.offset + chunk.size)


def _aiff(file: BinaryIO) -> Iterator[bytes]:
    place, end = 12, _size(file)
    while place + 8 <= end:
        file.seek(place)
        name, size = struct.unpack(">4sI", file.read(8))
        if name in (b"COMM", b"SSND"):
            yield from _between(file, place + 8, place + 8 + size)
        place += 8 + size + size % 2


def _flac(file: BinaryIO) -> Iterator[bytes]:
    file.seek(0)
    place, last = after_tag(file.read(10)) + 4, False
    while not last:
        file.seek(place)
        head = file.read(4)
        if len(head) < 4:
            raise EOFError
        last, kind, size = bool(head[0] & 0x80), head[0] & 0x7F, int.from_bytes(head[1:], "big")
        if kind == 0:
            yield file.read(STREAMINFO_BYTES)
        place += 4 + size
    yield from _between(file, place, _size(file))


def _mp3(file: BinaryIO) -> Iterator[bytes]:
    file.seek(0)
    start, end = after_tag(file.read(10)), _size(file)
    if _tail(file, end, ID3V1_BYTES).startswith(b"TAG"):
        end -= ID3V1_BYTES
    footer = _tail(file, end, APE_FOOTER_BYTES)
    if footer.startswith(b"APETAGEX"):
        size, _, flags = struct.unpack("<III", footer[12:24])
        end -= size + (APE_FOOTER_BYTES if flags & 0x8000_0000 else 0)
    yield from _between(file, start, end)


def _tail(file: BinaryIO, end: int, size: int) -> bytes:
    file.seek(max(0, end - size))
    return file.read(size)


def _ogg(file: BinaryIO) -> Iterator[bytes]:
    file.seek(0)
    packet, last = 0, 0
    while True:
        try:
            page = OggPage(file)
        except EOFError:
            break
        for place, part in enumerate(page.packets):
            if packet != 1:
                yield part
            packet += place < len(page.packets) - 1 or page.complete
        if page.position >= 0:
            last = page.position
    yield struct.pack("<q", last)


_PARTS: dict[str, Callable[[BinaryIO], Iterator[bytes]]] = {
    "wav": _riff,
    "rf64": _riff,
    "aiff": _aiff,
    "flac": _flac,
    "mp3": _mp3,
    "ogg": _ogg,
    "opus": _ogg,
}
