"""The one pass over a file that drives every meter."""

import functools
import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ispettore.core import errors
from ispettore.core.audio import tags
from ispettore.core.audio.facts import FileFacts, sha256_of
from ispettore.core.audio.reading import Block, Source
from ispettore.core.measure import (
    bandwidth,
    ends,
    hum,
    level_jumps,
    methods_history,
    noise_floor,
    offset,
    plosives,
    room_decay,
    room_tone_jumps,
    sibilance,
    sounds_in_pauses,
    spectrum,
    speech,
)
from ispettore.core.measure.cells import CellSeries
from ispettore.core.measure.channel_difference import ChannelDifference
from ispettore.core.measure.clicks import Clicks
from ispettore.core.measure.clipping import Clipping
from ispettore.core.measure.dropouts import Dropouts
from ispettore.core.measure.grid import CELL_S, CELLS_PER_SECOND, TOGETHER, Seconds, runs, seconds
from ispettore.core.measure.level_meters import LevelMeters
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.reading import Finding, Pause, Reading, Span
from ispettore.core.measure.spectra import Spectra
from ispettore.core.measure.spectrum import Spectrum

Progress = Callable[[str, float], None]
"""Called with a stage name and a fraction from 0 to 1; may raise Cancelled."""


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
    pauses: list[Pause] = []
    spectrum: Spectrum = Spectrum()
    methods_version: int = Field(default_factory=methods_history.current)

    def value(self, quantity: str) -> float | None:
        """The reading's value, or None where it has none or does not exist."""
        reading = self.readings.get(quantity)
        return reading.value if reading else None


@dataclass(frozen=True)
class Measured:
    """An inspection with the series behind it."""

    inspection: Inspection
    meters: "Meters"
    passages: speech.Passages

    @functools.cached_property
    def cells(self) -> CellSeries:
        """All cells in memory."""
        return self.meters.cells.series()

    @functools.cached_property
    def k_power(self) -> NDArray[np.float32]:
        """K-weighted power of each cell in memory, shape (cells,)."""
        power: NDArray[np.float32] = self.meters.filtered.k_power.whole()[0]
        return power

    @functools.cached_property
    def speech_mask(self) -> NDArray[np.bool_]:
        """True in the cells in which someone speaks, shape (cells,)."""
        return self.passages.speech_mask()


def inspect(
    path: Path,
    *,
    name: str | None = None,
    progress: Progress = no_progress,
    block_frames: int | None = None,
    room_tone: Sequence[Span] = (),
) -> Measured:
    """Measure one file in one pass, as far as it goes. Raises what `Source` raises, and RoomToneOutside.

    Four seconds are read at a time unless `block_frames` says otherwise. `room_tone` are spans marked by hand: where there are any,
    they are the room tone, and nothing else is.
    """
    with Source(path, name=name) as source:
        meters = Meters(sample_rate_hz=source.sample_rate_hz, channels=source.channels, bit_depth=source.bit_depth)
        total = max(source.claimed_frames, 1)

        def watched(block: Block) -> Block:
            progress("measuring", min(source.frames_read / total, 1.0))
            return block

        blocks = (watched(block) for block in source.blocks(block_frames or TOGETHER * source.sample_rate_hz))
        for sound in seconds(blocks, sample_rate_hz=source.sample_rate_hz, channels=source.channels):
            meters.feed(sound)
        facts = source.facts.model_copy(update={"tags": tags.read(path)})
        measured = meters.result(name=source.name, sha256=sha256_of(path), facts=facts, room_tone=room_tone)
        if source.broken_off is None:
            return measured
        end = source.facts.duration_s
        cut = Finding(kind="broken-off", start_s=end, end_s=end, severity="serious")
        findings = [*measured.inspection.findings, cut]
        return replace(measured, inspection=measured.inspection.model_copy(update={"findings": findings}))


def measure_array(samples: NDArray[np.floating], *, sample_rate_hz: int, room_tone: Sequence[Span] = ()) -> Measured:
    """Measure samples of shape (frames, channels) that are in memory, full scale 1.0 (used for short spans and tests)."""
    samples = np.atleast_2d(samples.astype(np.float32).T).T
    meters = Meters(sample_rate_hz=sample_rate_hz, channels=samples.shape[1])
    for sound in seconds([samples], sample_rate_hz=sample_rate_hz, channels=samples.shape[1]):
        meters.feed(sound)
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
    sha256 = hashlib.sha256(samples.tobytes()).hexdigest()
    return meters.result(name="", sha256=sha256, facts=facts, room_tone=room_tone)


