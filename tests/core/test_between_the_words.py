"""Noise floor, head and tail against what was truly put into the demo recordings and into built signals."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.demo import scenario
from tests import signals

RATE = 44_100


class Demo(unittest.TestCase):
    def test_what_was_put_in_is_read_back(self):
        with tempfile.TemporaryDirectory() as folder:
            for production in scenario.PRODUCTIONS:
                for recording in production.recordings:
                    path = Path(folder) / recording.file_name
                    truth = scenario.write(recording, path)
                    inspection = inspect(path).inspection
                    with self.subTest(recording=recording.file_name):
                        self.assertEqual(inspection.spectrum.resonances, (), "nobody put one in")
                        for kind, at_s in truth.findings:
                            near = [f for f in inspection.findings if f.kind == kind and f.start_s - 2 < at_s < f.end_s + 2]
                            self.assertTrue(near, f"{kind} at {at_s:.2f} s")
                        for quantity, value, within in truth.readings:
                            self.assertAlmostEqual(inspection.value(quantity), value, delta=within)
                        if truth.noise_dbfs is None:
                            self.assertTrue(inspection.readings["noise_floor_dbfs"].silence)
                            self.assertIn("dead-silence", {finding.kind for finding in inspection.findings})
                            continue
                        self.assertAlmostEqual(inspection.value("noise_floor_dbfs"), truth.noise_dbfs, delta=1.0)
                        if truth.noise_dbfs > -50:
                            continue  # there the room covers the soft ends of the words
                        self.assertAlmostEqual(inspection.value("head_s"), truth.head_s, delta=0.06)
                        if truth.tail_s is not None:
                            self.assertAlmostEqual(inspection.value("tail_s"), truth.tail_s, delta=0.06)


class Built(unittest.TestCase):
    def measured(self, wave):
        return measure_array(wave[:, None], sample_rate_hz=RATE).inspection

    def test_noise_of_any_level_under_speech(self):
        for level in (-45, -55, -65, -75):
            inspection = self.measured(signals.voice_like(20, rms_dbfs=-22, rate=RATE, room_dbfs=level))
            with self.subTest(level=level):
                self.assertAlmostEqual(inspection.value("noise_floor_dbfs"), level, delta=1.0)

    def test_an_offset_is_not_noise(self):
        wave = signals.voice_like(15, rms_dbfs=-22, rate=RATE, room_dbfs=-65) + 0.01
        self.assertAlmostEqual(self.measured(wave).value("noise_floor_dbfs"), -65, delta=1.0)

    def test_a_click_in_a_pause_is_not_room_tone(self):
        wave = signals.voice_like(15, rms_dbfs=-22, rate=RATE, room_dbfs=-65)
        at = round((15 - 0.8) * RATE)
        wave[at : at + 60] += 0.05 * np.hanning(60)
        self.assertAlmostEqual(self.measured(wave).value("noise_floor_dbfs"), -65, delta=1.0)

    def test_gated_pauses_are_silence_with_a_finding(self):
        wave = signals.voice_like(15, rms_dbfs=-22, rate=RATE, room_dbfs=-120)
        wave[np.abs(wave) < 1e-4] = 0
        inspection = self.measured(wave)
        self.assertIsNone(inspection.value("noise_floor_dbfs"))
        self.assertTrue(inspection.readings["noise_floor_dbfs"].silence)
        self.assertIn("dead-silence", {finding.kind for finding in inspection.findings})
        self.assertGreater(inspection.value("digital_silence_s"), 2)

    def test_without_pauses_the_quietest_half_second_is_taken_and_said(self):
        wave = signals.voice_like(30, rms_dbfs=-20, rate=RATE, room_dbfs=-50)
        spans = measure_array(wave[:, None], sample_rate_hz=RATE).inspection.speech
        unbroken = np.concatenate([wave[round(span.start_s * RATE) : round((span.end_s + 0.1) * RATE)] for span in spans])
        inspection = self.measured(unbroken)
        self.assertIn("quietest 500 ms", inspection.readings["noise_floor_dbfs"].method)

    def test_a_file_of_room_tone_alone_has_no_head(self):
        inspection = self.measured(signals.noise(6, rms_dbfs=-60, rate=RATE))
        self.assertAlmostEqual(inspection.value("noise_floor_dbfs"), -60, delta=0.1)
        self.assertIsNone(inspection.value("head_s"))
        self.assertIn("no speech", inspection.readings["head_s"].note)

    def test_head_is_where_speech_starts_not_where_a_click_is(self):
        wave = signals.voice_like(15, rms_dbfs=-22, rate=RATE, room_dbfs=-65, head=1.5)
        wave[round(0.5 * RATE) : round(0.5 * RATE) + 200] += 0.02 * np.hanning(200)
        self.assertAlmostEqual(self.measured(wave).value("head_s"), 1.5, delta=0.06)
