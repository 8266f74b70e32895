"""Each step does what it must, and gives the same for any block size."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile
from scipy import signal as dsp

from ispettore.core import errors
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.treat import touch
from ispettore.core.treat.keeping import load
from ispettore.core.treat.runner import run
from ispettore.core.treat.step import Context
from ispettore.core.treat.treatment import STEPS, Step, Treatment
from tests import signals

RATE = 44_100


def processed(kind: str, wave: np.ndarray, rate: int = RATE, blocks: tuple[int, ...] = (65_536,), **settings) -> np.ndarray:
    """The step's output for a wave of shape (frames, channels), fed in blocks of the sizes given, in turn."""
    processor = Step(kind=kind, settings=settings).typed.start(Context("test", rate, wave.shape[1]))
    out, at, turn = [], 0, 0
    while at < len(wave):
        size = blocks[turn % len(blocks)]
        out.append(processor.feed(wave[at : at + size].astype(np.float32)))
        at, turn = at + size, turn + 1
    out.append(processor.finish())
    return np.concatenate(out)


def independent_true_peak(wave: np.ndarray) -> float:
    """The largest of three 16 times interpolations by SciPy's polyphase filters, in dBTP.

    Of a long wave only the tenths of a second are interpolated, with their neighbours, whose samples come within 6 dB of the
    largest.
    """
    size, largest = RATE // 10, 0.0
    tops = np.array([np.abs(wave[at : at + size]).max() for at in range(0, len(wave), size)])
    loud = np.flatnonzero(tops >= tops.max() / 2) if len(tops) > 50 else np.array([0])
    for k in loud:
        part = wave[max(k * size - 256, 0) : (k + 1) * size + 256] if len(tops) > 50 else wave
        for beta in (5.0, 8.0, 12.0):
            fine = dsp.resample_poly(part.astype(np.float64), 16, 1, axis=0, window=("kaiser", beta))
            # What rings at the ends of a part is not in the wave.
            inside = fine[2_048:-2_048] if len(tops) > 50 else fine
            largest = max(largest, float(np.abs(inside).max()))
    return 20 * float(np.log10(largest))


