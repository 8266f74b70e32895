"""Spectrum, spectrogram, chosen room tone and blind comparison, against what is known of made-up sound."""

import unittest

import numpy as np
from scipy import signal, stats

from ispettore.core import errors
from ispettore.core.certify import blind
from ispettore.core.measure import chosen_tone, spectrogram, spectrum
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.reading import Span
from ispettore.core.treat import tone
from tests import signals

RATE = 44_100


def third_octave(centre: float, wave: np.ndarray) -> float:
    """Level of a band in dBFS by a steep filter."""
    sections = signal.butter(6, (centre * 10**-0.05, centre * 10**0.05), "bandpass", fs=RATE, output="sos")
    return 10 * np.log10(np.mean(signal.sosfilt(sections, wave) ** 2))


class SpectrumOfAFile(unittest.TestCase):
    def test_bands_of_voice_and_room_are_those_of_filters_on_their_own_time(self):
        wave = signals.voice_like(40, rms_dbfs=-20, rate=RATE, room_dbfs=-55)
        measured = measure_array(wave, sample_rate_hz=RATE)
        found = measured.inspection.spectrum
        room = np.concatenate(
            [wave[round(s.start_s * RATE) : round(s.end_s * RATE)] for s in measured.inspection.room_tone if s.length_s > 0.3]
        )
        for hz in (501.2, 1000.0, 3981.1, 7943.3):
            band = found.centres_hz.index(hz)
            self.assertAlmostEqual(found.room_tone_dbfs[band], third_octave(hz, room), delta=0.8)
        voice = np.concatenate([wave[round(s.start_s * RATE) : round(s.end_s * RATE)] for s in measured.inspection.speech])
        for hz in (501.2, 1000.0):
            band = found.centres_hz.index(hz)
            self.assertAlmostEqual(found.speech_dbfs[band], third_octave(hz, voice), delta=1.5)
        self.assertEqual(found.hum_hz, ())
        self.assertEqual(found.resonances, ())

    def test_hum_and_resonances_are_marked(self):
        t = np.arange(30 * RATE) / RATE
        wave = signals.voice_like(30, rms_dbfs=-20, rate=RATE)
        hum = sum(0.002 / k * np.sin(2 * np.pi * 60 * k * t) for k in (1, 2, 3))
        b, a = signal.iirpeak(2_300, 20, fs=RATE)
        ringing = wave + 5 * signal.lfilter(b, a, wave)
        found = measure_array(ringing + hum, sample_rate_hz=RATE).inspection.spectrum
        self.assertEqual(found.hum_hz[:3], (60.0, 120.0, 180.0))
        highest = found.resonances[0]
        self.assertAlmostEqual(highest.frequency_hz, 2_300, delta=80)
        self.assertGreater(highest.stands_out_db, 6)
        self.assertLess(highest.width_hz, 400)

    def test_a_resonance_is_as_wide_as_it_is_3_db_under_its_top(self):
        for hz, q, gain_db in ((3_000, 6, 15), (1_500, 3, 12), (1_500, 2, 14)):
            with self.subTest(hz=hz, q=q):
                band = tone.Band(kind="bell", frequency_hz=hz, gain_db=gain_db, q=q)
                sections = tone.sections(tone.Tone(bands=[band]), sample_rate_hz=RATE)
                wave = signal.sosfilt(sections, signals.voice_like(20, rms_dbfs=-26, rate=RATE))
                around = np.linspace(hz / 3, 3 * hz, 20_001)
                inside = around[(level := tone.response_db(tone.Tone(bands=[band]), around, sample_rate_hz=RATE)) > level.max() - 3]
                [found, *_] = measure_array(wave, sample_rate_hz=RATE).inspection.spectrum.resonances
                self.assertAlmostEqual(found.frequency_hz, hz, delta=60)
                self.assertAlmostEqual(found.width_hz, np.ptp(inside), delta=0.15 * np.ptp(inside))

    def test_peaks_and_their_edges_are_those_that_scipy_finds(self):
        for seed in range(50):
            level = np.cumsum(np.random.default_rng(seed).normal(0, 3, 240))
            expected, known = signal.find_peaks(level, prominence=6)
            found = spectrum._peaks(level)
            self.assertEqual([peak for peak, _ in found], expected.tolist())
            np.testing.assert_allclose([prominence for _, prominence in found], known["prominences"], atol=1e-9)
            for peak, prominence in found:
                *_, left, right = signal.peak_widths(level, [peak], rel_height=3 / prominence)
                np.testing.assert_allclose(spectrum._edges(level, peak), (left[0], right[0]), atol=1e-9)

    def test_silence_and_files_without_speech_have_none(self):
        found = measure_array(np.zeros(RATE * 2), sample_rate_hz=RATE).inspection.spectrum
        self.assertIsNone(found.speech_dbfs)
        self.assertEqual(found.resonances, ())


