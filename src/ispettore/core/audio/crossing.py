"""Cross-fades: one sound goes over into another while the power stays, however alike they are."""

import numpy as np
from numpy.typing import NDArray


def alike(out: NDArray[np.floating], into: NDArray[np.floating]) -> float:
    """How alike two sounds of one shape are: their correlation at no delay, from 0 (strangers, or opposed) to 1; of silence 1."""
    power = float(np.sqrt((out * out).sum() * (into * into).sum()))
    return min(max(float((out * into).sum()) / power, 0.0), 1.0) if power > 0 else 1.0


def crossed(out: NDArray[np.floating], into: NDArray[np.floating]) -> NDArray[np.float32]:
    """One sound going over into another, both of shape (frames, channels), all along their length.

    The gains are such that the power stays: of two equals their sum is 1, of two strangers the sum of their squares.

    >>> crossed(np.ones((4, 1)), np.ones((4, 1)))[:, 0].tolist()
    [1.0, 1.0, 1.0, 1.0]
    """
    out, into = out.astype(np.float64), into.astype(np.float64)
    rising = (np.arange(len(out))[:, None] + 0.5) / len(out)
    falling = 1.0 - rising
    whole = np.sqrt(rising**2 + falling**2 + 2 * alike(out, into) * rising * falling)
    return ((out * falling + into * rising) / whole).astype(np.float32)
