"""The meters of level alone: what an inspection, and the ledger of a treatment's steps, feed together."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import crest_factor, inter_sample_overs, loudness, rms, sample_peak
from ispettore.core.measure.active_speech import ActiveSpeech
from ispettore.core.measure.cells import Cells, Milliseconds
from ispettore.core.measure.filtered import Filtered
from ispettore.core.measure.grid import Regrouped, Seconds
from ispettore.core.measure.loudness import Powers
from ispettore.core.measure.reading import Finding, Reading
from ispettore.core.measure.true_peak import TruePeak


class LevelMeters:
    """Feed seconds, then ask for every level reading."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate = sample_rate_hz
        self.cells = Cells(sample_rate_hz=sample_rate_hz, channels=channels)
        self.true_peak = TruePeak(sample_rate_hz=sample_rate_hz, channels=channels)
        self.filtered = Filtered(sample_rate_hz=sample_rate_hz, channels=channels)
        self.active_speech = ActiveSpeech()

    def feed(self, sound: Seconds) -> Milliseconds:
        """Take in four whole seconds, or what the file ends with; return their milliseconds."""
        milliseconds = self.cells.feed(sound)
        self.go_on(sound, milliseconds)
        return milliseconds

    def go_on(self, sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in seconds that `cells` has taken in, with what it returned."""
        self.true_peak.feed(sound, milliseconds)
        self.filtered.feed(sound)
        self.active_speech.feed(milliseconds.magnitude)

    def result(self, *, duration_s: float) -> tuple[dict[str, Reading], list[Finding]]:
        """Every level reading by its quantity, and the inter-sample overs found."""
        peak = sample_peak.measure(self.cells, sample_rate_hz=self._rate)
        true_peak = self.true_peak.result()
        level = rms.measure(self.cells, duration_s=duration_s)
        mean_square = float(self.cells.sum_of_squares.mean() / max(self.cells.frames, 1))
        active, activity = self.active_speech.result(mean_square=mean_square, duration_s=duration_s)
        overs, findings = inter_sample_overs.measure(self.true_peak.cells, duration_s=duration_s)
        found = (*derived(peak, true_peak, level, active, activity, self.filtered.k_power, duration_s=duration_s), overs)
        return {reading.quantity: reading for reading in found}, findings


def derived(
    peak: Reading, true_peak: Reading, level: Reading, active: Reading, activity: Reading, k_power: Powers, *, duration_s: float
) -> tuple[Reading, ...]:
    """These readings, and every level reading that follows from them and the K-weighted power of each cell."""
    integrated = loudness.integrated(k_power, duration_s=duration_s)
    return (
        peak,
        true_peak,
        level,
        active,
        activity,
        integrated,
        loudness.momentary_max(k_power),
        loudness.short_term_max(k_power),
        loudness.loudness_range(k_power, duration_s=duration_s),
        crest_factor.above("crest_factor_db", peak, level, method="sample peak less RMS"),
        crest_factor.above("speech_crest_db", peak, active, method="sample peak less active speech level"),
        crest_factor.above("peak_to_loudness_db", true_peak, integrated, method="true peak less integrated loudness"),
    )


class Listener:
    """Level meters fed with blocks of any size, shape (frames, channels), as they pass; `frames` says how many did. With
    `cells_alone` there is nothing but the cells."""

    def __init__(self, *, sample_rate_hz: int, channels: int, cells_alone: bool = False) -> None:
        self._rate, self._cells_alone = sample_rate_hz, cells_alone
        self._meters = LevelMeters(sample_rate_hz=sample_rate_hz, channels=channels)
        self._regrouped = Regrouped(sample_rate_hz=sample_rate_hz, channels=channels)
        self.frames = 0

    @property
    def cells(self) -> Cells:
        """The level of what has passed, cell by cell; whole once the readings were asked for."""
        return self._meters.cells

    def feed(self, block: NDArray[np.float32]) -> None:
        self.frames += len(block)
        for sound in self._regrouped.put(block):
            self._take(sound)

    def _take(self, sound: Seconds) -> None:
        if self._cells_alone:
            self._meters.cells.feed(sound)
        else:
            self._meters.feed(sound)

    def readings(self) -> dict[str, Reading]:
        """Every level reading of what has passed; {} of nothing, and of cells alone."""
        for sound in self._regrouped.rest():
            self._take(sound)
        if self.frames == 0 or self._cells_alone:
            return {}
        return self._meters.result(duration_s=self.frames / self._rate)[0]
