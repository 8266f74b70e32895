"""The chunks of a RIFF file (Multimedia Programming Interface and Data Specifications 1.0; RF64: EBU Tech 3306)."""

import io
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

MOST_CHUNKS = 64
_IN_DS64 = 0xFFFF_FFFF


@dataclass(frozen=True)
class Chunk:
    """One chunk: its four letters, where its content begins, and how many bytes that has."""

    name: bytes
    offset: int
    size: int


def chunks(file: BinaryIO) -> Iterator[Chunk]:
    """The chunks of a WAV or RF64 file in their order, at most 64; none of any other file, and none past its end, whatever sizes
    it states."""
    end = file.seek(0, io.SEEK_END)
    file.seek(0)
    head = file.read(12)
    if head[:4] not in (b"RIFF", b"RF64") or head[8:] != b"WAVE":
        return
    place, samples = 12, 0
    for _ in range(MOST_CHUNKS):
        if place + 8 > end:
            return
        file.seek(place)
        header = file.read(8)
        name, size = struct.unpack("<4sI", header)
        if name == b"ds64":
            samples = int.from_bytes(file.read(16)[8:], "little")
        size = samples if name == b"data" and size == _IN_DS64 else size
        yield Chunk(name, place + 8, size)
        place += 8 + size + size % 2
