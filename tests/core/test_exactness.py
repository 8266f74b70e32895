"""The table of exactness: what each meter must read on signals of known level."""

import unittest

import numpy as np
from scipy import signal as dsp

from ispettore.core.measure import k_weighting, loudness
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.spec.quantities import QUANTITIES
from tests import signals
from tests.corpus import RATES, rates, some
from tests.signals import sine, steps, stereo

GATED = {"active_speech_level_dbfs", "speech_crest_db", "peak_to_loudness_db", "loudness_range_lu", "speech_activity_percent",
         "signal_to_noise_db", "hum_db", "rumble_db", "decay_s"}  # fmt: skip


def reading(wave: np.ndarray, rate: int, quantity: str) -> float:
    shaped = wave if wave.ndim == 2 else wave[:, None]
    value = measure_array(shaped, sample_rate_hz=rate).inspection.value(quantity)
    assert value is not None
    return value


class Loudness(unittest.TestCase):
    def test_a_full_scale_mono_sine_of_997_hz_reads_minus_3_01(self):
        for rate in RATES:
            with self.subTest(rate=rate):
                wave = sine(997, peak_dbfs=0, seconds=5, rate=rate)
                self.assertAlmostEqual(reading(wave, rate, "integrated_loudness_lufs"), -3.01, delta=0.05)

    def test_cases_1_and_2_read_their_level_in_all_three_windows(self):
        for number, level in enumerate((-23.0, -33.0)):
            for rate in rates(number):
                wave = stereo(sine(1000, peak_dbfs=level, seconds=20 if rate <= 48_000 else 6, rate=rate))
                inspection = measure_array(wave, sample_rate_hz=rate).inspection
                for quantity in ("integrated_loudness_lufs", "momentary_max_lufs", "short_term_max_lufs"):
                    with self.subTest(rate=rate, level=level, quantity=quantity):
                        self.assertAlmostEqual(inspection.value(quantity), level, delta=0.1)

    def test_cases_3_to_5_gate_the_quiet_ends(self):
        cases = {
            3: [(-36, 10), (-23, 60), (-36, 10)],
            4: [(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)],
            5: [(-26, 20), (-20, 20.1), (-26, 20)],
        }
        for case, parts in cases.items():
            for rate in rates(case):
                with self.subTest(case=case, rate=rate):
                    wave = stereo(steps(1000, parts, rate=rate))
                    self.assertAlmostEqual(reading(wave, rate, "integrated_loudness_lufs"), -23.0, delta=0.1)

    def test_case_6_weighs_the_surround_channels(self):
        for rate in rates(2):
            levels = (-28, -28, -24, -30, -30)
            wave = np.stack([sine(1000, peak_dbfs=level, seconds=20, rate=rate) for level in levels], axis=1)
            with self.subTest(rate=rate):
                self.assertAlmostEqual(reading(wave, rate, "integrated_loudness_lufs"), -23.0, delta=0.1)

    def test_cases_9_and_12_hold_their_windows_from_the_first_full_one_on(self):
        for parts, times, which, first in (
            ([(-20, 1.34), (-30, 1.66)], 5, 1, 0),  # 3 s windows, from 3 s on
            ([(-20, 0.18), (-30, 0.22)], 25, 0, 6),  # 400 ms windows, from 1 s on
        ):
            for rate in rates(which):
                wave = stereo(steps(1000, parts * times, rate=rate))
                measured = measure_array(wave, sample_rate_hz=rate)
                quantity = ("momentary_max_lufs", "short_term_max_lufs")[which]
                with self.subTest(rate=rate, quantity=quantity):
                    self.assertAlmostEqual(measured.inspection.value(quantity), -23.0, delta=0.1)
                    values = loudness.series(measured.meters.filtered.k_power)[which][first:]
                    self.assertGreater(values.size, 50)
                    self.assertLess(np.abs(values + 23.0).max(), 0.1)

    def bursts(self, quantity: str, length: float, step: float, levels: list[float]):
        """Twenty bursts, each after a little more silence than the one before, at every rate."""
        for i, level in enumerate(levels):
            for rate in rates(i):
                wave = stereo(steps(1000, [(-200, i * step + 0.001), (level, length), (-200, 1)], rate=rate).astype(np.float32))
                with self.subTest(quantity=quantity, i=i, rate=rate):
                    self.assertAlmostEqual(reading(wave, rate, quantity), level, delta=0.1)

    def test_case_10_finds_a_burst_of_3_s_wherever_it_starts(self):
        self.bursts("short_term_max_lufs", 3.0, 0.15, [-23.0] * 20)

    def test_case_11_finds_it_at_any_level(self):
        self.bursts("short_term_max_lufs", 3.0, 0.15, [float(level) for level in range(-38, -18)])

    def test_case_13_finds_a_burst_of_400_ms_wherever_it_starts(self):
        self.bursts("momentary_max_lufs", 0.4, 0.02, [-23.0] * 20)

    def test_case_14_finds_it_at_any_level(self):
        self.bursts("momentary_max_lufs", 0.4, 0.02, [float(level) for level in range(-38, -18)])

    def test_loudness_range_of_tech_3342_cases(self):
        cases = [([-20, -30], 10), ([-20, -15], 5), ([-40, -20], 20), ([-50, -35, -20, -35, -50], 15)]
        for number, (levels, expected) in enumerate(cases):
            for rate in rates(number + 1):
                wave = stereo(steps(1000, [(level, 20) for level in levels], rate=rate).astype(np.float32))
                with self.subTest(levels=levels, rate=rate):
                    self.assertAlmostEqual(reading(wave, rate, "loudness_range_lu"), expected, delta=1)

    def test_the_weighting_follows_the_standards_response_at_every_rate(self):
        for rate in (8_000, *RATES):
            frequency = np.geomspace(20, min(0.49 * rate, 20_000), 400)
            ours, standard = k_weighting.design(rate), k_weighting.design(48_000)
            response = [k_weighting.response(section, frequency, rate) for section in ours]
            expected = [k_weighting.response(section, frequency, 48_000) for section in standard]
            error = 20 * np.log10(response[0] * response[1] / (expected[0] * expected[1]))
            with self.subTest(rate=rate):
                self.assertLess(np.abs(error).max(), 0.02)