def hostile(rate: int = RATE) -> dict[str, np.ndarray]:
    """Signals that make limiters overshoot, shape (frames, 1)."""
    random = np.random.default_rng(11)
    bursts = random.standard_normal(2 * rate) * (np.arange(2 * rate) % 4_410 < 400)
    clipped = np.clip(3 * signals.voice_like(4, rms_dbfs=-12, rate=rate), -1, 1)
    made = {
        "bursts": 0.8 * bursts,
        "clipped": clipped,
        "square": 0.95 * np.sign(signals.sine(997, peak_dbfs=0, seconds=1, rate=rate)),
        "fs/4": signals.sine(rate / 4, peak_dbfs=0, seconds=1, rate=rate, degrees=45),
        "between": np.tile([1.0, 1.0, -1.0, -1.0, 1.0, -1.0, -1.0, 1.0], rate // 8),
    }
    return {name: wave[:, None] * np.minimum(1, np.hanning(len(wave))[:, None] * 400) for name, wave in made.items()}


class Limiter(unittest.TestCase):
    def test_never_above_the_ceiling_on_hostile_signals(self):
        for name, wave in hostile().items():
            out = processed("true-peak-limiter", wave, ceiling_dbtp=-3)
            ours = measure_array(out, sample_rate_hz=RATE).inspection.value("true_peak_dbtp")
            with self.subTest(signal=name):
                self.assertLessEqual(ours, -3 + 0.01)
                self.assertLessEqual(independent_true_peak(out), -3 + 0.05)
                self.assertEqual(len(out), len(wave))

    def test_transparent_and_in_place_below_the_ceiling(self):
        wave = signals.voice_like(4, rms_dbfs=-24, rate=RATE)[:, None]
        out = processed("true-peak-limiter", wave, ceiling_dbtp=-1)
        self.assertTrue(np.array_equal(out, wave.astype(np.float32)))

    def test_leaves_what_is_far_from_a_peak_alone(self):
        wave = 0.1 * signals.sine(300, peak_dbfs=0, seconds=3, rate=RATE)[:, None]
        wave[RATE : RATE + 50] = 0.9
        out = processed("true-peak-limiter", wave, ceiling_dbtp=-6)
        self.assertTrue(np.array_equal(out[: RATE - 600], wave[: RATE - 600].astype(np.float32)))
        self.assertLess(np.abs(out[-RATE:] - wave[-RATE:]).max(), 1e-4)

    def test_channels_are_linked(self):
        left = signals.sine(300, peak_dbfs=0, seconds=1, rate=RATE)
        out = processed("true-peak-limiter", np.stack((left, 0.1 * left), axis=1), ceiling_dbtp=-6)
        self.assertTrue(np.allclose(out[:, 1], 0.1 * out[:, 0], atol=1e-6))

    def test_any_block_size_gives_the_same(self):
        wave = hostile()["bursts"][:30_000]
        whole = processed("true-peak-limiter", wave, ceiling_dbtp=-6)
        for blocks in ((1_000,), (7, 5_000, 333), (40_000,)):
            with self.subTest(blocks=blocks):
                self.assertTrue(np.array_equal(processed("true-peak-limiter", wave, blocks=blocks, ceiling_dbtp=-6), whole))

    def test_short_files_and_silence(self):
        for frames in (1, 20, 100, 3_000):
            out = processed("true-peak-limiter", np.full((frames, 1), 0.9), ceiling_dbtp=-6)
            self.assertEqual(len(out), frames)
            self.assertLessEqual(np.abs(out).max(), 10 ** (-6 / 20))
        self.assertEqual(np.abs(processed("true-peak-limiter", np.zeros((5_000, 1)), ceiling_dbtp=-6)).max(), 0)


class PlainSteps(unittest.TestCase):
    def test_gain_is_exact(self):
        wave = signals.noise(1, rms_dbfs=-30, rate=RATE)[:, None]
        out = processed("gain", wave, gain_db=6.5)
        self.assertTrue(np.allclose(out, wave * 10 ** (6.5 / 20), rtol=1e-6))

    def test_channels_mix_by_their_mean_and_spread_evenly(self):
        left, right = signals.noise(1, rms_dbfs=-20, rate=RATE), signals.noise(1, rms_dbfs=-20, rate=RATE, seed=2)
        mono = processed("channels", np.stack((left, right), axis=1), channels=1, live=[1, 2])
        self.assertTrue(np.allclose(mono[:, 0], (left + right) / 2, atol=1e-6))
        two = processed("channels", left[:, None], channels=2, live=[1])
        self.assertTrue(np.array_equal(two[:, 0], two[:, 1]))

    def test_sample_rate_keeps_level_place_and_length(self):
        wave = signals.sine(1_000, peak_dbfs=-6, seconds=2, rate=48_000)[:, None]
        out = processed("sample-rate", wave, 48_000, blocks=(5_000,), sample_rate_hz=44_100)
        self.assertEqual(len(out), 2 * 44_100)
        expected = signals.sine(1_000, peak_dbfs=-6, seconds=2, rate=44_100)
        self.assertLess(np.abs(out[2_000:-2_000, 0] - expected[2_000:-2_000]).max(), 1e-4)


class HeadAndTail(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def run_on(self, wave: np.ndarray, **settings):
        path = signals.write(self.folder / "in.wav", wave, RATE, "FLOAT")
        treatment = Treatment(steps=(Step(kind="head-and-tail", settings=settings),))
        return run(path, treatment, folder=self.folder, name="in.wav")

    def test_lengths_come_out_as_asked(self):
        wave = signals.voice_like(12, rms_dbfs=-22, rate=RATE, room_dbfs=-62, head=0.7)
        before = measure_array(wave[:, None], sample_rate_hz=RATE).inspection
        for head, tail in ((0.5, 1.0), (1.5, 3.5), (0.7, 6.0)):
            result = inspect(self.run_on(wave, head_s=head, tail_s=tail).path).inspection
            with self.subTest(head=head, tail=tail):
                self.assertAlmostEqual(result.value("head_s"), head, delta=0.02)
                self.assertAlmostEqual(result.value("tail_s"), tail, delta=0.02)
                moved = head - before.value("head_s") + tail - before.value("tail_s")
                self.assertAlmostEqual(result.facts.duration_s, before.facts.duration_s + moved, delta=0.001)

    def test_the_filling_is_the_recordings_own_room_without_clicks_or_silence(self):
        wave = signals.voice_like(12, rms_dbfs=-22, rate=RATE, room_dbfs=-55, head=0.7)
        out, _ = soundfile.read(self.run_on(wave, head_s=2.5).path)
        added = out[round(0.02 * RATE) : round(2.2 * RATE)]
        self.assertAlmostEqual(10 * np.log10(np.mean(added**2)), -55, delta=1.0)
        # Second difference at every join stays within what the room itself does.
        own = np.abs(np.diff(wave[: round(0.6 * RATE)], 2)).max()
        self.assertLessEqual(np.abs(np.diff(added, 2)).max(), 1.35 * own)
        level = [np.mean(added[i : i + 2_205] ** 2) for i in range(0, len(added) - 2_205, 2_205)]
        self.assertGreater(10 * np.log10(min(level)), -58)

    def test_the_speech_itself_is_untouched(self):
        wave = signals.voice_like(8, rms_dbfs=-22, rate=RATE, head=0.7)
        out, _ = soundfile.read(self.run_on(wave, head_s=1.2).path)
        shift = len(out) - len(wave)
        self.assertTrue(np.array_equal(out[shift + RATE :], wave[RATE:].astype(np.float32)))

    def test_without_room_tone_it_says_so(self):
        wave = signals.voice_like(8, rms_dbfs=-22, rate=RATE, room_dbfs=-130)
        wave[np.abs(wave) < 1e-4] = 0
        with self.assertRaises(errors.NothingToLengthenWith) as caught:
            self.run_on(wave, head_s=3.0)
        self.assertIn("in.wav", caught.exception.sentence)


class Treatments(unittest.TestCase):
    def test_settings_are_checked_and_unknown_steps_named(self):
        with self.assertRaisesRegex(ValueError, "no step “reverb”"):
            Step(kind="reverb")
        with self.assertRaises(ValueError):
            Step(kind="gain", settings={"gain_db": 200})
        with self.assertRaises(ValueError):
            Step(kind="gain", settings={"gain_db": 1, "colour": "warm"})

    def test_a_file_that_is_no_treatment_says_why(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "t.json"
            for text, words in (("{", "not JSON"), ('{"steps": [{"kind": "reverb"}]}', "reverb"), ('{"version": 9}', "version")):
                path.write_text(text)
                with self.subTest(text=text), self.assertRaises(errors.BadTreatment) as caught:
                    load(path)
                self.assertIn(words, caught.exception.sentence)

    def test_every_step_has_a_title_and_settings_with_units(self):
        for kind, settings in STEPS.items():
            self.assertTrue(settings.title, kind)
            self.assertIsNotNone(settings.model_json_schema())

    def test_a_step_that_is_off_does_nothing(self):
        with tempfile.TemporaryDirectory() as folder:
            wave = signals.noise(1, rms_dbfs=-30, rate=RATE)
            path = signals.write(Path(folder) / "a.wav", wave, RATE, "FLOAT")
            off = Treatment(steps=(Step(kind="gain", settings={"gain_db": 6}, on=False),))
            out, _ = soundfile.read(run(path, off, folder=Path(folder)).path)
            self.assertTrue(np.array_equal(out, wave.astype(np.float32)))


class Touch(unittest.TestCase):
    def test_a_constant_gain_is_no_touch_and_the_scale_is_as_documented(self):
        speech = np.ones(10_000, dtype=bool)
        self.assertEqual(touch.of(np.zeros(10_000), speech).touch, 0)
        wander = np.tile([2.0, -2.0], 5_000)
        self.assertAlmostEqual(touch.of(wander - wander.max(), speech).gain_wander_db, 2.0)
        deep = np.zeros(10_000)
        deep[:150] = -6
        found = touch.of(deep, speech)
        self.assertAlmostEqual(found.depth_p99_db, 6.0)
        self.assertAlmostEqual(found.touch, 50, delta=4)
        self.assertAlmostEqual(found.share_over_half_db, 0.015)

    def test_what_happens_in_pauses_does_not_count(self):
        speech = np.zeros(1_000, dtype=bool)
        speech[:500] = True
        gain = np.where(speech, 0.0, -12.0)
        self.assertEqual(touch.of(gain, speech).touch, 0)
