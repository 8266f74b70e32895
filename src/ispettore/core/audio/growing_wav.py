"""A WAV file that grows while somebody records: whole at every moment, whatever happens to the process or the machine.

32-bit float, as a browser hands its samples over, so that nothing is rounded. Its sizes are written whenever what they count lies
on the disk; what is behind them was never promised to anybody, and goes where it is opened again. Past 4 GB it is an RF64 (EBU Tech
3306), for which room is kept at its beginning; where it was recorded and when stands in a broadcast extension (EBU Tech 3285).
"""

import os
import struct
from collections.abc import Sequence
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

from ispettore.core.audio import broadcast, cues
from ispettore.core.audio.broadcast import Broadcast
from ispettore.core.audio.cues import Mark

SAMPLE_BYTES = 4
_FLOAT = 3
_LARGEST = 0xFFFF_FFFF
_DS64 = struct.Struct("<4sIQQQI")
_FMT = struct.Struct("<4sIHHIIHHH")
_FACT = struct.Struct("<4sII")
_FMT_AT = 12 + _DS64.size
_FACT_AT = _FMT_AT + _FMT.size
_BEXT_AT = _FACT_AT + _FACT.size
HEAD = _BEXT_AT + 610 + 8
"""Bytes before the first sample."""


class GrowingWav:
    """One that is open. `frames` counts what it promises; what was appended since counts from the next `sync` on."""

    def __init__(self, path: Path) -> None:
        """Open one that was created here. Raises OSError, and ValueError for any other file."""
        self._file = path.open("r+b")
        try:
            self.sample_rate_hz, self.channels, self.frames = _head(self._file)
            self._frame = self.channels * SAMPLE_BYTES
            self._file.truncate(HEAD + self.frames * self._frame)
            self._appended = self.frames
        except BaseException:
            self._file.close()
            raise

    @classmethod
    def create(cls, path: Path, *, sample_rate_hz: int, channels: int, stated: Broadcast) -> "GrowingWav":
        """An empty one. Raises OSError, also where there is a file already."""
        frame = channels * SAMPLE_BYTES
        with path.open("xb") as file:
            os.fchmod(file.fileno(), 0o600)
            file.write(_sizes(0, channels, 0))
            file.write(_FMT.pack(b"fmt ", 18, _FLOAT, channels, sample_rate_hz, sample_rate_hz * frame, frame, 8 * SAMPLE_BYTES, 0))
            file.write(_FACT.pack(b"fact", 4, 0) + broadcast.written(stated) + struct.pack("<4sI", b"data", 0))
            file.flush()
            os.fsync(file.fileno())
        return cls(path)

    @staticmethod
    def promised_s(path: Path) -> float:
        """How much one promises, in seconds, while others may write it. Raises OSError, and ValueError for any other file."""
        with path.open("rb") as file:
            rate, _, frames = _head(file)
        return frames / rate

    @property
    def appended(self) -> int:
        """Frames, with those that are not promised yet."""
        return self._appended

    def append(self, samples: bytes) -> None:
        """Whole frames of interleaved 32-bit little-endian floats. Raises OSError; what was written of them then does not count."""
        place = HEAD + self._appended * self._frame
        self._file.seek(place)
        self._file.write(samples)
        self._file.flush()
        self._appended += len(samples) // self._frame

    def sync(self) -> int:
        """Promise what was appended: the frames that are kept from now on. Raises OSError."""
        if self._appended != self.frames:
            os.fsync(self._file.fileno())
            self._state(self._appended, 0)
        return self.frames

    def finish(self, marks: Sequence[Mark]) -> None:
        """Promise all, and write marks behind it. Raises OSError."""
        end = HEAD + self._appended * self._frame
        tail = cues.content(marks, sample_rate_hz=self.sample_rate_hz, frames=self._appended) if marks else b""
        self._file.truncate(end)
        self._file.seek(end)
        self._file.write(tail)
        self._file.flush()
        os.fsync(self._file.fileno())
        self._state(self._appended, len(tail))

    def _state(self, frames: int, behind: int) -> None:
        """Write the sizes where they stand."""
        for place, content in (
            (0, _sizes(frames, self.channels, behind)),
            (_FACT_AT, _FACT.pack(b"fact", 4, min(frames, _LARGEST))),
            (HEAD - 4, struct.pack("<I", min(frames * self._frame, _LARGEST))),
        ):
            self._file.seek(place)
            self._file.write(content)
        self._file.flush()
        os.fsync(self._file.fileno())
        self.frames = frames

    def close(self) -> None:
        self._file.close()

    def __enter__(self) -> "GrowingWav":
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()


def _head(file: BinaryIO) -> tuple[int, int, int]:
    """Sample rate in Hz, channels, and the frames that are promised and there."""
    head = file.read(HEAD)
    if len(head) < HEAD or head[HEAD - 8 : HEAD - 4] != b"data":
        raise ValueError("this is no recording that was begun here")
    _, _, kind, channels, rate, *_ = _FMT.unpack_from(head, _FMT_AT)
    if kind != _FLOAT or not channels or not rate:
        raise ValueError("this is no recording that was begun here")
    size = _DS64.unpack_from(head, 12)[3] if head[:4] == b"RF64" else int.from_bytes(head[-4:], "little")
    there = file.seek(0, os.SEEK_END) - HEAD
    return rate, channels, max(min(size, there), 0) // (channels * SAMPLE_BYTES)


def _sizes(frames: int, channels: int, behind: int) -> bytes:
    """What a file begins with: RIFF with room for the large sizes, or RF64 with them."""
    data = frames * channels * SAMPLE_BYTES
    whole = HEAD + data + behind - 8
    large = whole > _LARGEST
    head = struct.pack("<4sI4s", b"RF64" if large else b"RIFF", _LARGEST if large else whole, b"WAVE")
    return head + _DS64.pack(b"ds64" if large else b"JUNK", _DS64.size - 8, whole, data, frames, 0)
