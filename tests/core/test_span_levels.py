"""Readings of any span from what is kept beside an inspection, against inspections of the span itself."""

import io
import json
import unittest
from typing import ClassVar

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from ispettore.core.measure import span_levels
from ispettore.core.measure.inspecting import measure_array
from tests import signals

RATE = 44_100


def kept(wave: np.ndarray, rate: int = RATE):
    """(start_s, end_s) → readings, as the web asks for them."""
    file = io.BytesIO()
    span_levels.write(measure_array(wave, sample_rate_hz=rate), file)
    line, body = file.getvalue().split(b"\n", 1)
    header = json.loads(line)
    samples = np.atleast_2d(wave.T).T.astype(np.float32)

    def readings(start_s: float, end_s: float):
        cut = span_levels.cut(header, lambda first, last: body[first:last], start_s=start_s, end_s=end_s)
        return span_levels.readings(cut, lambda first, frames: samples[first : first + frames])

    return readings


def speech(seconds: float, rate: int = RATE, channels: int = 1) -> np.ndarray:
    wave = signals.voice_like(seconds, rms_dbfs=-20, rate=rate)
    return np.stack([wave * (1 - 0.3 * each) for each in range(channels)], axis=1).astype(np.float32)


class Spans(unittest.TestCase):
    # A span's filters know what came before it; those of the part cut out start from nothing.
    TOLERANCES: ClassVar = {
        "sample_peak_dbfs": 0.003, "true_peak_dbtp": 0.02, "rms_dbfs": 0.003, "active_speech_level_dbfs": 0.05,
        "speech_activity_percent": 0.5, "integrated_loudness_lufs": 0.05, "momentary_max_lufs": 0.02, "short_term_max_lufs": 0.02,
        "loudness_range_lu": 0.05, "crest_factor_db": 0.006, "speech_crest_db": 0.05, "peak_to_loudness_db": 0.06,
    }  # fmt: skip

    def check(self, wave: np.ndarray, rate: int, start_s: float, end_s: float, of=None) -> None:
        found = (of or kept(wave, rate))(start_s, end_s)
        part = wave[round(start_s * rate) : round(end_s * rate)]
        expected = measure_array(part, sample_rate_hz=rate).inspection
        self.assertEqual(set(found), set(self.TOLERANCES))
        for quantity, tolerance in self.TOLERANCES.items():
            with self.subTest(quantity=quantity, start=start_s, end=end_s):
                if expected.value(quantity) is None:
                    self.assertIsNone(found[quantity].value)
                    self.assertEqual(found[quantity].note, expected.readings[quantity].note)
                else:
                    self.assertAlmostEqual(found[quantity].value, expected.value(quantity), delta=tolerance)

    def test_a_span_reads_as_an_inspection_of_it(self):
        for rate, channels in ((44_100, 1), (48_000, 2), (16_000, 1)):
            wave = speech(80, rate, channels)
            of = kept(wave, rate)
            for start, end in ((0, 80), (3, 7), (58, 63), (10.5, 71.25), (70, 70.6), (20, 77)):
                self.check(wave, rate, start, end, of)

    def test_true_peaks_of_quiet_spans_are_found_between_the_samples(self):
        t = np.arange(5 * RATE)
        wave = (0.05 * np.sin(2 * np.pi * t / 4 + np.pi / 4)).astype(np.float32)[:, None]
        found = kept(wave)(1, 3)
        self.assertAlmostEqual(found["true_peak_dbtp"].value, 20 * np.log10(0.05), delta=0.02)
        self.assertAlmostEqual(found["sample_peak_dbfs"].value, 20 * np.log10(0.05) - 3.01, delta=0.02)

    def test_times_are_those_of_the_file_and_short_or_silent_spans_say_why_they_have_no_value(self):
        wave = np.zeros(10 * RATE, dtype=np.float32)
        wave[6 * RATE + 50] = 0.5
        of = kept(wave)
        self.assertAlmostEqual(of(4, 8)["sample_peak_dbfs"].start_s, 6.0, delta=0.005)
        self.assertEqual((of(4, 8)["rms_dbfs"].start_s, of(4, 8)["rms_dbfs"].end_s), (4.0, 8.0))
        silent = of(1, 2)
        self.assertTrue(silent["rms_dbfs"].silence and silent["true_peak_dbtp"].silence)
        self.assertIsNone(silent["integrated_loudness_lufs"].value)
        self.assertEqual(of(1, 2)["short_term_max_lufs"].note, "shorter than 3 s")
        self.assertIsNone(of(9.9995, 10)["integrated_loudness_lufs"].value)

    @settings(max_examples=25, deadline=None)
    @given(st.floats(0, 29.9), st.floats(0.005, 30))
    def test_levels_of_any_span_are_those_of_its_samples(self, start, length):
        first, last = int(start / 0.005 + 1e-6), min(int(np.ceil((start + length) / 0.005 - 1e-6)), 6_000)
        found = self.of(start, min(start + length, 30.0))
        part = self.wave[int(first * 220.5 + 0.5) : int(last * 220.5 + 0.5)].astype(np.float64)
        self.assertAlmostEqual(found["rms_dbfs"].value, 10 * np.log10(np.mean(part**2)), delta=0.02)
        self.assertAlmostEqual(found["sample_peak_dbfs"].value, 20 * np.log10(np.abs(part).max()), delta=0.03)

    @classmethod
    def setUpClass(cls):
        cls.wave = speech(30)
        cls.of = staticmethod(kept(cls.wave))

    def test_what_lies_outside_is_refused(self):
        for start, end in ((31, 32), (-1, 2), (0, 700)):
            with self.assertRaises(ValueError):
                if end > 600:
                    kept(np.zeros((601 * 8_000, 1), dtype=np.float32), 8_000)(0, 601)
                self.of(start, end)


if __name__ == "__main__":
    unittest.main()
