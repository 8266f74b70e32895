"""Integrated, momentary and short-term loudness and loudness range.

ITU-R BS.1770-5 (algorithm and both gates), EBU Tech 3341 (windows of 400 ms and 3 s), EBU Tech 3342 (range). All from the
K-weighted power of the 5 ms cells: windows slide by 10 ms for the maxima, by 100 ms for gating.
"""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.reading import Reading

OFFSET_LU = -0.691
ABSOLUTE_GATE_LUFS = -70.0
MOMENTARY_CELLS, SHORT_TERM_CELLS, STEP_CELLS, SLIDE_CELLS = 80, 600, 20, 2
QUIET = "nothing rises above the absolute gate of −70 LUFS"


def windows(power: NDArray[np.floating], *, cells: int, step: int) -> NDArray[np.float64]:
    """Mean power of each window of `cells`, moved by `step`; shape (windows,), empty where the file is shorter than one."""
    if power.size < cells:
        return np.zeros(0)
    total = np.concatenate(([0.0], np.cumsum(power, dtype=np.float64)))
    starts = np.arange(0, power.size - cells + 1, step)
    # A difference of sums may fall a hair below nothing after long silence.
    return np.maximum((total[starts + cells] - total[starts]) / cells, 0.0)


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


def integrated(power: NDArray[np.floating], *, duration_s: float) -> Reading:
    """`integrated_loudness_lufs` over 400 ms blocks that overlap by 75 %, gates at −70 LUFS and −10 LU."""
    blocks = gated(windows(power, cells=MOMENTARY_CELLS, step=STEP_CELLS), relative_lu=-10)
    short = power.size < MOMENTARY_CELLS
    return Reading(
        quantity="integrated_loudness_lufs",
        value=lufs(float(blocks.mean())) if blocks.size else None,
        unit="LUFS",
        method="BS.1770-5, 400 ms blocks, gates at −70 LUFS and −10 LU; a mono file counts as one loudspeaker",
        end_s=duration_s,
        note=None if blocks.size else ("shorter than one block of 400 ms" if short else f"silence: {QUIET}"),
        silence=not blocks.size and not short,
    )


def momentary_max(power: NDArray[np.floating]) -> Reading:
    """`momentary_max_lufs`: the loudest 400 ms, sliding by 10 ms (Tech 3341, 2.2)."""
    return _loudest("momentary_max_lufs", power, MOMENTARY_CELLS, "loudest 400 ms, sliding by 10 ms")


def short_term_max(power: NDArray[np.floating]) -> Reading:
    """`short_term_max_lufs`: the loudest 3 s, sliding by 10 ms (Tech 3341, 2.2)."""
    return _loudest("short_term_max_lufs", power, SHORT_TERM_CELLS, "loudest 3 s, sliding by 10 ms")


def _loudest(quantity: str, power: NDArray[np.floating], cells: int, method: str) -> Reading:
    means = windows(power, cells=cells, step=SLIDE_CELLS)
    best = int(np.argmax(means)) if means.size else 0
    value = lufs(float(means[best])) if means.size else None
    start = best * SLIDE_CELLS * CELL_S
    return Reading(
        quantity=quantity,
        value=value,
        unit="LUFS",
        method=f"BS.1770-5 K-weighting, {method}",
        start_s=start if means.size else 0.0,
        end_s=start + cells * CELL_S if means.size else power.size * CELL_S,
        note=None if value is not None else ("silence" if means.size else f"shorter than {cells * CELL_S:g} s"),
        silence=bool(means.size) and value is None,
    )


def loudness_range(power: NDArray[np.floating], *, duration_s: float) -> Reading:
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
        note=None if value is not None else "shorter than 3 s" if power.size < SHORT_TERM_CELLS else f"silence: {QUIET}",
    )
