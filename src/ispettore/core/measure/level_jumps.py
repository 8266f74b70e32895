"""Level jumps: neighbouring 10 s of speech that differ by more than 3 LU."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELL_S, Series, stretches
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding
from ispettore.core.measure.speech import Passages

PIECE_CELLS = 50  # 250 ms of speech
PIECES = 40  # 10 s
JUMP_LU = 3.0


def read(heard: Heard) -> Read:
    """Jumps of the voice's level."""
    return (), findings(heard.levels.filtered.k_power, heard.passages)


def findings(k_power: Series, passages: Passages) -> list[Finding]:
    """Where the next 10 s of speech depart most from the last 10 s, K-weighted; measure in LU, with its sign."""
    energy, cells = _pieces(k_power, passages)
    if energy.size < 2 * PIECES:
        return []
    total = np.concatenate(([0.0], np.cumsum(energy)))
    at = np.arange(PIECES, energy.size - PIECES + 1)
    before, after = total[at] - total[at - PIECES], total[at + PIECES] - total[at]
    change = 10 * np.log10(np.maximum(after, 1e-12) / np.maximum(before, 1e-12))
    found = []
    left = np.abs(change)
    while left.size and left.max() > JUMP_LU:
        best = int(np.argmax(left))
        start = float(cells[at[best]]) * CELL_S
        found.append(
            Finding(kind="level-jump", start_s=start, end_s=start, measure=float(change[best]), unit="LU", severity="warning")
        )
        left[max(best - PIECES, 0) : best + PIECES + 1] = 0.0
    return sorted(found, key=lambda finding: finding.start_s)


def _pieces(k_power: Series, passages: Passages) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Mean power of each quarter second of speech, pauses left out, and the cell at which each starts."""
    energy, cells = [], []
    power_left, cells_left = np.zeros(0), np.zeros(0, dtype=np.int64)
    for first, last, _, _ in stretches(passages.cells):
        mask = passages.speech_mask(first, last)
        power = np.concatenate((power_left, k_power.part(first, last)[0][mask].astype(np.float64)))
        where = np.concatenate((cells_left, np.flatnonzero(mask) + first))
        whole = power.size // PIECE_CELLS * PIECE_CELLS
        energy.append(power[:whole].reshape(-1, PIECE_CELLS).mean(axis=1))
        cells.append(where[:whole:PIECE_CELLS])
        power_left, cells_left = power[whole:], where[whole:]
    return (np.concatenate(energy), np.concatenate(cells)) if energy else (np.zeros(0), np.zeros(0, dtype=np.int64))
