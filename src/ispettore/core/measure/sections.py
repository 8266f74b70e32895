"""Second-order sections that several meters need."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel


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


def low_pass(corner_hz: float, *, sample_rate_hz: float, order: int) -> NDArray[np.float64]:
    """A Butterworth low-pass of an even order by the bilinear transform, exact at its corner, shape (order / 2, 5).

    >>> [[b0, b1, b2, a1, a2]] = low_pass(150, sample_rate_hz=48_000, order=2)
    >>> round(float((b0 + b1 + b2) / (1 + a1 + a2)), 9)
    1.0
    """
    k = np.tan(np.pi * corner_hz / sample_rate_hz)
    damping = 2 * np.cos(np.pi * (2 * np.arange(order // 2) + 1) / (2 * order))  # 1 / Q of each pair of poles
    a0 = 1 + k * damping + k * k
    b0, a1 = k * k / a0, 2 * (k * k - 1) / a0
    return np.stack((b0, 2 * b0, b0, a1, (1 - k * damping + k * k) / a0), axis=1)


def blocker(corner_hz: float, *, sample_rate_hz: float) -> NDArray[np.float64]:
    """A high-pass of first order, which takes a constant offset out: [b0 b1 0 a1 0].

    >>> b0, b1, *_ = blocker(8, sample_rate_hz=48_000)
    >>> float(b0 + b1)
    0.0
    """
    k = np.tan(np.pi * corner_hz / sample_rate_hz)
    return np.array([1.0, -1.0, 0.0, k - 1, 0.0] / (1 + k))


@kernel
def through(x: NDArray[np.float64], sections: NDArray[np.float64], state: NDArray[np.float64]) -> NDArray[np.float64]:
    """x, shape (rows, samples), through sections [b0 b1 b2 a1 a2] one after another (transposed direct form II); `state`, shape
    (rows, sections, 2), is moved on."""
    out = x.copy()
    for row in range(x.shape[0]):
        line = out[row]
        for section in range(sections.shape[0]):
            b0, b1, b2, a1, a2 = sections[section]
            s1, s2 = state[row, section, 0], state[row, section, 1]
            for n in range(line.size):
                v = line[n]
                y = b0 * v + s1
                s1 = (b1 * v + s2) - a1 * y
                s2 = b2 * v - a2 * y
                line[n] = y
            # Values this small are nothing but would make the filter crawl.
            state[row, section, 0] = s1 if abs(s1) > 1e-30 else 0.0
            state[row, section, 1] = s2 if abs(s2) > 1e-30 else 0.0
    return out


def power_response(section: NDArray[np.float64], frequency_hz: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
    """What a section [b0 b1 b2 a1 a2] makes of the power at each frequency, shape (frequencies,)."""
    b0, b1, b2, a1, a2 = section
    z = np.exp(-2j * np.pi * frequency_hz / sample_rate_hz)
    return np.asarray(np.abs((b0 + b1 * z + b2 * z * z) / (1 + a1 * z + a2 * z * z)) ** 2)
