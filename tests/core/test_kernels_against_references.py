"""Each kernel agrees with a plain NumPy or SciPy reference, for any signal, rate and block size."""

import unittest

import numpy as np
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from scipy import signal

from ispettore.core.measure import low_rate, true_peak
from ispettore.core.measure.active_speech import ActiveSpeech
from ispettore.core.measure.cells import Cells
from ispettore.core.measure.clicks import Clicks
from ispettore.core.measure.clipping import Clipping
from ispettore.core.measure.dropouts import Dropouts
from ispettore.core.measure.filtered import VOICE_HZ, Filtered
from ispettore.core.measure.grid import Series, borders, seconds
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.k_weighting import design
from ispettore.core.measure.meters import Meters
from ispettore.core.measure.sections import blocker, high_pass, low_pass, through
from ispettore.core.measure.spectra import Spectra
from ispettore.demo import faults
from tests import signals
from tests.core import references

rates = st.sampled_from([8_000, 11_025, 16_000, 22_050, 44_100, 48_000])
QUICK = (Phase.explicit, Phase.reuse, Phase.generate)  # a failing signal is reported as it was made: shrinking takes minutes
seeds = st.integers(0, 2**32 - 1)


def some(seed: int, frames: int, channels: int) -> np.ndarray:
    """Noise with a drifting level and a few spikes, shape (frames, channels), float32."""
    random = np.random.default_rng(seed)
    level = 10 ** (random.uniform(-50, -1) / 20) * (1 + 0.9 * np.sin(np.linspace(0, random.uniform(1, 20), frames)))
    wave = random.standard_normal((frames, channels)) * level[:, None] * 0.2
    wave[random.integers(0, frames, 3)] = random.uniform(-1, 1)
    return wave.astype(np.float32)


def fed(meter, wave: np.ndarray, rate: int):
    for sound in seconds([wave], sample_rate_hz=rate, channels=wave.shape[1]):
        meter.feed(sound)
    return meter


def fed_with_milliseconds(meter, wave: np.ndarray, rate: int):
    """Feed a meter that wants the milliseconds too, or only them; return it with all of them, shape (channels, ms) each."""
    cells, seen = Cells(sample_rate_hz=rate, channels=wave.shape[1]), []
    for sound in seconds([wave], sample_rate_hz=rate, channels=wave.shape[1]):
        seen.append(cells.feed(sound))
        if isinstance(meter, ActiveSpeech):
            meter.feed(seen[-1].magnitude)
        else:
            meter.feed(sound, seen[-1])
    whole = {name: np.concatenate([getattr(each, name) for each in seen], axis=-1) for name in ("largest", "bend", "magnitude")}
    return meter, whole, cells


def rounded(wave: np.ndarray) -> np.ndarray:
    return (np.round(wave * 32_768) / 32_768).astype(np.float32)


