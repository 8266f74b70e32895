"""Marks in a WAV file: cue points with labels (Multimedia Programming Interface and Data Specifications 1.0, chapter 3)."""

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from ispettore.core.audio.chunks import Chunk, chunks
from ispettore.core.text import cleaned

MOST = 1_000
LONGEST = 200
_POINT = struct.Struct("<II4sIII")


@dataclass(frozen=True)
class Mark:
    """A place, in seconds, and what stands there."""

    at_s: float
    text: str


def content(marks: Sequence[Mark], *, sample_rate_hz: int, frames: int) -> bytes:
    """The `cue ` chunk, and a label for each of its points, as they stand behind the samples."""
    places = [min(round(mark.at_s * sample_rate_hz), max(frames - 1, 0)) for mark in marks]
    points = b"".join(_POINT.pack(name, at, b"data", 0, 0, at) for name, at in enumerate(places, start=1))
    cue = struct.pack("<I", len(marks)) + points
    labels = b"adtl"
    for name, mark in enumerate(marks, start=1):
        text = struct.pack("<I", name) + mark.text.encode() + b"\0"
        labels += struct.pack("<4sI", b"labl", len(text)) + text + bytes(len(text) % 2)
    return struct.pack("<4sI", b"cue ", len(cue)) + cue + struct.pack("<4sI", b"LIST", len(labels)) + labels


def read(path: Path) -> list[Mark]:
    """The marks of a WAV or RF64 file in the order of time, at most 1,000; none of any other file. Never raises."""
    try:
        with path.open("rb") as file:
            found = list(chunks(file))
            rate = _rate(file, found)
            points = [point for one in found if one.name == b"cue " for point in _points(file, one)]
            labels = {name: text for one in found if one.name == b"LIST" for name, text in _labels(file, one)}
    except OSError:
        return []
    return sorted((Mark(at / rate, labels.get(name, "")) for name, at in points if rate), key=lambda mark: mark.at_s)


def _rate(file: BinaryIO, found: Sequence[Chunk]) -> int:
    chunk = next((one for one in found if one.name == b"fmt "), None)
    return int.from_bytes(_content(file, chunk, 8)[4:8], "little") if chunk is not None else 0


def _points(file: BinaryIO, chunk: Chunk) -> list[tuple[int, int]]:
    """Their names and frames; programs that leave the offset of a sample at 0 give its place in the order of play."""
    held = _content(file, chunk, 4 + MOST * _POINT.size)[4:]
    whole = held[: len(held) // _POINT.size * _POINT.size]
    return [(name, offset or place) for name, place, _, _, _, offset in _POINT.iter_unpack(whole)]


def _labels(file: BinaryIO, chunk: Chunk) -> list[tuple[int, str]]:
    held = _content(file, chunk, MOST * (LONGEST + 16))
    found, at = [], 4
    while held[:4] == b"adtl" and at + 12 <= len(held):
        name, size = struct.unpack_from("<4sI", held, at)
        if name == b"labl" and size >= 4:
            text = held[at + 12 : at + 8 + size].split(b"\0")[0].decode("utf-8", errors="replace")
            found.append((int.from_bytes(held[at + 8 : at + 12], "little"), cleaned(text)[:LONGEST]))
        at += 8 + size + size % 2
    return found


def _content(file: BinaryIO, chunk: Chunk, most: int) -> bytes:
    file.seek(chunk.offset)
    return file.read(min(chunk.size, most))
