"""Rumble filter and compressor: responses, static curve, ballistics, and what the surrogate predicts."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.treat.compressor import Compressor, static_curve, surrogate
from ispettore.core.treat.limiter import TruePeakLimiter
from ispettore.core.treat.limiter import surrogate as limiter_surrogate
from ispettore.core.treat.step import Context
from ispettore.demo import scenario
from tests import signals
from tests.core.test_steps import RATE, processed


def level_after(kind: str, frequency: float, **settings) -> float:
    """Gain of a step on a sine, in dB, once it has settled."""
    wave = signals.sine(frequency, peak_dbfs=-6, seconds=3, rate=RATE)[:, None]
    out = processed(kind, wave, **settings)
    return 20 * float(np.log10(np.std(out[RATE : 2 * RATE]) / np.std(wave[RATE : 2 * RATE])))


class RumbleFilter(unittest.TestCase):
    def test_three_decibels_at_the_corner_and_the_slope_below(self):
        for slope in (6, 12, 24, 48):
            with self.subTest(slope=slope):
                settings = {"corner_hz": 80, "slope_db_per_octave": slope}
                self.assertAlmostEqual(level_after("rumble-filter", 80, **settings), -3.01, delta=0.1)
                self.assertAlmostEqual(level_after("rumble-filter", 1_000, **settings), 0, delta=0.1)
                if slope <= 24:
                    self.assertLess(level_after("rumble-filter", 20, **settings), -1.85 * slope)

    def test_linear_phase_is_symmetric_and_in_place(self):
        click = np.zeros((2 * RATE, 1))
        click[RATE] = 1
        out = processed("rumble-filter", click, corner_hz=80, phase="linear")[:, 0]
        self.assertEqual(len(out), 2 * RATE)
        self.assertLess(np.abs(out - out[::-1][np.r_[len(out) - 1, : len(out) - 1]]).max(), 1e-6)
        self.assertEqual(int(np.argmax(np.abs(out))), RATE)
        self.assertAlmostEqual(level_after("rumble-filter", 80, corner_hz=80, phase="linear"), -3.01, delta=0.2)

    def test_linear_phase_keeps_the_waves_symmetry(self):
        t = np.arange(2 * RATE) / RATE
        lopsided = sum(np.sin(2 * np.pi * 180 * k * t + 0.5 * k) / k for k in range(1, 12))[:, None] * 0.2
        balance = [
            20 * np.log10(wave[RATE // 2 : RATE].max() / -wave[RATE // 2 : RATE].min())
            for wave in (lopsided, processed("rumble-filter", lopsided, corner_hz=80, phase="linear"))
        ]
        self.assertAlmostEqual(balance[0], balance[1], delta=0.1)

    def test_any_block_size_gives_the_same(self):
        wave = signals.noise(1, rms_dbfs=-20, rate=RATE)[:, None]
        for phase in ("minimum", "linear"):
            whole = processed("rumble-filter", wave, phase=phase)
            parts = processed("rumble-filter", wave, blocks=(999, 17, 8_000), phase=phase)
            with self.subTest(phase=phase):
                self.assertLess(np.abs(whole - parts).max(), 1e-6)

    def test_silence_stays_silent(self):
        self.assertEqual(np.abs(processed("rumble-filter", np.zeros((RATE, 2)))).max(), 0)


class CompressorSteps(unittest.TestCase):
    def test_static_curve_on_steady_sines(self):
        for ratio in (1.5, 2, 4):
            settings = {"threshold_dbfs": -20, "ratio": ratio, "knee_db": 0}
            for level in (-30, -20, -12, -4):
                wave = signals.sine(500, peak_dbfs=level, seconds=2, rate=RATE)[:, None]
                out = processed("compressor", wave, **settings)
                gain = 20 * np.log10(np.abs(out[RATE:]).max() / np.abs(wave[RATE:]).max())
                with self.subTest(ratio=ratio, level=level):
                    self.assertAlmostEqual(gain, min(0, (1 / ratio - 1) * (level + 20)), delta=0.1)

    def test_rms_detection_reads_a_full_scale_sine_as_minus_3(self):
        wave = signals.sine(500, peak_dbfs=0, seconds=2, rate=RATE)[:, None]
        out = processed("compressor", wave, threshold_dbfs=-23.01, ratio=2, knee_db=0, detection="rms")
        self.assertAlmostEqual(20 * np.log10(np.abs(out[RATE:-2_000]).max()), -10, delta=0.1)

    def test_attack_and_release_are_times_to_63_percent(self):
        wave = np.concatenate(
            [np.full(RATE, 10 ** (-30 / 20)), np.full(RATE, 10 ** (-10 / 20)), np.full(2 * RATE, 10 ** (-30 / 20))]
        )
        held = round(0.005 * RATE)
        for attack, release in ((20, 150), (50, 400)):
            settings = Compressor(threshold_dbfs=-20, ratio=2, knee_db=0, attack_ms=attack, release_ms=release, look_ahead_ms=0)
            out = processed("compressor", wave[:, None], **settings.model_dump())[:, 0]
            gain = 20 * np.log10(out / wave)
            reached = np.flatnonzero(gain[RATE - held :] < -5 * 0.632)[0] / RATE * 1000
            back = np.flatnonzero(gain[2 * RATE + held :] > -5 * 0.368)[0] / RATE * 1000
            with self.subTest(attack=attack, release=release):
                self.assertAlmostEqual(reached, attack, delta=0.1 * attack)
                self.assertAlmostEqual(back, release, delta=0.1 * release)

    def test_transparent_below_the_threshold_in_place_linked_and_blockwise(self):
        wave = signals.stereo(signals.noise(1, rms_dbfs=-40, rate=RATE))
        self.assertTrue(np.array_equal(processed("compressor", wave, threshold_dbfs=-10), wave.astype(np.float32)))
        loud = np.stack((wave[:, 0] * 50, wave[:, 0] * 5), axis=1)
        whole = processed("compressor", loud, threshold_dbfs=-20, ratio=3)
        self.assertTrue(np.allclose(whole[:, 0], 10 * whole[:, 1], rtol=1e-4, atol=1e-5))
        for detection in ("peak", "rms"):
            whole = processed("compressor", loud, threshold_dbfs=-20, ratio=3, detection=detection)
            parts = processed("compressor", loud, blocks=(501, 3, 9_000), threshold_dbfs=-20, ratio=3, detection=detection)
            with self.subTest(detection=detection):
                self.assertLess(np.abs(whole - parts).max(), 1e-6)
                self.assertEqual(len(parts), len(loud))

    def test_the_crest_factor_of_speech_falls_as_the_curve_promises(self):
        wave, _ = scenario.PRODUCTIONS[0].recordings[2].make()
        before = measure_array(wave, sample_rate_hz=RATE).inspection
        crest = before.value("sample_peak_dbfs") - before.value("rms_dbfs")
        out = processed("compressor", wave, threshold_dbfs=before.value("rms_dbfs") - 4, ratio=2.5, knee_db=6)
        after = measure_array(out, sample_rate_hz=RATE).inspection
        self.assertLess(after.value("sample_peak_dbfs") - after.value("rms_dbfs"), crest - 4)

    def test_dry_and_wet_and_make_up(self):
        wave = signals.sine(500, peak_dbfs=-4, seconds=1, rate=RATE)[:, None]
        dry = processed("compressor", wave, threshold_dbfs=-30, ratio=4, wet=0)
        self.assertTrue(np.allclose(dry, wave, atol=1e-6))
        settings = {"threshold_dbfs": 0, "make_up_db": 6}
        self.assertTrue(np.allclose(processed("compressor", 0.1 * wave, **settings), 0.1 * wave * 10**0.3, rtol=1e-4))

    def test_the_knee_is_smooth(self):
        settings = Compressor(threshold_dbfs=-20, ratio=3, knee_db=10)
        levels = np.linspace(-40, 0, 2_001)
        self.assertLess(np.abs(np.diff(static_curve(levels, settings), 2)).max(), 0.001)


class Surrogates(unittest.TestCase):
    def test_peak_and_rms_are_predicted_over_the_demo_and_twenty_settings(self):
        with tempfile.TemporaryDirectory() as folder:
            errors = []
            for recording in scenario.PRODUCTIONS[0].recordings[:3]:
                path = Path(folder) / "in.wav"
                scenario.write(recording, path)
                measured = inspect(path)
                wave, _ = soundfile.read(path, always_2d=True)
                rms = measured.inspection.value("rms_dbfs")
                for over in (8, 4, 0, -4):
                    for ratio in (1.5, 2, 2.5, 3, 4):
                        settings = Compressor(threshold_dbfs=rms + over, ratio=ratio)
                        out = processed("compressor", wave, **settings.model_dump())
                        gain = 10 ** (surrogate(measured.cells.peak.max(axis=0), settings) / 20)
                        peak = 20 * np.log10((measured.cells.peak.max(axis=0) * gain).max() / np.abs(out).max())
                        power = np.average(measured.cells.power.mean(axis=0) * gain**2, weights=measured.cells.counts)
                        errors.append((peak, 10 * np.log10(power / np.mean(out.astype(np.float64) ** 2))))
            worst = np.abs(np.array(errors)).max(axis=0)
            self.assertLess(worst[0], 0.5)
            self.assertLess(worst[1], 0.2)

    def test_the_limiters_depth_is_predicted(self):
        wave, _ = scenario.PRODUCTIONS[0].recordings[2].make()
        measured = measure_array(wave, sample_rate_hz=RATE)
        for ceiling in (-3, -6, -9):
            settings = TruePeakLimiter(ceiling_dbtp=ceiling)
            processor = settings.start(Context("t", RATE, 1))
            processor.feed(wave.astype(np.float32))
            processor.finish()
            speech = measured.speech_mask
            real = -np.percentile(processor.reduction_db()[: speech.size][speech], 1)
            predicted = -np.percentile(limiter_surrogate(measured.cells.peak.max(axis=0), settings)[speech], 1)
            with self.subTest(ceiling=ceiling):
                self.assertAlmostEqual(predicted, real, delta=0.5)
