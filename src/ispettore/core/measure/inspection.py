"""The one pass over a file that drives every meter."""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.facts import FileFacts, sha256_of
from ispettore.core.audio.reading import BLOCK_FRAMES, Block, Source
from ispettore.core.measure import ends, loudness, noise_floor, rms, sample_peak, speech
from ispettore.core.measure.cells import Cells, CellSeries
from ispettore.core.measure.grid import CELL_S, runs, seconds
from ispettore.core.measure.k_weighting import KWeighted
from ispettore.core.measure.reading import Finding, Reading, Span
from ispettore.core.measure.true_peak import TruePeak

Progress = Callable[[str, float], None]
"""Called with a stage name and a fraction from 0 to 1; may raise Cancelled."""

METHODS_VERSION = 1
"""Raised whenever a meter gives other figures than before, so that stored inspections are known to be of the older kind."""


def no_progress(_stage: str, _fraction: float) -> None:
    """For callers who do not watch."""


class Inspection(BaseModel):
    """All readings and findings of one file. Judged against a specification elsewhere."""

    model_config = ConfigDict(frozen=True)

    name: str
    sha256: str
    facts: FileFacts
    readings: dict[str, Reading]
    findings: list[Finding]
    speech: list[Span]
    room_tone: list[Span]
    methods_version: int = METHODS_VERSION

    def value(self, quantity: str) -> float | None:
        """The reading's value, or None where it has none or does not exist."""
        reading = self.readings.get(quantity)
        return reading.value if reading else None


@dataclass(frozen=True)
class Measured:
    """An inspection with the series behind it. `k_power` and `room` have shape (cells,)."""

    inspection: Inspection
    cells: CellSeries
    k_power: NDArray[np.float32]
    passages: speech.Passages

    @property
    def speech_mask(self) -> NDArray[np.bool_]:
        """True in the cells in which someone speaks, shape (cells,)."""
        mask = np.zeros(self.passages.cells, dtype=bool)
        for start, end in self.passages.speech:
            mask[start:end] = True
        return mask


def inspect(path: Path, *, name: str | None = None, progress: Progress = no_progress, block_frames: int = BLOCK_FRAMES) -> Measured:
    """Measure one file in one pass. Raises what `Source` raises; a file that breaks off is measured as far as it goes."""
    with Source(path, name=name) as source:
        meters = Meters(sample_rate_hz=source.sample_rate_hz, channels=source.channels)
        total = max(source.claimed_frames, 1)

        def watched(block: Block) -> Block:
            progress("measuring", min(source.frames_read / total, 1.0))
            return block

        blocks = (watched(block) for block in source.blocks(block_frames))
        for second in seconds(blocks, sample_rate_hz=source.sample_rate_hz, channels=source.channels):
            meters.feed(second)
        measured = meters.result(name=source.name, sha256=sha256_of(path), facts=source.facts)
        if source.broken_off is None:
            return measured
        end = source.facts.duration_s
        cut = Finding(kind="broken-off", start_s=end, end_s=end, severity="serious")
        findings = [*measured.inspection.findings, cut]
        return Measured(
            measured.inspection.model_copy(update={"findings": findings}),
            measured.cells,
            measured.k_power,
            measured.passages,
        )


def measure_array(samples: NDArray[np.floating], *, sample_rate_hz: int) -> Measured:
    """Measure samples of shape (frames, channels) that are in memory, full scale 1.0 (used for short spans and tests)."""
    samples = np.atleast_2d(samples.astype(np.float32).T).T
    meters = Meters(sample_rate_hz=sample_rate_hz, channels=samples.shape[1])
    for second in seconds([samples], sample_rate_hz=sample_rate_hz, channels=samples.shape[1]):
        meters.feed(second)
    facts = FileFacts(
        container="memory",
        codec="pcm-float",
        sample_rate_hz=sample_rate_hz,
        bit_depth=32,
        channels=samples.shape[1],
        frames=len(samples),
        duration_s=len(samples) / sample_rate_hz,
        bit_rate_kbps=None,
        bit_rate_constant=None,
        size_bytes=samples.nbytes,
    )
    return meters.result(name="", sha256=hashlib.sha256(samples.tobytes()).hexdigest(), facts=facts)


class Meters:
    """Every meter, fed together."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate = sample_rate_hz
        self.cells = Cells(sample_rate_hz=sample_rate_hz, channels=channels)
        self.true_peak = TruePeak(sample_rate_hz=sample_rate_hz, channels=channels)
        self.k_weighted = KWeighted(sample_rate_hz=sample_rate_hz, channels=channels)
        self.voice = speech.VoiceBand(sample_rate_hz=sample_rate_hz, channels=channels)

    def feed(self, second: NDArray[np.float32]) -> None:
        """Take in shape (channels, frames): a whole second, or the file's shorter last one."""
        self.cells.feed(second)
        self.true_peak.feed(second)
        self.k_weighted.feed(second)
        self.voice.feed(second)

    def result(self, *, name: str, sha256: str, facts: FileFacts) -> Measured:
        cells = self.cells.series()
        k_power = self.k_weighted.power.whole()[0]
        passages = speech.find(self.voice.power.whole()[0], cells)
        duration = facts.duration_s
        readings = [
            sample_peak.measure(self.cells, sample_rate_hz=self._rate),
            self.true_peak.result(),
            rms.measure(self.cells, duration_s=duration),
            loudness.integrated(k_power, duration_s=duration),
            loudness.momentary_max(k_power),
            loudness.short_term_max(k_power),
            loudness.loudness_range(k_power, duration_s=duration),
            noise_floor.measure(cells, passages),
            ends.head(passages),
            ends.tail(passages, duration_s=duration),
            ends.digital_silence(passages, duration_s=duration),
        ]
        inspection = Inspection(
            name=name,
            sha256=sha256,
            facts=facts,
            readings={reading.quantity: reading for reading in readings},
            findings=ends.dead_silences(passages),
            speech=_spans(passages.speech),
            room_tone=_spans(runs(passages.room)),
        )
        return Measured(inspection, cells, k_power, passages)


def _spans(cells: NDArray[np.int64]) -> list[Span]:
    return [Span(start_s=float(start) * CELL_S, end_s=float(end) * CELL_S) for start, end in cells]
