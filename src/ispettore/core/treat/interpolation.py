"""Missing samples by the sound around them, and a step that looks at a second of sound at a time with a tenth on either side.

Missing samples are those that an autoregressive model of the surroundings errs least by (A. Janssen, R. Veldhuis and L. Vries, IEEE
Trans. Acoustics, Speech and Signal Processing 34(2), 1986).
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.treat.step import Block, Context, Processor

ORDER = 32
MARGIN_S = 0.1


def model_of(sound: NDArray[np.float64]) -> NDArray[np.float64]:
    """Coefficients of the prediction error filter of a stretch of sound, shape (ORDER + 1,), the first 1."""
    spectrum = np.abs(np.fft.rfft(sound * np.hanning(sound.size), 2 * sound.size)) ** 2
    correlation = np.fft.irfft(spectrum)[: ORDER + 1]
    correlation[0] = correlation[0] * (1 + 1e-6) + 1e-12
    return np.concatenate(([1.0], -scipy.linalg.solve_toeplitz(correlation[:ORDER], correlation[1:])))


def missing_samples(sound: NDArray[np.float64], unknown: NDArray[np.int64]) -> NDArray[np.float64]:
    """What the samples at `unknown` are by the rest; the model is made of the sound as it stands, so that a better guess there
    makes a better model."""
    model = model_of(sound)
    # The error's energy is x'Bx with B the correlation of the model's coefficients, a band of its order.
    band = np.correlate(model, model, "full")[ORDER:]
    # Samples further apart than the order have nothing to do with one another: the matrix is a band.
    matrix = np.zeros((ORDER + 1, unknown.size))
    for step in range(min(ORDER + 1, unknown.size)):
        apart = unknown[step:] - unknown[: unknown.size - step]
        matrix[step, : apart.size] = np.where(apart <= ORDER, band[np.minimum(apart, ORDER)], 0.0)
    matrix[0] += 1e-9 * band[0]
    known = sound.copy()
    known[unknown] = 0.0
    kernel = np.concatenate((band[:0:-1], band))
    right = -np.convolve(known, kernel, "same")[unknown]
    return np.asarray(scipy.linalg.solveh_banded(matrix, right, lower=True))


class SecondsProcessor(Processor):
    """Works through whole seconds with a tenth of a second on either side. Latency: that tenth, compensated."""

    def __init__(self, context: Context) -> None:
        super().__init__(context)
        self._position = 0  # of the first frame that is held
        self._margin = round(MARGIN_S * context.sample_rate_hz)
        self._held = np.zeros((0, context.channels), dtype=np.float32)
        self._before = 0  # frames at the start of what is held that were given out already

    def work(self, line: NDArray[np.float32], first: int, last: int, channel: int) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
        """One channel of what is held, of which `first` to `last` is given out: the samples as they are to be, and which of them
        changed; both of the line's shape."""
        raise NotImplementedError

    def feed(self, block: Block) -> Block:
        self._held = np.concatenate((self._held, block))
        parts = []
        while len(self._held) >= self._before + self.sample_rate_hz + self._margin:
            parts.append(self._advance(self.sample_rate_hz))
        return np.concatenate(parts) if parts else block[:0]

    def finish(self) -> Block:
        return self._advance(len(self._held) - self._before)

    def _advance(self, frames: int) -> Block:
        first, last = self._before, self._before + frames
        window = self._held[: last + self._margin]
        out = window[first:last].copy()
        for channel in range(self.channels):
            rebuilt, changed = self.work(window[:, channel], first, last, channel)
            inside = changed[first:last]
            out[inside, channel] = rebuilt[first:last][inside]
        keep = min(self._margin, last)
        self._held = self._held[last - keep :]
        self._position += last - keep
        self._before = keep
        return out

    def within(self, spans: NDArray[np.float64], size: int) -> NDArray[np.int64]:
        """Spans in seconds, shape (spans, 2), as frames of what is held: those that touch it, cut to it."""
        at = np.round(spans * self.sample_rate_hz).astype(np.int64) - self._position
        at = at[(at[:, 1] > 0) & (at[:, 0] < size)]
        return np.clip(at, 0, size)
