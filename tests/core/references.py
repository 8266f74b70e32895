"""The kernels once more, plainly: no blocks, no state, no shortcuts. Slow, and easy to hold beside the standard."""

import numpy as np
from scipy import linalg, signal

from ispettore.core.measure import true_peak
from ispettore.core.measure.grid import borders


def starts(frames: int, rate: int, per_second: int = 200) -> np.ndarray:
    """The first sample of each cell (or millisecond) of a file."""
    whole = [k * rate + borders(rate, per_second=per_second)[:-1] for k in range(frames // rate + 1)]
    every = np.concatenate(whole)
    return every[every < frames]


def bends(wave: np.ndarray, rate: int) -> np.ndarray:
    """The largest |second difference| in each millisecond, shape (channels, ms); the first two samples go on as they go."""
    x = wave.T.astype(np.float64)
    step = x[:, 1] - x[:, 0]
    before = np.stack((x[:, 0] - 2 * step, x[:, 0] - step), axis=1)
    second = np.abs(np.diff(np.concatenate((before, x), axis=1), n=2))
    return np.maximum.reduceat(second, starts(len(wave), rate, 1_000), axis=1)


def magnitudes(wave: np.ndarray, rate: int) -> np.ndarray:
    """The mean over each millisecond of the root mean square of the channels, shape (ms,)."""
    at = starts(len(wave), rate, 1_000)
    combined = np.sqrt((wave.astype(np.float64) ** 2).mean(axis=1))
    return np.add.reduceat(combined, at) / np.diff(np.append(at, len(wave)))


def active_speech(wave: np.ndarray, rate: int) -> tuple[float, float]:
    """ITU-T P.56 (12/2011), 7.3: level in dB and activity (0 to 1), sample by sample, thresholds 6.02 dB apart."""
    combined = np.sqrt((wave.astype(np.float64) ** 2).mean(axis=1))
    g = np.exp(-1 / (rate * 0.03))
    envelope = signal.lfilter([1 - g], [1, -g], signal.lfilter([1 - g], [1, -g], combined))
    hangover = round(0.2 * rate)
    thresholds = 2.0 ** np.arange(-15, 1)
    active = np.zeros(thresholds.size)
    for j, threshold in enumerate(thresholds):
        above = np.flatnonzero(envelope >= threshold)
        if above.size:
            gaps = np.minimum(np.diff(np.append(above, combined.size)), hangover + 1)
            active[j] = gaps.sum()
    total = float(np.sum(combined**2))
    levels = 10 * np.log10(total / np.maximum(active, 1))
    margin = levels - 20 * np.log10(thresholds)
    for j in range(1, thresholds.size):
        if active[j] > 0 and margin[j] <= 15.9 < margin[j - 1]:
            part = (margin[j - 1] - 15.9) / (margin[j - 1] - margin[j])
            level = levels[j - 1] + part * (levels[j] - levels[j - 1])
            return level, 10 ** ((10 * np.log10(total / combined.size) - level) / 10)
    raise ValueError("nothing stands out as speech")


def decimated(wave: np.ndarray, taps: np.ndarray, step: int) -> np.ndarray:
    """The whole file through a linear-phase low-pass, its delay taken out, every `step`-th sample: shape (channels, samples)."""
    full = np.stack([np.convolve(channel.astype(np.float64), taps.astype(np.float64)) for channel in wave.T])
    return full[:, taps.size // 2 :][:, : len(wave) : step]


def third_octaves(wave: np.ndarray, rate: int, length: int) -> np.ndarray:
    """Mean squares in bands of base-ten third-octaves from 100 Hz (IEC 61260-1), of every second Hann frame: (bands, frames)."""
    window = np.hanning(length + 1)[:-1]
    centres = [1_000 * 10 ** (k / 10) for k in range(-10, 14) if 1_000 * 10 ** (k / 10) < rate / 2]
    columns = []
    for first in range(0, len(wave) - 2 * length + 1, 2 * length):
        power = 0
        for channel in wave.T:
            spectrum = np.fft.rfft(channel[first : first + length].astype(np.float64) * window)
            power = power + 2 * np.abs(spectrum) ** 2 / (length * np.sum(window**2)) / wave.shape[1]
        column = []
        for centre in centres:
            low, high = centre * 10 ** (-1 / 20), min(centre * 10 ** (1 / 20), rate / 2)
            total = 0.0
            for k, value in enumerate(power):
                overlap = min((k + 0.5) * rate / length, high) - max((k - 0.5) * rate / length, low)
                total += value * max(overlap, 0) / (rate / length)
            column.append(total)
        columns.append(column)
    return np.array(columns).T


def true_peaks(wave: np.ndarray, rate: int) -> np.ndarray:
    """The true peak of each cell as amplitude, every phase of every sample interpolated: shape (cells,), the largest channel's."""
    taps = true_peak.interpolator().astype(np.float64)
    at = starts(len(wave), rate)
    cells = np.maximum.reduceat(np.abs(wave), at).max(axis=1).astype(np.float64)
    windows = np.lib.stride_tricks.sliding_window_view(wave.astype(np.float64), true_peak.TAPS, axis=0)
    between = np.abs(windows @ taps.T).max(axis=(1, 2))
    for k, value in enumerate(between):
        cell = np.searchsorted(at, k + true_peak.HALF_TAPS - 1, side="right") - 1
        cells[cell] = max(cells[cell], value)
    return cells


def flat_tops(wave: np.ndarray, step: float) -> list[tuple[int, int]]:
    """First sample and length of each run of three or more samples within `step` at a crest that arrives and leaves steeply.

    Only what stands within 0.1 % and two steps of the largest sample of its sign, above −50 dBFS; for one channel. Steeply: within
    two samples by 16 steps, where a step is no smaller than the smallest change within 32 samples.
    """
    found = []
    for sign in (1.0, -1.0):
        x = sign * wave
        floor = max(0.003, 0.999 * x.max() - 2 * step)
        for i in np.flatnonzero(x >= floor):
            if i < 32 or abs(x[i] - x[i - 1]) <= step * 1.001:
                continue
            end = i + 1
            while end + 2 < x.size and np.ptp(x[i : end + 1]) <= step * 1.001:
                end += 1
            changes = np.abs(np.diff(x[i - 32 : end + 32]))
            steep = 16 * max(1.001 * step, min(2.0**-7, changes[changes > 0].min()))
            low = x[i:end].min()
            if end - i >= 3 and low - x[i - 2] >= steep and low - x[end + 1] >= steep:
                found.append((int(i), int(end - i)))
    return sorted(found)


def repeats(wave: np.ndarray, shortest: int, longest: int) -> list[tuple[int, int]]:
    """Start and length of stretches that equal what lies one `lag` before, for at least about that lag; for one channel."""
    found = []
    for lag in range(shortest, longest):
        equal = wave[lag:] == wave[:-lag]
        edges = np.flatnonzero(np.diff(np.concatenate(([0], equal.view(np.int8), [0])))).reshape(-1, 2)
        for first, last in edges[np.diff(edges, axis=1)[:, 0] >= max(0.95 * lag, shortest)]:
            found.append((int(first + lag), int(last - first)))
    return sorted(found)


def stands_out(wave: np.ndarray, middle: int, rate: int, order: int, sides: str = "both") -> tuple[float, float, float, float]:
    """How far the matched residual of linear prediction within 1.5 ms of a sample stands above that 2 to 16 ms away, in dB; the
    amplitude of an impulse that would, the level around and the largest sample near. Prediction learns from 2 to 25 ms `before`,
    `after`, or `both`."""
    half, apart = round(0.025 * rate), round(0.002 * rate)
    padded = np.pad(wave.astype(np.float64), 2 * half)
    part = padded[middle + half : middle + 3 * half + 1]
    bell = np.hanning(half - apart + 3)[1:-1]
    window = np.concatenate((bell * (sides != "after"), np.zeros(2 * apart - 1), bell * (sides != "before")))
    shaped = part * window
    r = np.correlate(shaped, shaped, "full")[part.size - 1 : part.size + order]
    r[0] = r[0] * (1 + 1e-5) + 1e-15
    weights = np.concatenate(([1], -linalg.solve_toeplitz(r[:order], r[1:])))
    left = np.convolve(part, weights)[: part.size]
    matched = np.abs(np.correlate(left, weights, "full")[order : order + part.size])
    ms = rate / 1_000
    near, away, reach = int(1.5 * ms), int(2 * ms), int(16 * ms)
    where = half - near + int(np.argmax(matched[half - near : half + near + 1]))
    others = np.concatenate((matched[where - reach : where - away], matched[where + away : where + reach]))
    pieces = part[: part.size // 10 * 10].reshape(10, -1)
    return (
        20 * float(np.log10((matched[where] + 1e-12) / (others.max() + 1e-9))),
        float(matched[where] / np.sum(weights**2)),
        float(np.sqrt(np.sort(np.mean(pieces**2, axis=1))[7])),
        float(np.abs(part[half - near : half + near + 1]).max()),
    )
