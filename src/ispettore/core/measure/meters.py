"""Every meter, fed together, and what comes of them.

A new meter has its line in `FED` or `READ`; all else that needs to know of it stands in its row of `spec/quantities.py`.
"""

import functools
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core import errors
from ispettore.core.audio.facts import FileFacts
from ispettore.core.beside import both
from ispettore.core.measure import (
    bandwidth,
    ends,
    hum,
    level_jumps,
    methods_history,
    noise_floor,
    offset,
    plosives,
    repeats,
    room_decay,
    room_tone_jumps,
    sibilance,
    sounds_in_pauses,
    spectrum,
    speech,
    turns,
)
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.cells import CellSeries
from ispettore.core.measure.channel_difference import ChannelDifference
from ispettore.core.measure.clicks import Clicks
from ispettore.core.measure.clipping import Clipping
from ispettore.core.measure.dropouts import Dropouts
from ispettore.core.measure.grid import CELL_S, CELLS_PER_SECOND, Seconds, runs
from ispettore.core.measure.heard import Fed, Heard, Reader
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.level_meters import LevelMeters
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.marks import Marks
from ispettore.core.measure.reading import Finding, Span
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


FED: tuple[Callable[[int, int, int | None], Fed], ...] = (
    lambda rate, channels, depth: Clipping(sample_rate_hz=rate, channels=channels, bit_depth=depth),
    lambda rate, channels, depth: Dropouts(sample_rate_hz=rate, channels=channels, bit_depth=depth),
    lambda rate, channels, depth: Marks(sample_rate_hz=rate),
    lambda rate, channels, depth: Clicks(sample_rate_hz=rate, channels=channels, bit_depth=depth),
)
"""Meters that look at every sample, made for a sample rate, a number of channels and a bit depth. Clicks know of dropouts and
marks."""

READ: tuple[Reader, ...] = (
    noise_floor.read,
    ends.read,
    sounds_in_pauses.read,
    room_tone_jumps.read,
    level_jumps.read,
    offset.read,
    hum.read,
    bandwidth.read,
    room_decay.read,
    plosives.read,
    sibilance.read,
)
"""Meters that work out of the series when a file has passed, in order: each knows what was read and found before it."""


class Meters:
    """Every meter, fed together."""

    def __init__(self, *, sample_rate_hz: int, channels: int, bit_depth: int | None = None) -> None:
        self.levels = LevelMeters(sample_rate_hz=sample_rate_hz, channels=channels)
        self.cells, self.true_peak = self.levels.cells, self.levels.true_peak
        self.filtered, self.active_speech = self.levels.filtered, self.levels.active_speech
        self.spectra = Spectra(sample_rate_hz=sample_rate_hz, channels=channels)
        self.low_rate = LowRate(sample_rate_hz=sample_rate_hz, channels=channels)
        self.channel_difference = ChannelDifference(sample_rate_hz=sample_rate_hz, channels=channels)
        self.fed = [*(made(sample_rate_hz, channels, bit_depth) for made in FED), self.channel_difference]
        self.clipping = next(meter for meter in self.fed if isinstance(meter, Clipping))

    def feed(self, sound: Seconds, beside: Executor | None = None) -> None:
        """Take in four whole seconds, or what the file ends with; half of the meters `beside` the others."""
        milliseconds = self.cells.feed(sound)

        def what_is_there() -> None:
            self.levels.go_on(sound, milliseconds)
            self.spectra.feed(sound)

        def what_is_wrong() -> None:
            self.low_rate.feed(sound)
            for meter in self.fed:
                meter.feed(sound, milliseconds)

        both(what_is_there, what_is_wrong, beside)

    def result(
        self, *, name: str, sha256: str, facts: FileFacts, room_tone: Sequence[Span] = (), found: Sequence[Finding] = ()
    ) -> Measured:
        """All readings and findings of what was fed, and those that were `found` already."""
        self.low_rate.finish()
        passages = speech.find(self.filtered.voice_power, self.cells, self.spectra, self.low_rate, self._marked(room_tone, name))
        readings, overs = self.levels.result(duration_s=facts.duration_s)
        heard = Heard(facts, self.levels, self.spectra, self.low_rate, passages, readings, overs)
        for read in (*(meter.read for meter in self.fed), *READ):
            heard.add(read(heard))
        heard.findings += found
        marks = [each for each in heard.findings if each.kind in repeats.MARKS]
        again = repeats.find(self.spectra, self.cells, passages, marks)
        heard.findings += repeats.findings(again)
        inspection = Inspection(
            name=name,
            sha256=sha256,
            facts=facts.model_copy(update={"channel_relation": self.channel_difference.relation}),
            readings=heard.readings,
            findings=sorted(heard.findings, key=lambda finding: (finding.start_s, finding.kind)),
            speech=_spans(passages.speech),
            room_tone=_spans(runs(passages.room)),
            pauses=heard.pauses,
            turns=turns.find(self.low_rate, self.spectra, passages, self.cells.power),
            repeats=again,
            spectrum=spectrum.measure(
                self.spectra, self.low_rate, passages, heard.readings["hum_db"], worth_saying_db=hum.HUM_WORTH_SAYING_DB
            ),
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


def _spans(cells: NDArray[np.int64]) -> list[Span]:
    return [Span(start_s=float(start) * CELL_S, end_s=float(end) * CELL_S) for start, end in cells]
