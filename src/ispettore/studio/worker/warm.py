"""Runs every kernel once: in set-up, so that all are compiled, and in the fork server, so that its children have them."""

import tempfile
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ispettore.core.audio.writing import OutputFormat, Sink
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.measure.reading import Span
from ispettore.core.treat.limiter import TruePeakLimiter, surrogate
from ispettore.core.treat.runner import run
from ispettore.core.treat.treatment import Step, Treatment
from ispettore.studio.worker import computing  # noqa: F401  - loaded for the children


def warm() -> None:
    """Measure and treat two seconds of noise, look at a click at a high rate, and for words that are read again."""
    noise = np.random.default_rng(1).standard_normal((88_200, 1)).astype(np.float32) * np.float32(0.2)
    with tempfile.TemporaryDirectory(prefix="ispettore-warm-") as folder:
        path = Path(folder) / "noise.mp3"
        with Sink(path, sample_rate_hz=44_100, channels=1, form=OutputFormat(container="mp3")) as sink:
            sink.write(noise)
        steps = (
            Step(kind="rumble-filter", settings={}),
            Step(kind="hum-filter", settings={"base_hz": 50}),
            Step(kind="noise-reduction", settings={}),
            Step(kind="expander", settings={"threshold_dbfs": -50}),
            Step(kind="de-esser", settings={"threshold_dbfs": -50}),
            Step(kind="multiband-compressor", settings={"bands": [{"compressor": {"threshold_dbfs": -26}}] * 3}),
            Step(kind="compressor", settings={"threshold_dbfs": -26}),
            Step(kind="true-peak-limiter", settings={"ceiling_dbtp": -24}),
        )
        result = run(path, Treatment(steps=steps), folder=Path(folder), room_tone=[Span(start_s=0.0, end_s=1.0)])
        inspect(path)  # walks its frames
        inspect(result.path)
    surrogate(np.abs(noise[:10, 0]), TruePeakLimiter(ceiling_dbtp=-24))  # plans ask what it would do
    clicking = noise * np.float32(0.001)
    clicking[len(noise) // 2] = 0.5
    measure_array(clicking, sample_rate_hz=96_000)
    measure_array(np.tile(_word(16_000), (3, 1)), sample_rate_hz=16_000)


def _word(rate: int) -> NDArray[np.float32]:
    """A second of something like a voice that changes ten times, and a pause; shape (frames, 1)."""
    time = np.arange(round(1.6 * rate)) / rate
    loud = np.random.default_rng(2).uniform(0.0, 1.0, size=(30, 17)) ** 4
    moving = np.repeat(loud, rate // 10, axis=1)[:, : time.size]
    harmonics = (moving[k] * np.sin(2 * np.pi * 130 * (k + 1) * time) / (1 + k / 8) for k in range(30))
    room = 1e-4 * np.random.default_rng(3).standard_normal(time.size)
    return np.asarray(0.05 * sum(harmonics) * (time < 1.0) + room, dtype=np.float32)[:, None]


warm()
