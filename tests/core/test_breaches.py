"""Where in time limits are passed: at the places put in, with the readings put in, and nowhere else."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from ispettore.core.measure import tracks
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.spec.breaches import MOST, breaches
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.verdict import judge
from tests import signals

RATE = 44_100


def specification(*limits: Limit, mono_on_two_loudspeakers: bool = False) -> Specification:
    return Specification(id="trial", name="Trial", limits=limits, mono_on_two_loudspeakers=mono_on_two_loudspeakers)


class Places(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.wave = signals.voice_like(20, rms_dbfs=-24, rate=RATE, room_dbfs=-66)
        cls.wave *= 10 ** (-8 / 20) / np.abs(cls.wave).max()

    def found(self, wave, *limits: Limit, **options):
        measured = measure_array(wave[:, None], sample_rate_hz=RATE)
        run = tracks.unpacked(tracks.of(measured).packed())
        verdict = judge(measured.inspection, specification(*limits, **options), role="recording")
        return breaches(verdict, measured.inspection, run), measured.inspection

    def test_nothing_outside_no_places(self):
        self.assertEqual(self.found(self.wave, Limit(quantity="sample_peak_dbfs", high=-3))[0], [])

    def test_peaks_are_placed_where_they_are(self):
        wave = self.wave.copy()
        for at, level in ((4.05, 0.9), (4.25, 0.8), (12.55, 0.75)):
            wave[int(at * RATE)] = level
        for quantity in ("sample_peak_dbfs", "true_peak_dbtp"):
            found, _ = self.found(wave, Limit(quantity=quantity, high=-3))
            with self.subTest(quantity=quantity):
                self.assertEqual([round(place.start_s, 1) for place in found], [4.0, 12.5])
                self.assertAlmostEqual(found[0].reading, 20 * np.log10(0.9), delta=0.05)
                self.assertAlmostEqual(found[0].excess, found[0].reading + 3, delta=1e-9)
                self.assertLessEqual(found[0].end_s, 4.41)

    def test_loud_moments_and_passages(self):
        wave = self.wave.copy()
        wave[7 * RATE : 10 * RATE] += signals.sine(1_000, peak_dbfs=-9, seconds=3, rate=RATE)
        for quantity, high in (("momentary_max_lufs", -13), ("short_term_max_lufs", -13)):
            found, inspection = self.found(wave, Limit(quantity=quantity, high=high))
            with self.subTest(quantity=quantity):
                self.assertEqual(len(found), 1)
                self.assertAlmostEqual((found[0].start_s + found[0].end_s) / 2, 8.5, delta=0.3)
                self.assertAlmostEqual(found[0].reading, inspection.value(quantity), delta=0.1)

    def test_mono_on_two_loudspeakers_is_read_louder_there_too(self):
        limit = Limit(quantity="momentary_max_lufs", high=-18)
        alone, inspection = self.found(self.wave, limit)
        both, _ = self.found(self.wave, limit, mono_on_two_loudspeakers=True)
        self.assertGreater(sum(b.end_s - b.start_s for b in both), sum(a.end_s - a.start_s for a in alone))
        self.assertAlmostEqual(max(b.reading for b in both), inspection.value("momentary_max_lufs") + 3.01, delta=0.1)

    def test_the_noisy_pause_is_named_and_the_quiet_ones_are_not(self):
        clean = measure_array(self.wave[:, None], sample_rate_hz=RATE).inspection
        pause = max(clean.pauses[1:-1], key=lambda p: p.length_s)
        wave = self.wave.copy()
        first, last = int(pause.start_s * RATE), int(pause.end_s * RATE)
        wave[first:last] += signals.noise((last - first) / RATE, rms_dbfs=-54, rate=RATE)[: last - first]
        found, _ = self.found(wave, Limit(quantity="noise_floor_worst_pause_dbfs", high=-57))
        self.assertEqual(len(found), 1)
        self.assertAlmostEqual(found[0].start_s, pause.start_s, delta=0.1)
        self.assertAlmostEqual(found[0].reading, -53.1, delta=0.7)

    def test_long_pauses_head_and_tail(self):
        wave = np.concatenate((self.wave, signals.noise(5, rms_dbfs=-66, rate=RATE), self.wave))
        found, inspection = self.found(wave, Limit(quantity="longest_pause_s", high=3), Limit(quantity="head_s", low=2),
                                       Limit(quantity="tail_s", high=1))  # fmt: skip
        self.assertEqual([place.quantity for place in found], ["head_s", "longest_pause_s", "tail_s"])
        head, pause, tail = found
        self.assertEqual((head.start_s, head.end_s), (0.0, inspection.value("head_s")))
        self.assertAlmostEqual(head.excess, 2 - inspection.value("head_s"), delta=1e-9)
        plain = measure_array(self.wave[:, None], sample_rate_hz=RATE).inspection
        self.assertAlmostEqual(pause.reading, plain.value("tail_s") + 5 + plain.value("head_s"), delta=0.1)
        self.assertAlmostEqual(tail.end_s, inspection.facts.duration_s, delta=0.01)

    def test_what_belongs_to_the_whole_file_has_no_place(self):
        found, _ = self.found(self.wave, Limit(quantity="rms_dbfs", low=-12), Limit(quantity="integrated_loudness_lufs", high=-40))
        self.assertEqual(found, [])

    def test_a_moment_between_two_steps_is_placed_by_its_own_reading(self):
        found, inspection = self.found(self.wave, Limit(quantity="momentary_max_lufs", high=-60))
        self.assertTrue(found)
        highest = inspection.value("momentary_max_lufs")
        found, _ = self.found(self.wave, Limit(quantity="momentary_max_lufs", high=highest - 1e-4))
        self.assertEqual(len(found), 1)
        self.assertAlmostEqual(found[0].reading, highest, delta=1e-9)

    def test_no_more_than_the_worst_hundred_are_told(self):
        wave = np.full(150 * 8_000, 1e-4)
        wave[::8_000] = np.linspace(0.8, 0.99, 150)
        measured = measure_array(wave[:, None], sample_rate_hz=8_000)
        verdict = judge(measured.inspection, specification(Limit(quantity="sample_peak_dbfs", high=-3)), role="recording")
        found = breaches(verdict, measured.inspection, tracks.of(measured))
        self.assertEqual(len(found), MOST)
        self.assertGreater(min(place.reading for place in found), 20 * np.log10(0.85))


class Tracks(unittest.TestCase):
    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.one_of(st.floats(-150, 10), st.just(-np.inf)), max_size=60))
    def test_packing_keeps_hundredths_and_silence(self, values):
        series = np.array(values, dtype=np.float64)
        back = tracks.unpacked(tracks.Tracks(series, series[::-1], series[:3], series[:0]).packed())
        self.assertTrue(np.array_equal(np.isfinite(back.sample_peak_dbfs), np.isfinite(series)))
        known = np.isfinite(series)
        self.assertTrue(np.allclose(back.sample_peak_dbfs[known], series[known], atol=0.0051))
        self.assertEqual((back.momentary_lufs.size, back.short_term_lufs.size), (min(3, series.size), 0))

    def test_peaks_and_loudness_are_those_of_the_meters(self):
        wave = signals.steps(1_000, [(-6, 3), (-20, 3), (-300, 3)], rate=RATE)
        found = tracks.of(measure_array(wave[:, None], sample_rate_hz=RATE))
        self.assertEqual(found.sample_peak_dbfs.size, 90)
        self.assertAlmostEqual(found.sample_peak_dbfs[10], -6, delta=0.01)
        self.assertAlmostEqual(found.true_peak_dbtp[10], -6, delta=0.1)
        self.assertAlmostEqual(found.sample_peak_dbfs[40], -20, delta=0.05)
        self.assertAlmostEqual(found.momentary_lufs[10], -9.0, delta=0.1)
        self.assertAlmostEqual(found.short_term_lufs[30], -23.0, delta=0.1)
