"""Recordings in every container, and the same spoilt: bits flipped, bytes cut, headers overwritten."""

from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.audio.writing import Sink, format_for
from tests import signals

RATE = 44_100


def originals(folder: Path, seconds: float) -> dict[str, bytes]:
    """A made-up voice in each container, by its ending."""
    found = {}
    first = round(0.6 * RATE)  # just before it begins to speak
    voice = signals.voice_like(seconds + 3, rms_dbfs=-22, rate=RATE)[first : first + round(seconds * RATE)]
    wave = voice.astype(np.float32)[:, None]
    for ending in ("wav", "flac", "mp3"):
        path = folder / f"original.{ending}"
        with Sink(path, sample_rate_hz=RATE, channels=1, form=format_for(path)) as sink:
            sink.write(wave)
        found[ending] = path.read_bytes()
    for ending, subtype in (("aiff", "PCM_16"), ("caf", "PCM_16"), ("ogg", "VORBIS")):
        path = signals.write(folder / f"original.{ending}", wave, RATE, subtype)
        found[ending] = path.read_bytes()
    for ending, container, subtype in (("opus", "OGG", "OPUS"), ("rf64", "RF64", "PCM_24"), ("alac", "CAF", "ALAC_16")):
        path = folder / f"original.{ending}"
        soundfile.write(path, wave[::-1], 48_000, format=container, subtype=subtype)
        found[ending] = path.read_bytes()
    return found


def mutated(content: bytes, random: np.random.Generator) -> bytes:
    """A file's bytes, spoilt in one of four ways."""
    changed = bytearray(content)
    kind = random.integers(0, 4)
    if kind == 0:  # bits in the header
        for place in random.integers(0, min(200, len(changed)), 4):
            changed[place] ^= 1 << int(random.integers(0, 8))
    elif kind == 1:  # bytes anywhere
        for place in random.integers(0, len(changed), 30):
            changed[place] = int(random.integers(0, 256))
    elif kind == 2:  # cut off
        changed = changed[: int(random.integers(1, len(changed)))]
    else:  # a stretch overwritten with ones
        start = int(random.integers(0, len(changed)))
        changed[start : start + 64] = b"\xff" * min(64, len(changed) - start)
    return bytes(changed)
