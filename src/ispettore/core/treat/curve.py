"""A gain that was drawn beforehand, applied as the sound passes: for steps that know the whole file when they start."""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELL_S
from ispettore.core.treat.step import Block, Context, Processor


class CurveProcessor(Processor):
    """Applies a gain in dB for each 5 ms cell, shape (cells,), in straight lines from the middle of one cell to the next.

    Exactly 0 dB leaves samples as they are.
    """

    def __init__(self, context: Context, gain_db: NDArray[np.floating]) -> None:
        super().__init__(context)
        self._gain = np.asarray(gain_db, dtype=np.float32)
        self._frames = 0

    def feed(self, block: Block) -> Block:
        if len(block) == 0 or self._gain.size == 0:
            return block
        per_cell = CELL_S * self.sample_rate_hz
        first = self._frames
        self._frames += len(block)
        low = max(int(first / per_cell) - 1, 0)
        high = min(int(self._frames / per_cell) + 2, self._gain.size)
        part = self._gain[low:high]
        if part.size == 0:
            part = self._gain[-1:]
            low = self._gain.size - 1
        if not part.any():
            return block
        at = (np.arange(first, self._frames) + 0.5) / per_cell - 0.5
        gain = np.interp(at, np.arange(low, low + part.size), part)
        return np.asarray(block * (10 ** (gain / 20))[:, None], dtype=np.float32)

    def reduction_db(self) -> NDArray[np.float32]:
        return self._gain


def eased(gain_db: NDArray[np.floating], *, cells: int) -> NDArray[np.float64]:
    """The curve with its corners rounded over so many cells (two means of half as many), never beyond what it was between."""
    width = max(1, cells // 2)
    once = scipy.ndimage.uniform_filter1d(np.asarray(gain_db, dtype=np.float64), width, mode="nearest")
    return np.asarray(scipy.ndimage.uniform_filter1d(once, width, mode="nearest"))
