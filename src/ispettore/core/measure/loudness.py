"""Integrated, momentary and short-term loudness and loudness range.

ITU-R BS.1770-5 (algorithm and both gates), EBU Tech 3341 (windows of 400 ms and 3 s), EBU Tech 3342 (range). All from the
K-weighted power of the 5 ms cells: windows slide by 10 ms for the maxima, by 100 ms for gating.
"""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELL_S, Series, stretches
from ispettore.core.measure.reading import Reading

OFFSET_LU = -0.691
ABSOLUTE_GATE_LUFS = -70.0
MOMENTARY_CELLS, SHORT_TERM_CELLS, STEP_CELLS, SLIDE_CELLS = 80, 600, 20, 2
QUIET = "nothing rises above the absolute gate of −70 LUFS"


Powers = Series | NDArray[np.floating]
"""K-weighted power of each cell: as a series, or as an array of shape (cells,)."""


def windows(power: Powers, *, cells: int, step: int) -> NDArray[np.float64]:
    """Mean power of each window of `cells`, moved by `step`; shape (windows,), empty where the file is shorter than one."""
    parts = [means for _, means in _stretches(power, cells, step)]
    return np.concatenate(parts) if parts else np.zeros(0)


def _stretches(power: Powers, cells: int, step: int) -> Iterator[tuple[int, NDArray[np.float64]]]:
    """The windows that start within each stretch: the first one's cell, and their means."""
    for first, last, _, after in stretches(len(power), around=cells - 1):
        values = power.part(first, after)[0] if isinstance(power, Series) else power[first:after]
        starts = np.arange(0, min(last - first, values.size - cells + 1), step)
        if starts.size == 0:
            continue
        total = np.concatenate(([0.0], np.cumsum(values, dtype=np.float64)))
        # A difference of sums may fall a hair below nothing after long silence.
        yield first, np.maximum((total[starts + cells] - total[starts]) / cells, 0.0)


def series(power: Powers) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Momentary and short-term loudness in LUFS every 100 ms, −∞ in silence; window k starts at k × 100 ms."""
    momentary = windows(power, cells=MOMENTARY_CELLS, step=STEP_CELLS)
    short_term = windows(power, cells=SHORT_TERM_CELLS, step=STEP_CELLS)
    with np.errstate(divide="ignore"):
        return tuple((OFFSET_LU + 10 * np.log10(each)).astype(np.float32) for each in (momentary, short_term))  # type: ignore[return-value]


def lufs(power: float) -> float | None:
    """BS.1770-5 equation 2 for a weighted mean square; None for none."""
    return OFFSET_LU + 10 * float(np.log10(power)) if power > 0 else None


def power_of(loudness_lufs: float) -> float:
    return float(10 ** ((loudness_lufs - OFFSET_LU) / 10))


def gated(blocks: NDArray[np.float64], *, relative_lu: float) -> NDArray[np.float64]:
    """The blocks above the absolute gate and above `relative_lu` below their own mean (BS.1770-5, equations 5 to 7)."""
    loud = blocks[blocks > power_of(ABSOLUTE_GATE_LUFS)]
    if loud.size == 0:
        return loud
    above: NDArray[np.float64] = loud[loud > loud.mean() * 10 ** (relative_lu / 10)]
    return above


def integrated(power: Powers, *, duration_s: float) -> Reading:
    """`integrated_loudness_lufs` over 400 ms blocks that overlap by 75 %, gates at −70 LUFS and −10 LU."""
    blocks = gated(windows(power, cells=MOMENTARY_CELLS, step=STEP_CELLS), relative_lu=-10)
    short = len(power) < MOMENTARY_CELLS
    return Reading(
        quantity="integrated_loudness_lufs",
        value=lufs(float(blocks.mean())) if blocks.size else None,
        unit="LUFS",
        method="BS.1770-5, 400 ms blocks, gates at −70 LUFS and −10 LU; a mono file counts as one loudspeaker",
        end_s=duration_s,
        note=None if blocks.size else ("shorter than one block of 400 ms" if short else f"silence: {QUIET}"),
        silence=not blocks.size and not short,
    )


def momentary_max(power: Powers) -> Reading:
    """`momentary_max_lufs`: the loudest 400 ms, sliding by 10 ms (Tech 3341, 2.2)."""
    return _loudest("momentary_max_lufs", power, MOMENTARY_CELLS, "loudest 400 ms, sliding by 10 ms")


def short_term_max(power: Powers) -> Reading:
    """`short_term_max_lufs`: the loudest 3 s, sliding by 10 ms (Tech 3341, 2.2)."""
    return _loudest("short_term_max_lufs", power, SHORT_TERM_CELLS, "loudest 3 s, sliding by 10 ms")


def _loudest(quantity: str, power: Powers, cells: int, method: str) -> Reading:
    best: tuple[float, int] | None = None
    for first, means in _stretches(power, cells, SLIDE_CELLS):
        loudest = int(np.argmax(means))
        if best is None or means[loudest] > best[0]:
            best = (float(means[loudest]), first + loudest * SLIDE_CELLS)
    value = lufs(best[0]) if best else None
    start = best[1] * CELL_S if best else 0.0
    return Reading(
        quantity=quantity,
        value=value,
        unit="LUFS",
        method=f"BS.1770-5 K-weighting, {method}",
        start_s=start,
        end_s=start + cells * CELL_S if best else len(power) * CELL_S,
        note=None if value is not None else ("silence" if best else f"shorter than {cells * CELL_S:g} s"),
        silence=best is not None and value is None,
    )


def loudness_range(power: Powers, *, duration_s: float) -> Reading:
    """`loudness_range_lu`: Tech 3342, 10th to 95th percentile of short-term loudness above −70 LUFS and −20 LU."""
    blocks = gated(windows(power, cells=SHORT_TERM_CELLS, step=STEP_CELLS), relative_lu=-20)
    value = None
    if blocks.size:
        low, high = np.percentile(10 * np.log10(blocks), (10, 95))
        value = float(high - low)
    return Reading(
        quantity="loudness_range_lu",
        value=value,
        unit="LU",
        method="EBU Tech 3342, short-term loudness every 100 ms, gates at −70 LUFS and −20 LU, 10 % to 95 %",
        end_s=duration_s,
        note=None if value is not None else "shorter than 3 s" if len(power) < SHORT_TERM_CELLS else f"silence: {QUIET}",
    )