class TruePeak(unittest.TestCase):
    def test_cases_15_to_19_are_read_between_the_samples(self):
        cases = [(4, 0.5, 0.0, -6.0), (4, 0.5, 45.0, -6.0), (6, 0.5, 60.0, -6.0), (8, 0.5, 67.5, -6.0), (4, 1.41, 45.0, 3.0)]
        for rate in RATES:
            for divisor, amplitude, degrees, expected in cases:
                level = 20 * np.log10(amplitude)
                wave = sine(rate / divisor, peak_dbfs=level, seconds=1, rate=rate, degrees=degrees)
                with self.subTest(rate=rate, divisor=divisor, degrees=degrees):
                    value = reading(stereo(wave), rate, "true_peak_dbtp")
                    self.assertLessEqual(value, expected + 0.2)
                    self.assertGreaterEqual(value, expected - 0.4)

    def test_cases_20_to_23_find_a_single_louder_cycle_between_the_samples(self):
        """A sine of fs/6 at 0.5 with one cycle at 1.0, built at four times the rate and decimated at each of the four offsets."""
        for rate in RATES:
            t = np.arange(4 * 6_000)
            level = np.where((t >= 12_000) & (t < 12_024), 1.0, 0.5)
            fine = level * np.sin(2 * np.pi * t / 24)
            smooth = dsp.firwin(255, 0.25 * 0.98, window=("kaiser", 8.0))
            filtered = dsp.fftconvolve(fine, smooth, mode="same")
            for offset in range(4):
                with self.subTest(rate=rate, offset=offset):
                    value = reading(filtered[200:-200][offset::4], rate, "true_peak_dbtp")
                    self.assertLessEqual(value, 0.2)
                    self.assertGreaterEqual(value, -0.4)

    def test_sines_up_to_0_45_of_the_rate_in_any_phase_are_read_within_a_tenth(self):
        for rate in RATES:
            for part in (0.1, 0.2, 0.25, 0.3, 0.35, 0.4, 0.45):
                for phase in some(range(16), every=4, first=RATES.index(rate) % 4):
                    wave = 0.5 * np.sin(2 * np.pi * part * np.arange(6_000) + phase * np.pi / 16)
                    with self.subTest(part=part, phase=phase, rate=rate):
                        self.assertAlmostEqual(reading(wave, rate, "true_peak_dbtp"), -6.02, delta=0.1)

    def test_it_is_never_below_the_sample_peak_and_names_channel_and_time(self):
        wave = np.zeros((48_000, 2))
        wave[20_000:20_200, 1] = 0.8 * np.hanning(200)
        inspection = measure_array(wave, sample_rate_hz=48_000).inspection
        peak, true_peak = inspection.readings["sample_peak_dbfs"], inspection.readings["true_peak_dbtp"]
        self.assertGreaterEqual(true_peak.value, peak.value)
        self.assertEqual(true_peak.channel, 2)
        self.assertAlmostEqual(true_peak.start_s, 20_100 / 48_000, delta=0.001)


class Level(unittest.TestCase):
    def test_rms_of_a_full_scale_sine_is_minus_3_01(self):
        self.assertAlmostEqual(reading(sine(441, peak_dbfs=0, seconds=2, rate=44_100), 44_100, "rms_dbfs"), -3.01, delta=0.005)

    def test_rms_of_two_channels_is_the_mean_of_their_squares(self):
        wave = np.stack((sine(441, peak_dbfs=0, seconds=2, rate=44_100), np.zeros(88_200)), axis=1)
        self.assertAlmostEqual(reading(wave, 44_100, "rms_dbfs"), -6.02, delta=0.005)

    def test_gain_moves_every_level_by_itself_and_nothing_else(self):
        # A room well above the absolute gate of −70 LUFS: what crosses that gate when turned down moves by more than the gain.
        wave = signals.voice_like(25, rms_dbfs=-26, rate=44_100, room_dbfs=-56)
        plain = measure_array(wave[:, None], sample_rate_hz=44_100).inspection
        for gain in (-6.0, 5.0):
            moved = measure_array(wave[:, None] * 10 ** (gain / 20), sample_rate_hz=44_100).inspection
            for quantity in QUANTITIES.values():
                before, after = plain.value(quantity.name), moved.value(quantity.name)
                if quantity.fact is not None or before is None:
                    continue
                with self.subTest(quantity=quantity.name, gain=gain):
                    gated = "lufs" in quantity.name or quantity.name in GATED
                    expected = gain if quantity.moves_with_gain else 0.0
                    self.assertAlmostEqual(after - before, expected, delta=0.05 if gated else 0.01)

    def test_silence_has_no_level_and_says_so(self):
        inspection = measure_array(np.zeros((96_000, 1)), sample_rate_hz=48_000).inspection
        for quantity in ("sample_peak_dbfs", "true_peak_dbtp", "rms_dbfs", "integrated_loudness_lufs", "noise_floor_dbfs"):
            with self.subTest(quantity=quantity):
                self.assertIsNone(inspection.value(quantity))
                self.assertTrue(inspection.readings[quantity].silence)
                self.assertIn("silence", inspection.readings[quantity].note)
