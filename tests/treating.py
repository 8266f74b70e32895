"""What tests of treatments share: running steps over waves, and made-up material."""

import tempfile
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.meters import Measured
from ispettore.core.treat.runner import Run, run
from ispettore.core.treat.step import Context
from ispettore.core.treat.treatment import Step, Treatment
from ispettore.demo import faults

RATE = 44_100
EXAMPLES: dict[str, dict] = {
    "channels": {"channels": 1},
    "sample-rate": {"sample_rate_hz": 48_000},
    "gain": {"gain_db": -3},
    "compressor": {"threshold_dbfs": -24},
    "true-peak-limiter": {"ceiling_dbtp": -9},
    "tone": {"bands": [{"kind": "bell", "frequency_hz": 900, "gain_db": 4}, {"kind": "high-pass", "frequency_hz": 70}]},
    "multiband-compressor": {"bands": [{"compressor": {"threshold_dbfs": -30}}] * 3},
    "room-tone-fill": {"spans": [{"start_s": 1.0, "end_s": 1.5}]},
    "spot-gain": {"spots": [{"start_s": 1.0, "end_s": 2.0, "gain_db": -6}]},
    "head-and-tail": {"head_s": 0.9, "tail_s": 2.0},
    "de-esser": {"threshold_dbfs": -50},
    "tone-match": {"voice_db": [8.0 - 0.9 * band for band in range(20)]},
    "click-repair": {"spans": [{"start_s": 1.0, "end_s": 1.02}]},
}
"""Settings with which each kind of step does something; the rest does with its own."""


def treated(wave: np.ndarray, *steps: tuple[str, dict], rate: int = RATE, **how) -> tuple[np.ndarray, Run]:
    """A wave of shape (frames,) or (frames, channels) after these steps, in the same shape, and the run."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "in.wav"
        soundfile.write(path, wave, rate, subtype="FLOAT")
        treatment = Treatment(steps=tuple(Step(kind=kind, settings=settings) for kind, settings in steps))
        done = run(path, treatment, folder=Path(folder), **how)
        out, _ = soundfile.read(done.path, dtype="float64", always_2d=wave.ndim > 1)
        return out, done


def fed(kind: str, wave: np.ndarray, *sizes: int, rate: int = RATE, **settings) -> np.ndarray:
    """A step's output for a wave of shape (frames, channels), fed in blocks of these sizes in turn."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "in.wav"
        soundfile.write(path, wave, rate, subtype="FLOAT")
        step = Step(kind=kind, settings=settings).typed
        measured = measure_array(wave, sample_rate_hz=rate) if step.learns() else None
        processor = step.start(Context("test", rate, wave.shape[1], measured, path))
        out, at, turn = [], 0, 0
        while at < len(wave):
            out.append(processor.feed(wave[at : at + sizes[turn % len(sizes)]].astype(np.float32)))
            at, turn = at + sizes[turn % len(sizes)], turn + 1
        return np.concatenate([*out, processor.finish()])


def reading(name: str = "almanac-01", seconds: float = 40, speech_dbfs: float = -20) -> np.ndarray:
    """A clean reading of the demo's, its active speech at a level, with a second of silence before and after."""
    clean, _ = faults.clean_speech(name)
    clean = np.concatenate((np.zeros(RATE), clean[: round(seconds * RATE)], np.zeros(RATE)))
    found = measured(clean).inspection.value("active_speech_level_dbfs")
    return np.asarray(clean * 10 ** ((speech_dbfs - found) / 20))


def measured(wave: np.ndarray, rate: int = RATE) -> Measured:
    return measure_array(wave, sample_rate_hz=rate)


def masked(cells: np.ndarray, frames: int, rate: int = RATE) -> np.ndarray:
    """A mask of cells as a mask of frames."""
    return cells[np.clip(np.arange(frames) * 200 // rate, 0, len(cells) - 1)]


def db(power: float) -> float:
    return 10 * float(np.log10(max(power, 1e-30)))
