"""Streaming convolution with a symmetric filter, its delay compensated: linear phase, so that a wave stays where it is."""

import numpy as np
import scipy
from numpy.typing import NDArray


class Symmetric:
    """Feed blocks of shape (frames, channels); get them filtered, in place. The filter has an odd number of taps.

    Sums are taken in double precision by overlap-add.
    """

    def __init__(self, taps: NDArray[np.float64], channels: int) -> None:
        self._taps = taps
        self._half = (len(taps) - 1) // 2
        self._past = np.zeros((self._half, channels))

    def feed(self, block: NDArray[np.floating]) -> NDArray[np.float64]:
        """As many frames as are finished."""
        joined = np.concatenate((self._past, block.astype(np.float64)))
        ready = len(joined) - 2 * self._half
        if ready <= 0:
            self._past = joined
            return joined[:0]
        out = scipy.signal.oaconvolve(joined, self._taps[:, None], mode="valid", axes=0)
        self._past = joined[ready:]
        return np.asarray(out)

    def finish(self) -> NDArray[np.float64]:
        """The rest, as if silence followed."""
        return self.feed(np.zeros((self._half, self._past.shape[1])))


def low_pass(corner_hz: float, *, transition_hz: float, sample_rate_hz: int) -> NDArray[np.float64]:
    """Taps that pass what lies below the corner (−6 dB there) and stop, by 74 dB, what lies half the transition above it."""
    half = round(2.75 * sample_rate_hz / transition_hz)
    taps = np.sinc(2 * corner_hz / sample_rate_hz * np.arange(-half, half + 1)) * np.blackman(2 * half + 3)[1:-1]
    return np.asarray(taps / taps.sum())


class Delay:
    """Feed blocks of shape (frames, channels); get them back so many frames later, without what came before the first."""

    def __init__(self, channels: int) -> None:
        self._held = np.zeros((0, channels), dtype=np.float32)

    @property
    def size(self) -> int:
        """Frames that are held."""
        return len(self._held)

    def put(self, block: NDArray[np.float32]) -> None:
        self._held = np.concatenate((self._held, block))

    def beyond(self, frames: int) -> NDArray[np.float32]:
        """What is held without the oldest so many frames; it stays held."""
        return self._held[frames:]

    def take(self, frames: int) -> NDArray[np.float32]:
        """The oldest so many frames."""
        out, self._held = self._held[:frames], self._held[frames:]
        return out
