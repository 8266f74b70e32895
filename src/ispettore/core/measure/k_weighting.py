"""K-weighting (ITU-R BS.1770-5, Annex 1, stage 1 and 2) designed for the file's own sample rate.

The standard gives coefficients for 48 kHz. From there up, the same analogue prototype by the bilinear transform follows them.
Below, the bilinear transform bends the shelf; there the second-order section is fitted to the magnitude response that the 48 kHz
section has at the same frequency (a rational fit in cos ω after Sanathanan and Koerner, IEEE Trans. Automatic Control 8(1), 1963,
and a spectral factorisation), so that speech reads alike at every rate.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ispettore.core.audio.layout import LAYOUTS

# BS.1770-5 Annex 1, tables 1 and 2: b0 b1 b2 a1 a2 at 48 kHz.
SHELF_48K = np.array([1.53512485958697, -2.69169618940638, 1.19839281085285, -1.69065929318241, 0.73248077421585])
HIGH_PASS_48K = np.array([1.0, -2.0, 1.0, -1.99004745483398, 0.99007225036621])

# The analogue prototypes behind those tables.
SHELF_HZ, SHELF_DB, SHELF_Q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
HIGH_PASS_HZ, HIGH_PASS_Q = 38.13547087602444, 0.5003270373238773

# BS.1770-5 Annex 1, table 3; the low-frequency channel does not count.
WEIGHTS = {"M": 1.0, "L": 1.0, "R": 1.0, "C": 1.0, "LFE": 0.0, "Ls": 1.41, "Rs": 1.41}
CHANNEL_WEIGHTS = {channels: tuple(WEIGHTS[each] for each in layout) for channels, layout in LAYOUTS.items()}


def response(section: NDArray[np.float64], frequency_hz: NDArray[np.float64], sample_rate_hz: float) -> NDArray[np.float64]:
    """Magnitude of one section [b0 b1 b2 a1 a2] at frequencies in Hz."""
    z = np.exp(-2j * np.pi * frequency_hz / sample_rate_hz)
    b0, b1, b2, a1, a2 = section
    return np.asarray(np.abs((b0 + b1 * z + b2 * z * z) / (1 + a1 * z + a2 * z * z)))


@lru_cache(maxsize=32)
def _design(sample_rate_hz: int) -> tuple[tuple[float, ...], tuple[float, ...]]:
    if sample_rate_hz == 48_000:
        return tuple(SHELF_48K), tuple(HIGH_PASS_48K)
    high_pass = _bilinear_high_pass(sample_rate_hz)
    if sample_rate_hz > 48_000:
        return _bilinear_shelf(sample_rate_hz), high_pass
    return _fitted(SHELF_48K, sample_rate_hz), high_pass


def design(sample_rate_hz: int) -> NDArray[np.float64]:
    """Both sections for a rate in Hz: shape (2, 5), rows [b0 b1 b2 a1 a2].

    >>> float(design(48_000)[0, 0])
    1.53512485958697
    """
    return np.array(_design(sample_rate_hz))


def _bilinear_shelf(rate: int) -> tuple[float, ...]:
    k = np.tan(np.pi * SHELF_HZ / rate)
    high = 10 ** (SHELF_DB / 20)
    band = high**0.4996667741545416
    a0 = 1 + k / SHELF_Q + k * k
    return (
        (high + band * k / SHELF_Q + k * k) / a0,
        2 * (k * k - high) / a0,
        (high - band * k / SHELF_Q + k * k) / a0,
        2 * (k * k - 1) / a0,
        (1 - k / SHELF_Q + k * k) / a0,
    )


def _bilinear_high_pass(rate: int) -> tuple[float, ...]:
    k = np.tan(np.pi * HIGH_PASS_HZ / rate)
    a0 = 1 + k / HIGH_PASS_Q + k * k
    a1, a2 = 2 * (k * k - 1) / a0, (1 - k / HIGH_PASS_Q + k * k) / a0
    # The standard's high-pass has gain above 1 in its pass band (b = 1, −2, 1): keep that gain, at 1 kHz, for every rate.
    section = np.array([1.0, -2.0, 1.0, a1, a2])
    at = np.array([1_000.0])
    gain = float(response(HIGH_PASS_48K, at, 48_000)[0] / response(section, at, rate)[0])
    return (gain, -2 * gain, gain, a1, a2)


def _fitted(target: NDArray[np.float64], rate: int) -> tuple[float, ...]:
    f = np.concatenate((np.linspace(0, rate / 2, 400), np.geomspace(200, 6_000, 400).clip(max=rate / 2)))
    power = response(target, f, 48_000) ** 2
    c = np.cos(2 * np.pi * f / rate)
    weight = np.ones_like(f)
    for _ in range(12):
        columns = np.stack((np.ones_like(c), c, c * c, -power * c, -power * c * c), axis=1)
        solution = np.linalg.lstsq(columns * (weight / power)[:, None], power * weight / power, rcond=None)[0]
        weight = 1 / np.maximum(1 + solution[3] * c + solution[4] * c * c, 1e-9)
    b = _factor(solution[:3])
    a = _factor(np.array([1.0, solution[3], solution[4]]))
    return (b[0] / a[0], b[1] / a[0], b[2] / a[0], a[1] / a[0], a[2] / a[0])


def _factor(p: NDArray[np.float64]) -> NDArray[np.float64]:
    """The minimum-phase polynomial [q0 q1 q2] in 1/z with |q|² = p0 + p1·cos ω + p2·cos² ω."""
    roots = np.roots([p[2] / 4, p[1] / 2, p[0] + p[2] / 2, p[1] / 2, p[2] / 4])
    inside = roots[np.argsort(np.abs(roots))][:2]
    polynomial = np.real(np.poly(inside))
    return np.asarray(polynomial * np.sqrt(p.sum()) / abs(polynomial.sum()))
