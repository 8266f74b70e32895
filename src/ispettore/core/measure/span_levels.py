"""Every level reading of any span of an inspected file, without reading its sound again.

Beside an inspection the levels are kept that its meters worked from: of each cell the largest |sample| and the mean square of every
channel, the true peak and the K-weighted power, and the mean magnitude of each millisecond. They are kept in steps of 0.005 dB, a
minute at a time, so that a span of ten minutes is eleven short reads and some sums.

A span's readings are those of the file cut out at its cells, but that the filters know what came before it.
"""

import json
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels, rms, sample_peak
from ispettore.core.measure.active_speech import ActiveSpeech
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.cells import MS_PER_CELL
from ispettore.core.measure.grid import CELL_S, CELLS_PER_SECOND, counts
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.level_meters import derived
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.true_peak import HALF_TAPS, KEPT_ABOVE, TAPS, interpolator

TILE_CELLS = 60 * CELLS_PER_SECOND
STEP_DB, LOWEST_DB = 0.005, -200.0
LONGEST_S = 600.0
"""Spans up to this long are read; a longer one is worth an inspection of its own."""
TOGETHER_CELLS = 15 * TILE_CELLS
LOUDEST_CELLS = 40
"""Where nothing rises above −12 dBFS, the true peak is looked for in so many of a span's loudest cells."""

Read = Callable[[int, int], bytes]
"""Bytes of what `write` wrote, from one place to another."""
Samples = Callable[[int, int], NDArray[np.float32]]
"""Samples of the file, (first, frames) → shape (frames, channels)."""


@dataclass(frozen=True)
class SpanTotals:
    """What `Totals` asks for, of a span; `peak_frame` counts from its start."""

    sum_of_squares: NDArray[np.float64]
    peak_amplitude: NDArray[np.float64]
    peak_frame: NDArray[np.int64]
    frames: int


def write(measured: Measured, file: IO[bytes]) -> None:
    """Pack the levels of a whole file: a line of JSON, and the tiles after it."""
    meters = measured.meters
    cells, facts = meters.cells, measured.inspection.facts
    tiles: list[bytes] = []
    ends: list[int] = []
    for first in range(0, len(cells), TILE_CELLS):
        last = min(first + TILE_CELLS, len(cells))
        fields = [
            *_steps(cells.peak.part(first, last), amplitude=True),
            *_steps(cells.power.part(first, last)),
            *_steps(meters.true_peak.cells.part(first, last), amplitude=True),
            *_steps(meters.filtered.k_power.part(first, last)),
            *_steps(meters.active_speech.magnitude.part(first * MS_PER_CELL, last * MS_PER_CELL), amplitude=True),
        ]
        packed = b"".join(np.diff(field, prepend=np.uint16(0)).astype("<u2").tobytes() for field in fields)
        tiles.append(zlib.compress(packed, 1))
        ends.append((ends[-1] if ends else 0) + len(tiles[-1]))
    header = {"cells": len(cells), "channels": facts.channels, "rate": facts.sample_rate_hz, "frames": facts.frames, "ends": ends}
    file.write(json.dumps(header).encode() + b"\n")
    for tile in tiles:
        file.write(tile)


def _steps(values: NDArray[np.float32], *, amplitude: bool = False) -> NDArray[np.uint16]:
    with np.errstate(divide="ignore"):
        level = (20 if amplitude else 10) * np.log10(values.astype(np.float64))
    kept = np.clip(np.round((level - LOWEST_DB) / STEP_DB), 1, 65_535)
    return np.where(values > 0, kept, 0).astype(np.uint16)


@lru_cache(maxsize=1)
def _powers() -> NDArray[np.float64]:
    """The power, or amplitude squared, of every step; zero for silence."""
    powers = 10 ** ((np.arange(65_536) * STEP_DB + LOWEST_DB) / 10)
    powers[0] = 0.0
    return powers


def _level(steps: NDArray[np.uint16]) -> NDArray[np.float64]:
    return _powers()[steps]


@dataclass(frozen=True)
class SpanLevels:
    """The levels between two cells: `peak` (amplitude) and `power` of shape (channels, cells), the rest (cells,) or (ms,)."""

    first: int
    peak: NDArray[np.float64]
    power: NDArray[np.float64]
    true_peak: NDArray[np.float64]
    k_power: NDArray[np.float64]
    magnitude: NDArray[np.float64]
    sizes: NDArray[np.int64]
    rate_hz: int

    @property
    def start_s(self) -> float:
        return self.first * CELL_S

    @property
    def duration_s(self) -> float:
        return float(self.sizes.sum()) / self.rate_hz


def basis(inspection: Inspection, file: IO[bytes]) -> Basis:
    """What a plan is read from, out of what `write` wrote beside the inspection: to half a step of 0.005 dB as it was measured."""
    header = json.loads(file.readline())
    start, cells = file.tell(), header["cells"]

    def read(first: int, last: int) -> bytes:
        file.seek(start + first)
        return file.read(last - first)

    parts = [_cells(header, read, first, min(first + TOGETHER_CELLS, cells)) for first in range(0, cells, TOGETHER_CELLS)]

    def whole(name: str) -> NDArray[np.float32]:
        joined: NDArray[np.float64] = np.concatenate([getattr(part, name) for part in parts], axis=-1)
        return joined.astype(np.float32)

    return Basis(inspection, whole("peak"), whole("power"), whole("k_power"), counts(header["rate"], 0, cells, header["frames"]))


