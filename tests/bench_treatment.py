"""Speed of treating, on one core in one run: four steps against the same four of a C++ library, and with noise reduction added."""

import os
import tempfile
import time
from pathlib import Path

import numpy as np
import pedalboard
import soundfile

from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.meters import Measured
from ispettore.core.treat.step import Context
from ispettore.core.treat.treatment import Step
from tests import signals

RATE = 44_100
MINUTES = 5
FOUR = (
    ("rumble-filter", {"corner_hz": 80}),
    ("expander", {"threshold_dbfs": -50}),
    ("compressor", {"threshold_dbfs": -26, "ratio": 2, "attack_ms": 5, "release_ms": 120}),
    ("true-peak-limiter", {"ceiling_dbtp": -6}),
)


def ours(wave: np.ndarray, steps: tuple, measured: Measured | None = None, path: Path | None = None) -> float:
    """Seconds for all steps over a wave of shape (frames, 1), a second at a time."""
    context = Context("bench", RATE, 1, measured, path)
    processors = [Step(kind=kind, settings=settings).typed.start(context) for kind, settings in steps]
    began = time.perf_counter()
    for start in range(0, len(wave), RATE):
        piece = wave[start : start + RATE]
        for processor in processors:
            piece = processor.feed(piece)
    return time.perf_counter() - began


def theirs(wave: np.ndarray) -> float:
    board = pedalboard.Pedalboard(
        [pedalboard.HighpassFilter(80), pedalboard.NoiseGate(-50), pedalboard.Compressor(-26, 2, 5, 120), pedalboard.Limiter(-6)]
    )
    began = time.perf_counter()
    board(wave.T, RATE)
    return time.perf_counter() - began


def limiters(wave: np.ndarray) -> None:
    """The limiter alone, its ceiling so far under the peaks, against the C++ library's in the same run."""
    peak_dbfs = 20 * float(np.log10(np.abs(wave).max()))
    for under_db in (3, 6):
        step = (("true-peak-limiter", {"ceiling_dbtp": peak_dbfs - under_db}),)
        ours(wave[: 5 * RATE], step)  # compiles
        mine, others = [], []
        for _ in range(3):
            mine.append(ours(wave, step))
            began = time.perf_counter()
            pedalboard.Pedalboard([pedalboard.Limiter(peak_dbfs - under_db, 60)])(wave.T, RATE)
            others.append(time.perf_counter() - began)
        print(
            f"limiter {under_db} dB under the peaks: ours ÷ theirs {min(mine) / min(others):.2f}, "
            f"{MINUTES * 60 / min(mine):.0f} times real time",
            flush=True,
        )


def main() -> None:
    os.sched_setaffinity(0, {0})
    wave = np.tile(signals.voice_like(60, rms_dbfs=-20, rate=RATE), MINUTES)[:, None].astype(np.float32)
    limiters(wave)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "voice.wav"
        soundfile.write(path, wave, RATE, subtype="FLOAT")
        measured = inspect(path)
        cleaned = (FOUR[0], ("noise-reduction", {}), *FOUR[1:])
        ours(wave[: 20 * RATE], cleaned, measured, path)  # compiles
        for _ in range(3):
            mine, other, all_five = ours(wave, FOUR), theirs(wave), ours(wave, cleaned, measured, path)
            print(
                f"four steps: ours ÷ theirs {mine / other:.2f}, {MINUTES * 60 / mine:.0f} times real time; "
                f"with noise reduction {MINUTES * 60 / all_five:.0f} times real time",
                flush=True,
            )


if __name__ == "__main__":
    main()
