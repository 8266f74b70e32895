"""Second-order sections over sound as it passes: what every minimum-phase filter runs."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.treat.step import Block, Context, Processor

NOTHING = (1.0, 0.0, 0.0, 1.0, 0.0, 0.0)


class SectionsProcessor(Processor):
    """Filters by sections of shape (sections, 6), in double precision; no section passes everything through."""

    def __init__(self, context: Context, sections: NDArray[np.float64]) -> None:
        super().__init__(context)
        pairs = np.vstack((sections, [NOTHING])) if len(sections) % 2 else np.asarray(sections, dtype=np.float64)
        self._sections = np.ascontiguousarray(pairs / pairs[:, 3:4])
        self._state = np.zeros((context.channels, len(pairs), 2))

    def feed(self, block: Block) -> Block:
        if len(block) == 0 or len(self._sections) == 0:
            return block
        out = cascade(np.ascontiguousarray(block), self._sections, self._state)
        # Decaying state must never crawl through numbers too small to matter.
        self._state[np.abs(self._state) < 1e-30] = 0.0
        return out


@kernel
def cascade(x: NDArray[np.float32], sections: NDArray[np.float64], state: NDArray[np.float64]) -> NDArray[np.float32]:
    """x, shape (frames, channels), through an even number of sections [b0 b1 b2 1 a1 a2] one after another (transposed direct
    form II); `state`, shape (channels, sections, 2), is moved on.

    Two sections share a loop: while one waits for its own feedback the other is worked out.
    """
    out = np.empty_like(x)
    line = np.empty(x.shape[0])
    for c in range(x.shape[1]):
        for n in range(x.shape[0]):
            line[n] = x[n, c]
        for pair in range(0, sections.shape[0], 2):
            b0, b1, b2, _, a1, a2 = sections[pair]
            d0, d1, d2, _, e1, e2 = sections[pair + 1]
            s1, s2 = state[c, pair, 0], state[c, pair, 1]
            t1, t2 = state[c, pair + 1, 0], state[c, pair + 1, 1]
            for n in range(x.shape[0]):
                v = line[n]
                y = b0 * v + s1
                s1 = (b1 * v + s2) - a1 * y
                s2 = b2 * v - a2 * y
                z = d0 * y + t1
                t1 = (d1 * y + t2) - e1 * z
                t2 = d2 * y - e2 * z
                line[n] = z
            state[c, pair, 0], state[c, pair, 1] = s1, s2
            state[c, pair + 1, 0], state[c, pair + 1, 1] = t1, t2
        for n in range(x.shape[0]):
            out[n, c] = np.float32(line[n])
    return out
