"""Checksums of a file's pieces, kept beside it, so that a part of it can be trusted without reading all of it.

A SHA-256 tells whether a whole file is what it was, after reading the whole of it. Whoever listens to ten seconds of three hours
waits for no such thing: each piece of 256 KiB has a CRC-32 of its own (ISO/IEC 3309; every burst of errors up to 32 bits is found,
of any others all but one in 2³²). That finds what a disk lost. It does not prove anything to somebody else: certificates rest on
SHA-256 alone.
"""

import errno
import io
import struct
import zlib
from collections.abc import Callable
from typing import IO, Any

from ispettore.studio.store.seeking import Seekable

PIECE = 256 * 1024


class Sums:
    """Takes a file's bytes as they come."""

    def __init__(self) -> None:
        self._whole: list[int] = []
        self._last, self._filled = 0, 0

    def update(self, chunk: bytes) -> None:
        view = memoryview(chunk)
        while view:
            taken = view[: PIECE - self._filled]
            self._last = zlib.crc32(taken, self._last)
            self._filled += len(taken)
            view = view[len(taken) :]
            if self._filled == PIECE:
                self._whole.append(self._last)
                self._last, self._filled = 0, 0

    def packed(self) -> bytes:
        """One big-endian number of 32 bits for each piece."""
        found = [*self._whole, *([self._last] if self._filled else [])]
        return struct.pack(f">{len(found)}I", *found)


def sum_of(packed: bytes, number: int) -> int | None:
    """The checksum of one piece; None where there is none."""
    found = packed[4 * number : 4 * number + 4]
    return int.from_bytes(found, "big") if len(found) == 4 else None


class CheckedFile(Seekable):
    """A file to read and seek in, of which no byte is given out before the piece that it lies in was held against its checksum.

    `wrong()` is called where a piece differs; it returns where the checksum was what was wrong, and raises else.
    """

    def __init__(self, file: IO[bytes], packed: bytes, wrong: Callable[[], bytes]) -> None:
        super().__init__(file.seek(0, io.SEEK_END))
        self._file, self._packed, self._wrong = file, packed, wrong
        self._number, self._piece = -1, b""

    def readinto(self, buffer: Any) -> int:
        view = memoryview(buffer).cast("B")
        number, within = divmod(self.at, PIECE)
        if number != self._number:
            self._number, self._piece = number, self._checked(number)
        given = self._piece[within : within + len(view)]
        view[: len(given)] = given
        self.at += len(given)
        return len(given)

    def close(self) -> None:
        self._file.close()
        super().close()

    def _checked(self, number: int) -> bytes:
        for again in (True, False):
            self._file.seek(number * PIECE)
            piece = self._file.read(PIECE)
            expected = sum_of(self._packed, number)
            if (piece and zlib.crc32(piece) == expected) or (not piece and expected is None):
                return piece
            if again:
                self._packed = self._wrong()
        raise OSError(errno.EIO, "what was read twice was twice another thing")
