"""Decibels and back. Full scale is sample value 1.0."""

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray


def of_amplitude(amplitude: float) -> float | None:
    """20·log10, or None for no amplitude at all.

    >>> of_amplitude(0.5)
    -6.020599913279624
    >>> of_amplitude(0.0) is None
    True
    """
    return 20 * math.log10(amplitude) if amplitude > 0 else None


def of_power(power: float) -> float | None:
    """10·log10 of a mean square, or None for none.

    >>> round(of_power(0.5), 2)
    -3.01
    """
    return 10 * math.log10(power) if power > 0 else None


def levels(powers: ArrayLike, *, floor_db: float = -160.0) -> NDArray[np.float64]:
    """10·log10 of an array of mean squares, with nothing below `floor_db` (for finding things, never for a reading)."""
    return 10 * np.log10(np.maximum(np.asarray(powers, dtype=np.float64), 10 ** (floor_db / 10)))


def to_amplitude(level_db: float) -> float:
    """10^(dB/20).

    >>> to_amplitude(-20)
    0.1
    """
    return float(10 ** (level_db / 20))


def middle(values: NDArray[np.floating]) -> float:
    """The upper median of values, shape (n,), n > 0: what half of them do not exceed. Cheaper than the mean of both middles.

    >>> middle(np.array([3.0, 1.0, 2.0]))
    2.0
    """
    return float(np.partition(values, values.size // 2)[values.size // 2])
