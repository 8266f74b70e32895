"""Speed as ratios within one run: the full inspection against bare decoding and hashing, and against other people's meters."""

import argparse
import hashlib
import resource
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyebur128
import pyloudnorm
import soundfile

from ispettore.core.audio.reading import Source
from ispettore.core.measure.inspection import inspect
from ispettore.studio.demo.faults import RATE_HZ, clean_speech, in_room


def material(seconds: float, channels: int) -> np.ndarray:
    """Demo speech, repeated: shape (frames, channels), float32."""
    names = [f"almanac-0{number}" for number in range(1, 9)]
    spoken = [in_room(clean_speech(name)[0], noise_dbfs=-65, head_s=0.6, tail_s=1.2, seed=3) for name in names]
    once = np.concatenate(spoken)
    whole = np.resize(once * (10 ** (-20 / 20) / np.sqrt(np.mean(once**2))), round(seconds * RATE_HZ)).astype(np.float32)
    return np.clip(np.stack([np.roll(whole, 40 * channel) for channel in range(channels)], axis=1), -1, 1)


def write(path: Path, wave: np.ndarray) -> None:
    more = {"bitrate_mode": "CONSTANT", "compression_level": 0.4} if path.suffix == ".mp3" else {}
    subtype = "MPEG_LAYER_III" if path.suffix == ".mp3" else "PCM_16"
    with soundfile.SoundFile(path, "w", RATE_HZ, wave.shape[1], format=path.suffix[1:].upper(), subtype=subtype, **more) as file:
        for start in range(0, len(wave), RATE_HZ * 30):
            file.write(wave[start : start + RATE_HZ * 30])


def decode_and_hash(path: Path) -> None:
    with path.open("rb") as file:
        hashlib.file_digest(file, "sha256")
    decode(path)


def decode(path: Path) -> None:
    with Source(path) as source:
        for _ in source.blocks():
            pass


def c_library(path: Path) -> None:
    """I, LRA and true peak, block by block."""
    mode = pyebur128.MeasurementMode
    with Source(path) as source:
        state = pyebur128.R128State(source.channels, source.sample_rate_hz, mode.MODE_I | mode.MODE_LRA | mode.MODE_TRUE_PEAK)
        for block in source.blocks():
            state.add_frames(block.ravel(), len(block))
    pyebur128.get_loudness_global(state)
    pyebur128.get_loudness_range(state)


def python_library(path: Path) -> None:
    """Integrated loudness alone, the whole file in memory."""
    samples, rate = soundfile.read(path)
    pyloudnorm.Meter(rate).integrated_loudness(samples)


def best(function: Callable[[Path], object], path: Path, times: int) -> float:
    """Least processor time of several runs, in seconds."""
    found = []
    for _ in range(times):
        began = time.process_time()
        function(path)
        found.append(time.process_time() - began)
    return min(found)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, nargs="*", default=[10])
    parser.add_argument("--times", type=int, default=3)
    chosen = parser.parse_args()
    print("| file | decode + hash | inspection | ÷ (decode + hash) | C library ÷ inspection¹ | Python library ÷ inspection |")
    print("| --- | --- | --- | --- | --- | --- |")
    with tempfile.TemporaryDirectory() as folder:
        for minutes in chosen.minutes:
            for channels in (1, 2):
                wave = material(minutes * 60, channels)
                for ending in ("wav", "flac", "mp3"):
                    path = Path(folder) / f"bench.{ending}"
                    write(path, wave)
                    inspect(path)
                    bare, plain = best(decode_and_hash, path, chosen.times), best(decode, path, chosen.times)
                    full, theirs = best(inspect, path, chosen.times), best(c_library, path, chosen.times)
                    slow = best(python_library, path, 1)
                    ours = full - (bare - plain)
                    ratios = f"{full / bare:.2f} | {(theirs - plain) / (ours - plain):.2f} | {slow / full:.1f}"
                    name = f"{minutes:g} min {'mono' if channels == 1 else 'stereo'} {ending}"
                    print(f"| {name} | {bare:.2f} s | {full:.2f} s | {ratios} |")
                    path.unlink()
                del wave
    print("\n¹ decoding and hashing aside.")
    print(f"largest resident memory of this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")
    return 0


if __name__ == "__main__":
    sys.exit(main())
