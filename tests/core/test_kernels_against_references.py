"""Each kernel agrees with a plain NumPy or SciPy reference, for any signal, rate and block size."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from ispettore.core.measure import true_peak
from ispettore.core.measure.cells import Cells
from ispettore.core.measure.filtered import VOICE_HZ, Filtered
from ispettore.core.measure.grid import borders, seconds
from ispettore.core.measure.inspection import Meters
from ispettore.core.measure.k_weighting import design
from ispettore.core.measure.sections import high_pass

rates = st.sampled_from([8_000, 11_025, 16_000, 22_050, 44_100, 48_000])
seeds = st.integers(0, 2**32 - 1)


def some(seed: int, frames: int, channels: int) -> np.ndarray:
    """Noise with a drifting level and a few spikes, shape (frames, channels), float32."""
    random = np.random.default_rng(seed)
    level = 10 ** (random.uniform(-50, -1) / 20) * (1 + 0.9 * np.sin(np.linspace(0, random.uniform(1, 20), frames)))
    wave = random.standard_normal((frames, channels)) * level[:, None] * 0.2
    wave[random.integers(0, frames, 3)] = random.uniform(-1, 1)
    return wave.astype(np.float32)


def fed(meter, wave: np.ndarray, rate: int):
    for second in seconds([wave], sample_rate_hz=rate, channels=wave.shape[1]):
        meter.feed(second)
    return meter


class References(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(seeds, rates, st.integers(1, 3), st.floats(0.05, 2.3))
    def test_cells(self, seed, rate, channels, length):
        wave = some(seed, max(1, int(length * rate)), channels)
        cells = fed(Cells(sample_rate_hz=rate, channels=channels), wave, rate).series()
        starts = [k * rate + edge for k in range(3) for edge in borders(rate)[:-1]]
        starts = np.array([start for start in starts if start < len(wave)])
        self.assertTrue(np.allclose(cells.peak.T, np.maximum.reduceat(np.abs(wave), starts), atol=1e-7))
        counts = np.diff(np.append(starts, len(wave)))
        power = np.add.reduceat(wave.astype(np.float64) ** 2, starts) / counts[:, None]
        self.assertTrue(np.allclose(cells.power.T, power, rtol=1e-5, atol=1e-12))
        self.assertEqual(cells.counts.tolist(), counts.tolist())

    @settings(max_examples=25, deadline=None)
    @given(seeds, rates, st.integers(1, 2))
    def test_k_weighting_and_the_voice_band(self, seed, rate, channels):
        wave = some(seed, 2 * rate, channels)
        meter = fed(Filtered(sample_rate_hz=rate, channels=channels), wave, rate)
        starts = np.concatenate([k * rate + borders(rate)[:-1] for k in range(2)])
        counts = np.diff(np.append(starts, len(wave)))
        for sections, series, share in (
            (design(rate), meter.k_power, 1),
            (high_pass(VOICE_HZ, sample_rate_hz=rate)[None, :], meter.voice_power, channels),
        ):
            sos = np.array([[b0, b1, b2, 1, a1, a2] for b0, b1, b2, a1, a2 in sections])
            filtered = signal.sosfilt(sos, wave.astype(np.float64), axis=0)
            expected = np.add.reduceat((filtered**2).sum(axis=1), starts) / counts / share
            self.assertTrue(np.allclose(series.whole()[0], expected, rtol=1e-4, atol=1e-13))

    @settings(max_examples=25, deadline=None)
    @given(seeds, st.integers(1, 2), st.integers(1, 9_000))
    def test_true_peak_skips_nothing(self, seed, channels, frames):
        wave = some(seed, frames, channels)
        meters = fed(Meters(sample_rate_hz=8_000, channels=channels), wave, 8_000)
        value = 10 ** (meters.true_peak.result().value / 20)
        expected = float(np.abs(wave).max())
        if frames >= true_peak.TAPS:
            windows = np.lib.stride_tricks.sliding_window_view(wave, true_peak.TAPS, axis=0).astype(np.float64)
            expected = max(expected, float(np.abs(windows @ true_peak.interpolator().T.astype(np.float64)).max()))
        self.assertAlmostEqual(value, expected, delta=2e-5 * expected)

    @settings(max_examples=12, deadline=None)
    @given(seeds, st.integers(1, 2), st.lists(st.integers(1, 40_000), min_size=1, max_size=6))
    def test_block_size_changes_nothing(self, seed, channels, sizes):
        wave = some(seed, 50_000, channels)
        blocks, at, turn = [], 0, 0
        while at < len(wave):
            size = sizes[turn % len(sizes)]
            blocks.append(wave[at : at + size])
            at, turn = at + size, turn + 1
        found = []
        for pieces in ([wave], blocks):
            meters = Meters(sample_rate_hz=22_050, channels=channels)
            for second in seconds(pieces, sample_rate_hz=22_050, channels=channels):
                meters.feed(second)
            found.append(
                (meters.true_peak.result(), meters.cells.sum_of_squares.tolist(), meters.filtered.k_power.whole().tolist())
            )
        self.assertEqual(found[0], found[1])
