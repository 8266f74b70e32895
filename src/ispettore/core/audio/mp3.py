"""MP3 at a constant bit rate, written in blocks, with the frame in front that tells players how long it is.

The encoder itself is a library. What it puts out has no first frame that says how many samples of delay and padding surround the
sound; without it every decoder plays 25 ms more at the head and some at the tail. That frame is written here, in the layout that
players have read since the nineties: a silent frame of MPEG 1 Layer III (ISO/IEC 11172-3, 2.4.1) with "Info", the number of frames
and bytes, a table of places, and the encoder's name, delay and padding.
"""

import os
from pathlib import Path

import lameenc
import numpy as np
from numpy.typing import NDArray

FRAME = 1_152
"""Samples of a frame (2.4.2.1)."""

DELAY = 576
"""Samples by which the encoder is late; a decoder adds 529 of its own."""

QUALITY = 3
"""Of 0 (slow) to 9: the noise it leaves is that of the slower ones within 0.1 dB on speech (docs/BENCHMARKS.md)."""

ENCODER = b"LAME3.100"
SIDE_BYTES = {1: 17, 2: 32}
"""Side information by the number of channels (2.4.1.7)."""


class Mp3File:
    """One file being written. Samples are 16-bit integers, shape (frames, channels)."""

    def __init__(self, path: Path, *, sample_rate_hz: int, channels: int, bit_rate_kbps: int) -> None:
        self._encoder = lameenc.Encoder()
        self._encoder.silence()
        self._encoder.set_in_sample_rate(sample_rate_hz)
        self._encoder.set_out_sample_rate(sample_rate_hz)
        self._encoder.set_channels(channels)
        self._encoder.set_bit_rate(bit_rate_kbps)
        self._encoder.set_quality(QUALITY)
        self._rate, self._channels, self._kbps = sample_rate_hz, channels, bit_rate_kbps
        self._samples = self._bytes = 0
        self._header = b""
        self._file = path.open("wb")
        self._file.write(bytes(self._frame_bytes))

    @property
    def _frame_bytes(self) -> int:
        """Bytes of a frame that is not padded (2.4.3.1)."""
        return FRAME // 8 * self._kbps * 1_000 // self._rate

    def write(self, block: NDArray[np.int16]) -> None:
        self._samples += len(block)
        self._put(bytes(self._encoder.encode(np.ascontiguousarray(block, dtype="<i2").tobytes())))

    def close(self) -> None:
        """Encode what is left, and tell the length in front."""
        if self._file.closed:
            return
        try:
            if self._samples:
                self._put(bytes(self._encoder.flush()))
            self._file.seek(0)
            if self._header:
                self._file.write(self._first_frame())
            else:
                self._file.truncate()
            self._file.flush()
            os.fsync(self._file.fileno())
        finally:
            self._file.close()

    def _put(self, encoded: bytes) -> None:
        if encoded and not self._header:
            # As the frames that follow, but not padded.
            self._header = bytes((encoded[0], encoded[1], encoded[2] & ~0x02, encoded[3]))
        self._bytes += len(encoded)
        self._file.write(encoded)

    def _first_frame(self) -> bytes:
        frames = round(self._bytes / (FRAME / 8 * self._kbps * 1_000 / self._rate))
        padding = min(max(frames * FRAME - DELAY - self._samples, 0), 0xFFF)
        size = self._frame_bytes + self._bytes
        tag = bytearray(self._header + bytes(SIDE_BYTES[self._channels]) + b"Info" + (0xF).to_bytes(4, "big"))
        tag += frames.to_bytes(4, "big") + size.to_bytes(4, "big")
        tag += bytes(min(255, part * 256 // 100) for part in range(100))
        tag += (10 * (9 - QUALITY)).to_bytes(4, "big")
        # Constant bit rate; no replay gain, peak or preset is told.
        tag += ENCODER + bytes((0x01, 0)) + bytes(8) + bytes((0, min(self._kbps, 255)))
        tag += (DELAY << 12 | padding).to_bytes(3, "big") + bytes(4) + size.to_bytes(4, "big") + bytes(2)
        tag += crc_16(bytes(tag)).to_bytes(2, "big")
        return bytes(tag) + bytes(self._frame_bytes - len(tag))


def crc_16(data: bytes) -> int:
    """CRC-16 with the polynomial 0x8005, low bits first, from 0.

    >>> hex(crc_16(b"123456789"))
    '0xbb3d'
    """
    crc = 0
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = crc >> 1 ^ 0xA001 if crc & 1 else crc >> 1
    return crc
