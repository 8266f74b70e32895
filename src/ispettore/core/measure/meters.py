"""Every meter, fed together, and what comes of them.

A new meter is made, fed and asked here; all else that needs to know of it stands in its row of `spec/quantities.py`.
"""

import functools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core import errors
from ispettore.core.audio.facts import FileFacts
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
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.cells import CellSeries
from ispettore.core.measure.channel_difference import ChannelDifference
from ispettore.core.measure.clicks import Clicks
from ispettore.core.measure.clipping import Clipping
from ispettore.core.measure.dropouts import Dropouts
from ispettore.core.measure.grid import CELL_S, CELLS_PER_SECOND, Seconds, runs
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.level_meters import LevelMeters
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.reading import Finding, Reading, Span
from ispettore.core.measure.spectra import Spectra


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

    @property
    def basis(self) -> Basis:
        """What a plan is read from."""
        cells = self.cells
        return Basis(self.inspection, cells.peak, cells.power, self.k_power, cells.counts)


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
            methods_version=methods_history.current(),
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