class Meters:
    """Every meter, fed together."""

    def __init__(self, *, sample_rate_hz: int, channels: int, bit_depth: int | None = None) -> None:
        self._rate = sample_rate_hz
        self.levels = LevelMeters(sample_rate_hz=sample_rate_hz, channels=channels)
        self.cells, self.true_peak = self.levels.cells, self.levels.true_peak
        self.filtered, self.active_speech = self.levels.filtered, self.levels.active_speech
        self.spectra = Spectra(sample_rate_hz=sample_rate_hz, channels=channels)
        self.low_rate = LowRate(sample_rate_hz=sample_rate_hz, channels=channels)
        self.clipping = Clipping(sample_rate_hz=sample_rate_hz, channels=channels, bit_depth=bit_depth)
        self.clicks = Clicks(channels=channels)
        self.dropouts = Dropouts(sample_rate_hz=sample_rate_hz, channels=channels)
        self.channel_difference = ChannelDifference(channels=channels)

    def feed(self, sound: Seconds) -> None:
        """Take in four whole seconds, or what the file ends with."""
        milliseconds = self.levels.feed(sound)
        self.spectra.feed(sound)
        self.low_rate.feed(sound)
        self.clipping.feed(sound, milliseconds)
        self.clicks.feed(milliseconds)
        self.dropouts.feed(sound, milliseconds)
        self.channel_difference.feed(sound)

    def result(self, *, name: str, sha256: str, facts: FileFacts, room_tone: Sequence[Span] = ()) -> Measured:
        """All readings and findings of what was fed."""
        self.low_rate.finish()
        passages = speech.find(self.filtered.voice_power, self.cells, self.spectra, self._marked(room_tone, name))
        readings, findings = self.levels.result(duration_s=facts.duration_s)
        worst, pauses = noise_floor.worst_pause(self.cells, passages)
        readings.update(_named(worst))
        for measure in (self._between, self._health):
            more, found = measure(passages, readings, facts)
            readings = {**readings, **more}
            findings += found
        relation, unlike = self.channel_difference.result(self.cells, duration_s=facts.duration_s)
        findings += unlike
        inspection = Inspection(
            name=name,
            sha256=sha256,
            facts=facts.model_copy(update={"channel_relation": relation}),
            readings=readings,
            findings=sorted(findings, key=lambda finding: (finding.start_s, finding.kind)),
            speech=_spans(passages.speech),
            room_tone=_spans(runs(passages.room)),
            pauses=pauses,
            spectrum=spectrum.measure(self.spectra, passages, readings["hum_db"], worth_saying_db=hum.HUM_WORTH_SAYING_DB),
        )
        return Measured(inspection, self, passages)

    def _marked(self, room_tone: Sequence[Span], name: str) -> NDArray[np.int64] | None:
        if not room_tone:
            return None
        edges = [(round(span.start_s * CELLS_PER_SECOND), round(span.end_s * CELLS_PER_SECOND)) for span in room_tone]
        inside = np.clip(np.array(edges, dtype=np.int64), 0, len(self.cells))
        if (inside[:, 1] <= inside[:, 0]).any():
            raise errors.RoomToneOutside(file=name, duration_s=len(self.cells) * CELL_S)
        return inside

    def _between(
        self, passages: speech.Passages, known: dict[str, Reading], facts: FileFacts
    ) -> tuple[dict[str, Reading], list[Finding]]:
        active, duration_s = known["active_speech_level_dbfs"], facts.duration_s
        noise = noise_floor.measure(self.cells, passages)
        pause, long_pauses = ends.longest_pause(passages)
        clicks = self.clicks.findings()
        findings = [
            *ends.dead_silences(passages),
            *long_pauses,
            *clicks,
            *sounds_in_pauses.findings(self.cells, self.spectra, passages, clicks),
            *room_tone_jumps.findings(self.cells, passages),
            *level_jumps.findings(self.filtered.k_power, passages),
        ]
        return _named(
            noise,
            noise_floor.quietest_window(self.cells, passages),
            noise_floor.signal_to_noise(active, noise_floor.speech_levels(known), noise),
            ends.head(passages),
            ends.tail(passages, duration_s=duration_s),
            pause,
            ends.digital_silence(passages, duration_s=duration_s),
        ), findings

    def _health(
        self, passages: speech.Passages, known: dict[str, Reading], facts: FileFacts
    ) -> tuple[dict[str, Reading], list[Finding]]:
        duration = facts.duration_s
        voice = known["active_speech_level_dbfs"].value
        clipped, clippings = self.clipping.result(duration_s=duration)
        dc, leaning = offset.dc_offset(self.cells, duration_s=duration), offset.asymmetry(self.cells, duration_s=duration)
        low = hum.spectrum(self.low_rate, passages)
        hums, hum_findings = hum.hum(low, duration_s=duration)
        rumbles, rumble_findings = hum.rumble(
            low, self.filtered.voice_power, passages, sample_rate_hz=self._rate, duration_s=duration
        )
        band, band_findings = bandwidth.measure(
            self.spectra.long_term(), sample_rate_hz=self._rate, duration_s=duration, lossy=facts.lossy
        )
        decay, decay_findings = room_decay.measure(self.filtered.voice_power, passages, duration_s=duration)
        findings = [
            *clippings,
            *offset.findings(dc, leaning),
            *hum_findings,
            *([] if hum_findings else rumble_findings),  # hum of 50 Hz is no rumble
            *band_findings,
            *decay_findings,
            *self.dropouts.findings(),
            *plosives.findings(self.low_rate, passages, voice_dbfs=voice),
            *sibilance.findings(self.spectra, voice_dbfs=voice),
        ]
        return _named(clipped, dc, leaning, hums, rumbles, decay, band), findings


def _named(*readings: Reading) -> dict[str, Reading]:
    return {reading.quantity: reading for reading in readings}


def _spans(cells: NDArray[np.int64]) -> list[Span]:
    return [Span(start_s=float(start) * CELL_S, end_s=float(end) * CELL_S) for start, end in cells]