def cut(header: dict[str, Any], read: Read, *, start_s: float, end_s: float) -> SpanLevels:
    """The levels of the cells that a span touches, at least one; `read` counts from after the line of JSON.

    Raises ValueError where the span lies outside the file or is longer than `LONGEST_S`.
    """
    first, end = int(np.floor(start_s / CELL_S + 1e-6)), int(np.ceil(end_s / CELL_S - 1e-6))
    # A page rounds where a file ends.
    last = max(header["cells"] if end == header["cells"] + 1 else end, first + 1)
    if first < 0 or last > header["cells"] or (last - first) * CELL_S > LONGEST_S + 2 * CELL_S:
        raise ValueError("no such span")
    return _cells(header, read, first, last)


def _cells(header: dict[str, Any], read: Read, first: int, last: int) -> SpanLevels:
    ends, channels = [0, *header["ends"]], header["channels"]
    tiles = range(first // TILE_CELLS, (last - 1) // TILE_CELLS + 1)
    content = read(ends[tiles[0]], ends[tiles[-1] + 1])
    parts: list[list[NDArray[np.uint16]]] = []
    for tile in tiles:
        packed = content[ends[tile] - ends[tiles[0]] : ends[tile + 1] - ends[tiles[0]]]
        steps = np.frombuffer(zlib.decompress(packed), dtype="<u2")
        cells = min(TILE_CELLS, header["cells"] - tile * TILE_CELLS)
        # The last cell of a file may be shorter than five milliseconds: what is left belongs to these.
        sizes = [cells] * (2 * channels + 2)
        fields = np.split(steps, np.cumsum(sizes))
        parts.append([np.cumsum(field, dtype=np.uint16) for field in fields])
    whole = [np.concatenate(each) for each in zip(*parts, strict=True)]
    offset = tiles[0] * TILE_CELLS
    inside = slice(first - offset, last - offset)
    levels = [_level(each[inside]) for each in whole[:-1]]
    return SpanLevels(
        first=first,
        peak=np.sqrt(np.stack(levels[:channels])),
        power=np.stack(levels[channels : 2 * channels]),
        true_peak=np.sqrt(levels[-2]),
        k_power=levels[-1],
        magnitude=np.sqrt(_level(whole[-1][(first - offset) * MS_PER_CELL : (last - offset) * MS_PER_CELL])),
        sizes=counts(header["rate"], first, last, header["frames"]),
        rate_hz=header["rate"],
    )


def readings(levels: SpanLevels, samples: Samples) -> dict[str, Reading]:
    """Every level reading of a span, each with its time in the file. `samples` is asked only where nothing passes −12 dBFS."""
    duration_s = levels.duration_s
    totals = _totals(levels)
    peak = sample_peak.measure(totals, sample_rate_hz=levels.rate_hz)
    level = rms.measure(totals, duration_s=duration_s)
    mean_square = float(totals.sum_of_squares.mean()) / totals.frames
    meter = ActiveSpeech()
    meter.feed(levels.magnitude.astype(np.float32))
    active, activity = meter.result(mean_square=mean_square, duration_s=duration_s)
    true = _true_peak(levels, peak, samples)
    found = derived(peak, true, level, active, activity, levels.k_power, duration_s=duration_s)
    moved = (one.model_copy(update={"start_s": one.start_s + levels.start_s, "end_s": one.end_s + levels.start_s}) for one in found)
    return {one.quantity: one for one in moved}


def _totals(levels: SpanLevels) -> SpanTotals:
    loudest = np.argmax(levels.peak, axis=1)
    starts = np.concatenate(([0], np.cumsum(levels.sizes)))
    return SpanTotals(
        sum_of_squares=levels.power @ levels.sizes,
        peak_amplitude=levels.peak.max(axis=1),
        peak_frame=starts[loudest] + levels.sizes[loudest] // 2,
        frames=int(levels.sizes.sum()),
    )


def _true_peak(levels: SpanLevels, peak: Reading, samples: Samples) -> Reading:
    """The kept true peaks are exact in cells whose samples pass −12 dBFS; a quieter span is looked at anew where it is loudest."""
    best = int(np.argmax(levels.true_peak))
    value, method = float(levels.true_peak[best]), "BS.1770-5 Annex 2 with 16 × oversampling"
    if 0 < value <= KEPT_ABOVE:
        loudest = levels.peak.max(axis=0)
        chosen = np.sort(np.argsort(loudest)[-LOUDEST_CELLS:])
        starts = np.concatenate(([0], np.cumsum(levels.sizes))) + round(levels.start_s * levels.rate_hz)
        for cell in chosen:
            found = between(samples, int(starts[cell]), int(starts[cell + 1]))
            if found > value:
                value, best = found, int(cell)
        method += ", in the loudest 5 ms of a quiet span"
    at_s = (best + 0.5) * CELL_S
    return Reading(
        quantity="true_peak_dbtp",
        value=decibels.of_amplitude(value),
        unit="dBTP",
        method=method,
        start_s=at_s,
        end_s=at_s,
        note=peak.note,
        silence=value == 0,
    )


def between(samples: Samples, first: int, last: int) -> float:
    """The largest value of the wave from frame `first` to `last`, between the samples too (amplitude)."""
    start = max(first - HALF_TAPS + 1, 0)
    near = samples(start, last + HALF_TAPS - start).astype(np.float64)
    largest = float(np.abs(near[first - start : last - start]).max(initial=0.0))
    if len(near) < TAPS:
        return largest
    windows = np.lib.stride_tricks.sliding_window_view(near, TAPS, axis=0)
    return max(largest, float(np.abs(windows @ interpolator().T).max()))
