"""The same voice reads alike at every rate; noise of every colour is read as it was put in; ribbons keep their levels."""

import unittest

import numpy as np
import pyebur128
import pyloudnorm
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st

from ispettore.core.measure import ribbon
from ispettore.core.measure.grid import CELLS_PER_SECOND, borders, runs
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.demo import faults, scenario
from tests import signals

RATES = (16_000, 22_050, 32_000, 44_100, 88_200, 96_000, 192_000)


class EveryRate(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        wave, _ = faults.clean_speech("almanac-01")
        narrow = soxr.resample(wave[: 20 * faults.RATE_HZ], faults.RATE_HZ, 16_000, quality="VHQ")
        cls.at = {rate: soxr.resample(narrow, 16_000, rate, quality="VHQ") for rate in (*RATES, 48_000)}

    def test_speech_band_limited_alike_is_as_loud_at_every_rate(self):
        loudness = {
            rate: measure_array(wave[:, None], sample_rate_hz=rate).inspection.value("integrated_loudness_lufs")
            for rate, wave in self.at.items()
        }
        for rate in RATES:
            with self.subTest(rate=rate):
                self.assertAlmostEqual(loudness[rate], loudness[48_000], delta=0.05)


class OtherPeoplesMeters(unittest.TestCase):
    @staticmethod
    def theirs(wave: np.ndarray, rate: int) -> tuple[float, float]:
        """Integrated loudness and range by the C library, of shape (frames, channels)."""
        mode = pyebur128.MeasurementMode
        state = pyebur128.R128State(wave.shape[1], rate, mode.MODE_I | mode.MODE_LRA)
        state.add_frames(np.ascontiguousarray(wave.astype(np.float32)).ravel(), len(wave))
        return pyebur128.get_loudness_global(state), pyebur128.get_loudness_range(state)

    def test_loudness_agrees_on_every_demo_recording(self):
        for production in scenario.PRODUCTIONS:
            for recording in production.recordings:
                wave, _ = recording.make()
                ours = measure_array(wave, sample_rate_hz=faults.RATE_HZ).inspection
                with self.subTest(recording=recording.file_name):
                    theirs, _ = self.theirs(wave, faults.RATE_HZ)
                    self.assertAlmostEqual(ours.value("integrated_loudness_lufs"), theirs, delta=0.1)
                    python = pyloudnorm.Meter(faults.RATE_HZ).integrated_loudness(wave)
                    self.assertAlmostEqual(ours.value("integrated_loudness_lufs"), python, delta=0.1)

    def test_range_agrees_on_minutes_of_speech(self):
        # The C library takes one short-term value a second, we take ten: on seconds of speech that alone differs by an LU.
        quiet_and_loud = [faults.clean_speech(f"almanac-0{n}")[0] * 10 ** (-n / 20 * (n % 3)) for n in range(1, 7)]
        wave = np.concatenate(quiet_and_loud)[:, None]
        ours = measure_array(wave, sample_rate_hz=faults.RATE_HZ).inspection.value("loudness_range_lu")
        self.assertAlmostEqual(ours, self.theirs(wave, faults.RATE_HZ)[1], delta=0.5)


class Noises(unittest.TestCase):
    def test_every_colour_of_noise_is_read_as_it_was_put_in(self):
        voice = signals.voice_like(20, rms_dbfs=-20, rate=faults.RATE_HZ, room_dbfs=-120)
        for level in (-45.0, -60.0, -75.0):
            colours = {
                "white": signals.noise(20, rms_dbfs=level, rate=faults.RATE_HZ, seed=5),
                "pink": faults.room_noise(voice.size, noise_dbfs=level, seed=5),
                "hum": faults.hum(voice.size, base_hz=60.0, level_dbfs=level - 0.17),
            }
            for name, added in colours.items():
                put_in = 10 * np.log10(np.mean(added**2))
                inspection = measure_array((voice + added)[:, None], sample_rate_hz=faults.RATE_HZ).inspection
                with self.subTest(colour=name, level=level):
                    self.assertAlmostEqual(inspection.value("noise_floor_dbfs"), put_in, delta=1.0)
                    self.assertAlmostEqual(inspection.value("head_s"), 0.7, delta=0.06)

    def test_the_noisier_channel_is_the_one_shown(self):
        voice = signals.voice_like(15, rms_dbfs=-20, rate=faults.RATE_HZ, room_dbfs=-120)
        sides = [voice + signals.noise(15, rms_dbfs=level, rate=faults.RATE_HZ, seed=k) for k, level in enumerate((-70, -58))]
        reading = measure_array(np.stack(sides, axis=1), sample_rate_hz=faults.RATE_HZ).inspection.readings["noise_floor_dbfs"]
        self.assertEqual(reading.channel, 2)
        self.assertAlmostEqual(reading.value, -58, delta=0.5)
        self.assertAlmostEqual(reading.per_channel[0], -70, delta=0.5)

    def test_the_method_says_where_it_was_taken(self):
        inspection = measure_array(signals.voice_like(15, rms_dbfs=-20, rate=44_100)[:, None], sample_rate_hz=44_100).inspection
        reading = inspection.readings["noise_floor_dbfs"]
        inside = [span for span in inspection.room_tone if span.start_s <= reading.start_s and reading.end_s <= span.end_s + 1e-9]
        self.assertEqual(len(inside), 1)
        for quantity, other in inspection.readings.items():
            with self.subTest(quantity=quantity):
                self.assertTrue(other.method)
                self.assertEqual(other.unit, QUANTITIES[quantity].unit)
                self.assertLessEqual(other.start_s, other.end_s)


class Pictures(unittest.TestCase):
    def test_a_ribbon_keeps_its_levels_through_packing(self):
        wave = signals.steps(500, [(-6, 2), (-40, 2), (-200, 2)], rate=44_100)
        made = ribbon.of(measure_array(wave[:, None], sample_rate_hz=44_100), columns=60)
        back = ribbon.unpacked(made.packed())
        self.assertLess(np.abs(back.peak_dbfs - made.peak_dbfs).max(), 0.2)
        self.assertAlmostEqual(back.peak_dbfs[10], -6, delta=0.3)
        self.assertAlmostEqual(back.rms_dbfs[30], -43, delta=0.3)
        self.assertEqual(back.peak_dbfs[-5], -80)

    def test_a_short_file_has_as_many_columns_as_cells(self):
        made = ribbon.of(measure_array(np.ones((441, 1)), sample_rate_hz=44_100))
        self.assertEqual(made.peak_dbfs.size, 2)


class Grid(unittest.TestCase):
    @given(st.integers(8_000, 192_000))
    def test_a_second_holds_200_cells_of_nearly_one_length_at_every_rate(self, rate):
        lengths = np.diff(borders(rate))
        self.assertEqual((lengths.size, int(lengths.sum())), (CELLS_PER_SECOND, rate))
        self.assertLessEqual(int(lengths.max() - lengths.min()), 1)

    @settings(max_examples=60)
    @given(st.lists(st.booleans(), max_size=60))
    def test_runs_are_where_the_mask_is_true(self, values):
        mask = np.array(values, dtype=bool)
        rebuilt = np.zeros(mask.size, dtype=bool)
        for start, end in runs(mask):
            self.assertLess(start, end)
            rebuilt[start:end] = True
        self.assertEqual(rebuilt.tolist(), mask.tolist())