class ChosenTone(unittest.TestCase):
    def test_level_ratio_and_spectrum_are_what_a_whole_inspection_finds(self):
        wave = np.stack([signals.voice_like(20, rms_dbfs=-20, rate=RATE, room_dbfs=level) for level in (-60, -52)], axis=1)
        inspection = measure_array(wave, sample_rate_hz=RATE).inspection
        span = Span(start_s=0.1, end_s=0.6)
        part = wave[round(0.1 * RATE) : round(0.6 * RATE)].astype(np.float32)
        found = chosen_tone.look(part, span, inspection)
        again = measure_array(wave, sample_rate_hz=RATE, room_tone=[span]).inspection
        for quantity in ("noise_floor_dbfs", "signal_to_noise_db"):
            self.assertAlmostEqual(found.changed[quantity].value, again.value(quantity), delta=0.02)
            self.assertEqual(found.changed[quantity].channel, again.readings[quantity].channel)
        self.assertEqual(found.level_dbfs, found.changed["noise_floor_dbfs"].value)
        # White noise rises by 1 dB from third-octave to third-octave, on the mean of both channels.
        one, other = (found.spectrum_dbfs[found.centres_hz.index(hz)] for hz in (1000.0, 10000.0))
        self.assertAlmostEqual(other - one, 10, delta=1.5)
        total = 10 * np.log10(sum(10 ** (level / 10) for level in found.spectrum_dbfs))
        self.assertAlmostEqual(total, 10 * np.log10(np.mean(np.var(part, axis=0))), delta=0.6)

    def test_what_is_no_room_tone_is_refused(self):
        inspection = measure_array(signals.voice_like(10, rms_dbfs=-20, rate=RATE), sample_rate_hz=RATE).inspection
        for span, error in (
            (Span(start_s=9, end_s=12), errors.RoomToneOutside),
            (Span(start_s=-1, end_s=2), errors.RoomToneOutside),
            (Span(start_s=1, end_s=1.05), errors.RoomToneLength),
        ):
            with self.assertRaises(error):
                chosen_tone.check(span, inspection)
        self.assertEqual(chosen_tone.snapped(Span(start_s=0.1013, end_s=0.5987)), Span(start_s=0.1, end_s=0.6))
        silent = chosen_tone.look(np.zeros((RATE, 1), dtype=np.float32), Span(start_s=1, end_s=2), inspection)
        self.assertIsNone(silent.level_dbfs)
        self.assertTrue(silent.changed["noise_floor_dbfs"].silence)


class Spectrogram(unittest.TestCase):
    def of(self, wave: np.ndarray, start: float, end: float, *, columns: int = 60, rows: int = 120):
        samples = np.atleast_2d(wave.T).T.astype(np.float32)
        where = spectrogram.axes(start, end, sample_rate_hz=RATE)
        read = lambda first, frames: samples[first : first + frames]  # noqa: E731
        return where, spectrogram.levels(read, where, sample_rate_hz=RATE, columns=columns, rows=rows)

    def row(self, hz: float, where, rows: int = 120) -> int:
        return rows - 1 - int(rows * np.log(hz / where.low_hz) / np.log(where.high_hz / where.low_hz))

    def test_a_tone_lies_in_its_row_at_its_level_while_it_sounds(self):
        t = np.arange(10 * RATE) / RATE
        for hz in (120, 1_000, 9_000):
            wave = np.where((t > 4) & (t < 6), 0.5 * np.sin(2 * np.pi * hz * t), 0)
            where, found = self.of(wave, 0, 10)
            self.assertLessEqual(abs(int(found[:, 30].argmax()) - self.row(hz, where)), 1)
            self.assertAlmostEqual(found[:, 30].max(), 20 * np.log10(0.5) - 3.01, delta=1.5)
            self.assertLess(found[:, 20].max(), -100)
            self.assertLess(found[:, 40].max(), -100)

    def test_wide_and_narrow_spans_show_the_same_sound(self):
        wave = signals.noise(200, rms_dbfs=-30, rate=RATE)
        for start, end in ((0, 200), (0, 0.05), (199.9, 200), (50, 60)):
            where, found = self.of(wave, start, end)
            self.assertEqual(found.shape, (120, 60))
            shades = spectrogram.shades(found, where)
            self.assertEqual(shades.dtype, np.uint8)
            self.assertGreater(np.median(shades[:60]), 60)

    def test_silence_is_the_lightest(self):
        where, found = self.of(np.zeros(RATE), 0, 1)
        self.assertEqual(int(spectrogram.shades(found, where).max()), 0)


class Blind(unittest.TestCase):
    def test_the_verdict_is_the_binomial_test(self):
        for rounds in range(blind.FEWEST, 21):
            for treated in range(rounds + 1):
                found = blind.outcome(rounds=rounds, treated=treated)
                tail = min(1.0, 2 * min(stats.binom.cdf(treated, rounds, 0.5), stats.binom.sf(treated - 1, rounds, 0.5)))
                self.assertAlmostEqual(found.p_value, tail, places=9)
                self.assertEqual(found.beats_chance, tail < 0.05)
                self.assertEqual(found.beats_chance, max(treated, rounds - treated) >= found.needed)

    def test_it_says_which_and_how_sure(self):
        self.assertEqual(
            blind.outcome(rounds=10, treated=9).sentence,
            "You preferred the processed version in 9 of 10 rounds: unlikely to be luck (2 % odds).",
        )
        self.assertIn("the original in 6 of 10 rounds: this may be luck", blind.outcome(rounds=10, treated=4).sentence)
        self.assertIn("no preference", blind.outcome(rounds=10, treated=5).sentence)

    def test_orders_are_drawn_anew_and_even_in_the_long_run(self):
        drawn = [side for _ in range(100) for side in blind.draw(20)]
        self.assertAlmostEqual(drawn.count("source") / len(drawn), 0.5, delta=0.06)
        self.assertNotEqual(blind.draw(40), blind.draw(40))


if __name__ == "__main__":
    unittest.main()
