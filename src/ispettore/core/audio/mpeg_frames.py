"""Bit rate of an MPEG audio stream and whether it is constant, by walking every frame header (ISO/IEC 11172-3, 2.4.2.3).

Tags and summary headers may claim anything; only the frames tell.
"""

import mmap
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel

# Layer III bit rates in kbit/s by index, for MPEG 1 and for MPEG 2 and 2.5.
KBPS_1 = np.array([0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0], dtype=np.int64)
KBPS_2 = np.array([0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0], dtype=np.int64)
RATES_HZ = np.array([[11025, 12000, 8000], [0, 0, 0], [22050, 24000, 16000], [44100, 48000, 32000]], dtype=np.int64)


def bit_rate(path: Path) -> tuple[float, bool] | None:
    """Mean bit rate in kbit/s and whether every audio frame has the same, or None where there are no frames."""
    with path.open("rb") as file:
        if path.stat().st_size == 0:
            return None
        with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as mapped:
            data = np.frombuffer(mapped, dtype=np.uint8)
            frames, total, lowest, highest = _walk(data, after_tag(mapped[:10]), KBPS_1, KBPS_2, RATES_HZ)
            del data
    if frames == 0:
        return None
    return total / frames, bool(lowest == highest)


def after_tag(head: bytes) -> int:
    """Offset of the first byte after a leading ID3v2 tag (its size is four 7-bit digits), else 0."""
    if len(head) < 10 or head[:3] != b"ID3":
        return 0
    size = (head[6] & 0x7F) << 21 | (head[7] & 0x7F) << 14 | (head[8] & 0x7F) << 7 | (head[9] & 0x7F)
    return 10 + size + (10 if head[5] & 0x10 else 0)


@kernel
def _walk(
    data: NDArray[np.uint8],
    start: int,
    kbps_1: NDArray[np.int64],
    kbps_2: NDArray[np.int64],
    rates: NDArray[np.int64],
) -> tuple[int, int, int, int]:
    """Count frames, sum their bit rates, and keep the lowest and highest. A summary frame ("Xing", "Info", "VBRI") is not audio."""
    frames, total, lowest, highest = 0, 0, 1 << 30, 0
    i = start
    while i + 4 <= data.size:
        if data[i] != 0xFF or data[i + 1] & 0xE0 != 0xE0:
            i += 1
            continue
        version = (data[i + 1] >> 3) & 3
        layer = (data[i + 1] >> 1) & 3
        rate_index = (data[i + 2] >> 2) & 3
        bits = kbps_1[data[i + 2] >> 4] if version == 3 else kbps_2[data[i + 2] >> 4]
        if version == 1 or layer != 1 or rate_index == 3 or bits == 0:
            i += 1
            continue
        samples = 144 if version == 3 else 72
        length = samples * bits * 1000 // rates[version, rate_index] + ((data[i + 2] >> 1) & 1)
        mono = (data[i + 3] >> 6) == 3
        side = (17 if mono else 32) if version == 3 else (9 if mono else 17)
        summary = False
        if frames == 0:
            for offset in (4 + side, 36):
                if i + offset + 4 <= data.size:
                    a, b, c, d = data[i + offset], data[i + offset + 1], data[i + offset + 2], data[i + offset + 3]
                    if (a, b, c, d) in ((88, 105, 110, 103), (73, 110, 102, 111), (86, 66, 82, 73)):
                        summary = True
        if not summary:
            frames += 1
            total += bits
            lowest = min(lowest, bits)
            highest = max(highest, bits)
        i += length
    return frames, total, lowest, highest
