"""Second-order sections over sound as it passes: what every minimum-phase filter runs."""

import numpy as np
from numpy.typing import NDArray
from scipy import signal

from ispettore.core.treat.step import Block, Context, Processor


class SectionsProcessor(Processor):
    """Filters by sections of shape (sections, 6), in double precision; no section passes everything through."""

    def __init__(self, context: Context, sections: NDArray[np.float64]) -> None:
        super().__init__(context)
        self._sections = sections
        self._state = np.zeros((len(sections), 2, context.channels))

    def feed(self, block: Block) -> Block:
        if len(block) == 0 or len(self._sections) == 0:
            return block
        out, self._state = signal.sosfilt(self._sections, block.astype(np.float64), axis=0, zi=self._state)
        # Decaying state must never crawl through numbers too small to matter.
        self._state[np.abs(self._state) < 1e-30] = 0.0
        return np.asarray(out, dtype=np.float32)
