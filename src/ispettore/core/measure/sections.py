"""Second-order sections that several meters need."""

import numpy as np
from numpy.typing import NDArray


def high_pass(corner_hz: float, *, sample_rate_hz: int, q: float = 0.5**0.5) -> NDArray[np.float64]:
    """A high-pass by the bilinear transform, exact at its corner (Butterworth by default): [b0 b1 b2 a1 a2].

    >>> z = -1.0  # at half the sample rate nothing is lost
    >>> b0, b1, b2, a1, a2 = high_pass(150, sample_rate_hz=48_000)
    >>> round(float((b0 + b1 / z + b2) / (1 + a1 / z + a2)), 12)
    1.0
    """
    k = np.tan(np.pi * corner_hz / sample_rate_hz)
    a0 = 1 + k / q + k * k
    return np.array([1 / a0, -2 / a0, 1 / a0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0])


def power_response(section: NDArray[np.float64], frequency_hz: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
    """What a section [b0 b1 b2 a1 a2] makes of the power at each frequency, shape (frequencies,)."""
    b0, b1, b2, a1, a2 = section
    z = np.exp(-2j * np.pi * frequency_hz / sample_rate_hz)
    return np.asarray(np.abs((b0 + b1 * z + b2 * z * z) / (1 + a1 * z + a2 * z * z)) ** 2)