class References(unittest.TestCase):
    @settings(phases=QUICK, max_examples=25, deadline=None)
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

    @settings(phases=QUICK, max_examples=25, deadline=None)
    @given(seeds, rates, st.sampled_from([2, 4, 6]), st.integers(1, 3), st.integers(1, 3_000))
    def test_sections(self, seed, rate, order, rows, first):
        low, high = low_pass(70, sample_rate_hz=rate, order=order), blocker(8, sample_rate_hz=rate)
        expected = np.vstack(
            (signal.butter(1, 8, "highpass", fs=rate, output="sos"), signal.butter(order, 70, fs=rate, output="sos"))
        )
        sections = np.vstack((high, low))
        at = np.linspace(1, rate / 2 - 1, 500)
        responses = [signal.sosfreqz(made, worN=at, fs=rate)[1] for made in (expected, np.insert(sections, 3, 1.0, axis=1))]
        np.testing.assert_allclose(responses[1], responses[0], atol=1e-9)
        wave, state = some(seed, 4_000, rows).T.astype(np.float64), np.zeros((rows, len(sections), 2))
        parts = [through(np.ascontiguousarray(part), sections, state) for part in (wave[:, :first], wave[:, first:])]
        np.testing.assert_allclose(np.concatenate(parts, axis=1), signal.sosfilt(expected, wave, axis=1), atol=1e-9)

    def test_the_low_pass_before_the_low_rate(self):
        for rate in (8_000, 11_025, 44_100, 96_000, 192_000):
            expected = signal.firwin(low_rate.STEPS * low_rate.factor(rate) + 1, 700, window=("kaiser", 5.6), fs=rate)
            np.testing.assert_allclose(low_rate._taps(rate), expected, atol=1e-8)

    @settings(phases=QUICK, max_examples=25, deadline=None)
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

    @settings(phases=QUICK, max_examples=25, deadline=None)
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

    @settings(phases=QUICK, max_examples=12, deadline=None)
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
            for sound in seconds(pieces, sample_rate_hz=22_050, channels=channels):
                meters.feed(sound)
            found.append(
                (meters.true_peak.result(), meters.cells.sum_of_squares.tolist(), meters.filtered.k_power.whole().tolist())
            )
        self.assertEqual(found[0], found[1])

    @settings(phases=QUICK, max_examples=25, deadline=None)
    @given(seeds, rates, st.integers(1, 3), st.floats(0.01, 2.3))
    def test_milliseconds(self, seed, rate, channels, length):
        wave = some(seed, max(4, int(length * rate)), channels)
        _, whole, _ = fed_with_milliseconds(ActiveSpeech(), wave, rate)
        at = references.starts(len(wave), rate, 1_000)
        self.assertTrue(np.array_equal(whole["largest"].T, np.maximum.reduceat(np.abs(wave), at)))
        self.assertTrue(np.allclose(whole["bend"], references.bends(wave, rate), atol=1e-6))
        self.assertTrue(np.allclose(whole["magnitude"], references.magnitudes(wave, rate), rtol=1e-4, atol=1e-9))

    @settings(phases=QUICK, max_examples=15, deadline=None)
    @given(seeds, st.sampled_from([8_000, 16_000, 44_100, 48_000]), st.integers(1, 2), st.floats(-40, -15))
    def test_active_speech_level_as_the_recommendation_has_it(self, seed, rate, channels, level):
        voice = signals.voice_like(12, rms_dbfs=level, rate=rate, seed=seed % 1_000, room_dbfs=level - 40)
        wave = np.stack([voice * (1 - 0.4 * c) for c in range(channels)], axis=1)
        measured = measure_array(wave, sample_rate_hz=rate).inspection
        expected, activity = references.active_speech(wave, rate)
        self.assertAlmostEqual(measured.value("active_speech_level_dbfs"), expected, delta=0.2)
        self.assertAlmostEqual(measured.value("speech_activity_percent"), 100 * activity, delta=3)

    def test_active_speech_level_of_every_clean_reading(self):
        for name in ("almanac-01", "almanac-02", "almanac-05"):
            wave = faults.in_room(faults.clean_speech(name)[0], noise_dbfs=-60, head_s=1, tail_s=2, seed=1)[:, None]
            expected, _ = references.active_speech(wave, faults.RATE_HZ)
            measured = measure_array(wave, sample_rate_hz=faults.RATE_HZ).inspection
            with self.subTest(name=name):
                self.assertAlmostEqual(measured.value("active_speech_level_dbfs"), expected, delta=0.15)

    @settings(phases=QUICK, max_examples=15, deadline=None)
    @given(seeds, rates, st.integers(1, 2), st.floats(0.05, 2.3))
    def test_the_low_rate(self, seed, rate, channels, length):
        wave = some(seed, max(300, int(length * rate)), channels)
        meter = fed(low_rate.LowRate(sample_rate_hz=rate, channels=channels), wave, rate)
        meter.finish()
        step = low_rate.factor(rate)
        expected = references.decimated(wave, low_rate._taps(rate), step)
        found = meter.samples.whole()
        self.assertLess(expected.shape[1] - found.shape[1], 2)
        self.assertTrue(np.allclose(found, expected[:, : found.shape[1]], atol=2e-6))

    @settings(phases=QUICK, max_examples=10, deadline=None)
    @given(seeds, rates, st.integers(1, 2))
    def test_third_octaves(self, seed, rate, channels):
        wave = some(seed, int(1.3 * rate), channels)
        meter = fed(Spectra(sample_rate_hz=rate, channels=channels), wave, rate)
        expected = references.third_octaves(wave, rate, meter.length)
        self.assertTrue(np.allclose(meter.bands.whole(), expected, rtol=2e-3, atol=1e-10))

    @settings(phases=QUICK, max_examples=25, deadline=None)
    @given(seeds, st.integers(1, 2), st.integers(60, 20_000))
    def test_the_true_peak_of_each_cell(self, seed, channels, frames):
        rate = 8_000
        wave = some(seed, frames, channels)
        meters = fed(Meters(sample_rate_hz=rate, channels=channels), wave, rate)
        meters.true_peak.result()
        found, expected = meters.true_peak.cells.whole()[0], references.true_peaks(wave, rate)
        sampled = np.maximum.reduceat(np.abs(wave), references.starts(frames, rate)).max(axis=1)
        loud = sampled > true_peak.KEPT_ABOVE
        self.assertEqual(found.size, expected.size)
        self.assertTrue(np.allclose(found[loud], expected[loud], rtol=2e-5))
        self.assertTrue((found >= sampled).all() and (found <= expected * 1.00002).all())

    @settings(phases=QUICK, max_examples=20, deadline=None)
    @given(seeds, st.floats(0.3, 0.9), st.floats(-14, 0))
    def test_flat_tops(self, seed, share, gain):
        rate, step = 16_000, 2.0**-15
        voice = signals.voice_like(2.6, rms_dbfs=-14, rate=rate, seed=seed % 997, head=0.2)
        wave = rounded(faults.clipped(voice / np.abs(voice).max(), share=share) * 10 ** (gain / 20))[:, None]
        meter, _, _ = fed_with_milliseconds(Clipping(sample_rate_hz=rate, channels=1, bit_depth=16), wave, rate)
        # A crest within 32 samples of a second's end is seen with less around it, and may count as coarse.
        expected = {
            (first, length)
            for first, length in references.flat_tops(wave[:, 0].astype(np.float64), step)
            if 32 < first < len(wave) - 64 and first // rate == (first + length + 32) // rate
        }
        # The reference sees the whole file at once; the kernel keeps what no earlier second outdoes.
        flat = meter._flat.whole()
        near_top = np.abs(flat[1]) >= 0.999 * np.abs(wave).max() - 2 * step
        places = zip(np.round(flat[0] * rate / 200).astype(int).tolist(), flat[2].astype(int).tolist(), strict=True)
        found = {(first, length) for first, length in places if first // rate == (first + length + 32) // rate}
        self.assertLessEqual(expected, found)
        if near_top.all() and abs(wave.max() + wave.min()) < step:
            self.assertEqual(found, expected)

    @settings(phases=QUICK, max_examples=20, deadline=None)
    @given(seeds, st.integers(240, 1_500), st.integers(0, 3))
    def test_repeated_buffers(self, seed, size, times):
        rate = 16_000
        random = np.random.default_rng(seed)
        wave = rounded(random.standard_normal(3 * rate) * 0.1)
        expected = []
        for turn in range(times):
            at = 6_000 + turn * 12_000 + int(random.integers(0, 3_000))
            wave[at - size // 2] = 0.8 + turn / 32  # what the kernel looks for first
            wave[at : at + size] = wave[at - size : at]
            expected.append(at / rate)
        meter, _, _ = fed_with_milliseconds(Dropouts(sample_rate_hz=rate, channels=1), wave[:, None], rate)
        found = [f for f in meter.findings() if f.kind == "repeated-buffer"]
        plain = references.repeats(wave, rate // 200, rate // 10)
        self.assertEqual(len(plain), times)
        for place, (first, length), known in zip(found, plain, expected, strict=True):
            self.assertAlmostEqual(place.start_s, first / rate, delta=1e-9)
            self.assertAlmostEqual(place.measure, 1_000 * length / rate, delta=1e-6)
            self.assertAlmostEqual(place.start_s, known, delta=0.001)

    @settings(phases=QUICK, max_examples=20, deadline=None)
    @given(seeds, st.lists(st.tuples(st.floats(0.05, 2.9), st.floats(-1, 1)), max_size=5))
    def test_clicks(self, seed, places):
        rate = 16_000
        wave = (np.random.default_rng(seed).standard_normal((3 * rate, 1)) * 0.003).astype(np.float32)
        for at, size in places:
            wave[int(at * rate), 0] += 0.3 * size
        meter, whole, _ = fed_with_milliseconds(Clicks(sample_rate_hz=rate, channels=1), wave, rate)
        bend, expected = whole["bend"][0].astype(np.float64), set()
        for k in range(15, bend.size - 30):
            around = max(bend[k - 15 : k - 1].max(), bend[k + 2 : k + 16].max())
            if bend[k] > max(6 * 2.0**-23, 10 ** (1.5 / 20) * around):
                where = (wave[:, 0], (2 * k + 1) * rate // 2_000, rate, 16)
                out_db, impulse, level, _ = references.stands_out(*where)
                either = min(references.stands_out(*where, side)[0] for side in ("before", "after"))
                under_db = min(max(20 * np.log10(impulse / level), -45), 0)
                if out_db > 6 + 4.4 * np.log2(44_100 / rate) - 0.5 * under_db and either > 3:
                    expected.add(k)
        found = {k for f in meter.findings() for k in range(round(f.start_s * 1_000), round(f.end_s * 1_000))}
        self.assertTrue(expected <= found, (expected, found))
        self.assertEqual(len(meter.findings()) == 0, not expected)


class WholeInspections(unittest.TestCase):
    @settings(phases=QUICK, max_examples=10, deadline=None)
    @given(st.lists(st.integers(1, 70_000), min_size=1, max_size=5), st.integers(1, 2))
    def test_blocks_of_any_size_give_the_same_readings_and_findings(self, sizes, channels):
        rate = 16_000
        voice = signals.voice_like(9, rms_dbfs=-18, rate=rate)
        voice[70_000:70_050] = 0.9
        wave = np.stack([voice * (1 - 0.3 * c) for c in range(channels)], axis=1).astype(np.float32)
        whole = measure_array(wave, sample_rate_hz=rate).inspection
        meters = Meters(sample_rate_hz=rate, channels=channels)
        cuts = np.cumsum(np.resize(sizes, len(wave)))
        blocks = np.split(wave, cuts[cuts < len(wave)])
        for sound in seconds(blocks, sample_rate_hz=rate, channels=channels):
            meters.feed(sound)
        cut = meters.result(name="", sha256="", facts=whole.facts).inspection
        self.assertEqual(cut.readings, whole.readings)
        self.assertEqual(cut.findings, whole.findings)
        self.assertEqual((cut.speech, cut.room_tone), (whole.speech, whole.room_tone))

    @settings(phases=QUICK, max_examples=20, deadline=None)
    @given(st.lists(st.integers(1, 4_000), min_size=1, max_size=12), st.integers(1, 3), st.data())
    def test_a_series_is_the_same_whether_it_spilled_or_not(self, sizes, rows, data):
        series, values = Series(rows), np.random.default_rng(1).standard_normal((rows, sum(sizes))).astype(np.float32)
        series.MEMORY_BYTES = 8_000
        for part in np.split(values, np.cumsum(sizes)[:-1], axis=1):
            series.append(part)
        first = data.draw(st.integers(0, values.shape[1]))
        last = data.draw(st.integers(first, values.shape[1] + 5))
        self.assertTrue(np.array_equal(series.part(first, last), values[:, first:last]))
        self.assertTrue(np.array_equal(series.whole(), values))
        self.assertEqual(len(series), values.shape[1])
