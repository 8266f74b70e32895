"""Verdicts, the gain window, the planner and the loop that conforms: on the demo and at the limits of what can be done."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import pyebur128
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from ispettore.core import errors
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.plan import ending, shaping
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.conform import conform
from ispettore.core.plan.planner import make
from ispettore.core.plan.proposing import proposed
from ispettore.core.plan.window import Bar, Learned, of_bars
from ispettore.core.spec import catalogue
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.verdict import judge, judge_production, place, values
from ispettore.core.treat.treatment import Step, Treatment
from ispettore.demo import scenario
from tests import signals
from tests.core.test_steps import independent_true_peak
from tests.treating import treated

RATE = 44_100
AUDIOBOOK = catalogue.shipped()["audiobook-retail"]


class Verdicts(unittest.TestCase):
    limit = Limit(quantity="rms_dbfs", low=-23, high=-18, guard=0.5)

    def test_positions_and_margins(self):
        cases = [
            (-20, "inside", 2),
            (-22.6, "near", 0.4),
            (-18.3, "near", 0.3),
            (-17, "over", -1),
            (-25, "under", -2),
            (-18, "near", 0),
        ]
        for reading, position, margin in cases:
            verdict = place(self.limit, reading)
            with self.subTest(reading=reading):
                self.assertEqual((verdict.position, verdict.passes), (position, position in ("inside", "near")))
                self.assertAlmostEqual(verdict.margin, margin)

    def test_an_unmeasured_must_fails_and_silence_passes_a_noise_limit(self):
        inspection = measure_array(signals.noise(3, rms_dbfs=-20, rate=RATE)[:, None], sample_rate_hz=RATE).inspection
        verdict = {limit.quantity: limit for limit in judge(inspection, AUDIOBOOK, role="recording").limits}
        self.assertEqual(verdict["head_s"].position, "unmeasured")
        self.assertFalse(verdict["head_s"].passes)
        silent = measure_array(np.zeros((3 * RATE, 1)), sample_rate_hz=RATE).inspection
        verdict = {limit.quantity: limit for limit in judge(silent, AUDIOBOOK, role="recording").limits}
        self.assertTrue(verdict["noise_floor_dbfs"].passes)
        self.assertFalse(verdict["rms_dbfs"].passes)

    def test_advice_is_listed_but_does_not_fail(self):
        advice = Specification(id="a", name="A", limits=(Limit(quantity="rms_dbfs", high=-60, severity="advice"),))
        inspection = measure_array(signals.noise(3, rms_dbfs=-20, rate=RATE)[:, None], sample_rate_hz=RATE).inspection
        verdict = judge(inspection, advice, role="recording")
        self.assertTrue(verdict.passes)
        self.assertFalse(verdict.limits[0].passes)

    def test_format_limits_hold_for_deliverables_alone(self):
        inspection = measure_array(signals.noise(3, rms_dbfs=-20, rate=RATE)[:, None], sample_rate_hz=RATE).inspection
        names = {
            role: {limit.quantity for limit in judge(inspection, AUDIOBOOK, role=role).limits} for role in ("master", "deliverable")
        }
        self.assertEqual(names["deliverable"] - names["master"], {"container", "sample_rate_hz", "bit_rate_kbps", "bit_rate_kind"})

    def test_mono_on_two_loudspeakers_is_three_louder(self):
        inspection = measure_array(signals.voice_like(5, rms_dbfs=-23, rate=RATE)[:, None], sample_rate_hz=RATE).inspection
        limits = [
            judge(inspection, catalogue.shipped()[name], role="recording").limits[0] for name in ("broadcast-r128", "podcast-mono")
        ]
        self.assertAlmostEqual(limits[0].reading - limits[1].reading, 3.01, delta=0.001)

    def test_one_channel_count_for_the_whole_production(self):
        mono = measure_array(np.zeros((RATE, 1)), sample_rate_hz=RATE).inspection
        both = measure_array(np.zeros((RATE, 2)), sample_rate_hz=RATE).inspection
        one, other = (values(inspection, AUDIOBOOK) for inspection in (mono, both))
        self.assertTrue(judge_production([one, one], AUDIOBOOK, {})[0].passes)
        self.assertFalse(judge_production([one, other], AUDIOBOOK, {})[0].passes)

    def test_shipped_specifications_are_the_seven_and_that_of_a_whole_book(self):
        names = "audiobook-retail podcast-stereo podcast-mono video-streaming speech-streaming-aes77 broadcast-r128 broadcast-a85"
        first, *others = names.split()
        self.assertEqual(list(catalogue.shipped()), [first, "audiobook-package", *others])
        for specification in catalogue.shipped().values():
            self.assertTrue(all(limit.purpose for limit in specification.limits if limit.applies_to != "production"))

    def test_bad_specifications_are_refused_with_a_reason(self):
        with self.assertRaisesRegex(ValueError, "above its maximum"):
            Limit(quantity="rms_dbfs", low=-10, high=-20)
        with self.assertRaisesRegex(ValueError, "no quantity"):
            Limit(quantity="warmth", low=1)
        with self.assertRaises(errors.UnknownSpecification) as caught:
            catalogue.find("audiobok")
        self.assertIn("audiobook-retail", caught.exception.sentence)


bars = st.builds(
    lambda low, width: Bar(quantity="rms_dbfs", title="", low_db=low, high_db=low + width), st.floats(-40, 40), st.floats(0, 20)
)


class Window(unittest.TestCase):
    @given(st.lists(bars, min_size=1, max_size=5), st.floats(-60, 60))
    def test_a_gain_is_allowed_where_every_bar_allows_it(self, some, gain):
        window = of_bars(some)
        self.assertEqual(window.allows(gain), all(item.low_db <= gain <= item.high_db for item in some))

    @given(st.lists(bars, min_size=1, max_size=5))
    def test_the_shortfall_is_the_gap_between_the_two_that_exclude_one_another(self, some):
        window = of_bars(some)
        gap = max(item.low_db for item in some) - min(item.high_db for item in some)
        self.assertAlmostEqual(window.shortfall_db, max(0, gap))


class Ends(unittest.TestCase):
    def test_no_length_below_nothing_is_asked_for_where_the_written_file_begins_elsewhere(self):
        # A knock before the first word was taken for speech, and no longer is in what was written: its head is longer by a second.
        wave = signals.voice_like(6, rms_dbfs=-20, rate=RATE)[:, None]
        inspection = measure_array(wave[round(0.5 * RATE) :], sample_rate_hz=RATE).inspection
        self.assertLess(inspection.value("head_s"), 0.5)
        for learned, length in (({}, 0.625), ({"head_s": 0.1}, 0.525), ({"head_s": 1.2}, 0.0)):
            step, obstacles = ending.proposed(inspection, AUDIOBOOK, Learned(ends_s=learned))
            self.assertEqual((step.settings["head_s"], obstacles), (length, []))

    def test_an_end_that_treatment_left_too_short_is_brought_to_its_length_though_the_recordings_own_would_do(self):
        inspection = measure_array(signals.voice_like(6, rms_dbfs=-20, rate=RATE)[:, None], sample_rate_hz=RATE).inspection
        self.assertTrue(0.55 < inspection.value("head_s") < 0.95, "well inside its limit")
        readings = inspection.readings | {"head_s": inspection.readings["head_s"].model_copy(update={"value": 0.45})}
        after = inspection.model_copy(update={"readings": readings})
        left = ending.left_outside(after, AUDIOBOOK, None)
        self.assertEqual(left["head_s"], 0.45)
        step, _ = ending.proposed(inspection, AUDIOBOOK, Learned(ends_read_s=left))
        self.assertEqual(step.settings["head_s"], 0.625)
        self.assertIn("is 0.45 s and becomes 0.63 s", step.reason)
        self.assertNotIn("head_s", ending.left_outside(after, AUDIOBOOK, Step(kind="head-and-tail", settings={"head_s": 0.6})))


class Conforming(unittest.TestCase):
    """The demo recordings, conformed once for all tests here; the results are measured by others' code."""

    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.results = {}
        for recording in scenario.PRODUCTIONS[0].recordings:
            path = cls.folder / recording.file_name
            scenario.write(recording, path)
            out = path.with_suffix(".mp3")
            cls.results[recording.file_name[:2]] = (path, out, conform(path, AUDIOBOOK, out))

    def steps(self, number: str) -> list[str]:
        return [step.kind for step in self.results[number][2].treatment.steps]

    def test_each_gets_the_least_that_does(self):
        self.assertEqual(self.steps("01"), [])
        self.assertEqual(self.steps("02"), ["gain", "head-and-tail"])
        self.assertEqual(self.steps("03"), ["true-peak-limiter"])
        self.assertEqual(self.steps("05"), ["hum-filter"])
        self.assertEqual(self.steps("07"), ["gain"])
        self.assertEqual(self.steps("09"), ["gain", "head-and-tail"])
        self.assertEqual(self.steps("04"), ["noise-reduction", "expander", "gain"])
        self.assertEqual([number for number, (_, _, result) in self.results.items() if not result.passes], ["10"])

    def test_no_step_can_be_left_out(self):
        for number in ("02", "03", "04", "05"):
            path, _, result = self.results[number]
            for left_out in range(len(result.treatment.steps)):
                fewer = tuple(step for index, step in enumerate(result.treatment.steps) if index != left_out)
                out = self.folder / "fewer.mp3"
                with self.subTest(number=number, left_out=result.treatment.steps[left_out].kind):
                    self.assertFalse(conform(path, AUDIOBOOK, out, treatment=Treatment(steps=fewer)).passes)
                    self.assertFalse(out.exists())

    def test_deliverables_pass_when_measured_by_independent_code(self):
        for number in ("01", "02", "03", "04", "05", "06", "07", "08", "09"):
            _, out, _ = self.results[number]
            samples, rate = soundfile.read(out, dtype="float64", always_2d=True)
            rms = 10 * np.log10(np.mean(samples**2))
            frame = rate // 20
            levels = [np.mean(samples[i : i + frame] ** 2) for i in range(0, len(samples) - frame, frame)]
            quiet = 10 * np.log10(max(np.percentile(levels, 8), 1e-12))
            with self.subTest(number=number):
                self.assertEqual(rate, 44_100)
                self.assertTrue(-23 <= rms <= -18)
                self.assertLessEqual(20 * np.log10(np.abs(samples).max()), -3)
                self.assertLessEqual(quiet, -60)
                voiced = np.flatnonzero(np.array(levels) > max(levels) * 10 ** (-2.7))
                self.assertTrue(0.44 <= voiced[0] * frame / rate <= 1.06)
                self.assertTrue(0.94 <= (len(samples) - (voiced[-1] + 1) * frame) / rate <= 5.06)

    def test_the_impossible_names_both_limits_and_the_shortfall(self):
        path, out, result = self.results["10"]
        self.assertFalse(result.passes)
        self.assertFalse(out.exists())
        [obstacle] = result.obstacles
        self.assertEqual(obstacle.limits, ("rms_dbfs", "noise_floor_dbfs"))
        wave, rate = soundfile.read(path)
        strongest = (("noise-reduction", {"amount_db": 12}), ("expander", {"range_db": 6}))
        left = measure_array(treated(wave, *strongest, rate=rate)[0][:, None], sample_rate_hz=rate).inspection
        exact = (-23 - left.value("rms_dbfs")) - (-60 - left.value("noise_floor_dbfs"))
        self.assertAlmostEqual(obstacle.shortfall_db, exact, delta=0.3)
        self.assertIn("it is 21.9 dB too loud relative to the voice", obstacle.advice)
        self.assertRegex(obstacle.advice, r"at most rumble filter \d\.\d dB, noise reduction 1\d\.\d dB, expander \d\.\d dB;")
        self.assertIn("Record closer", obstacle.advice)

    def test_loudness_targets_are_met_by_an_independent_meter(self):
        for spec, low, high, ceiling in (
            ("podcast-mono", -20, -18, -1),
            ("podcast-stereo", -17, -15, -1),
            ("speech-streaming-aes77", -19, -17, -1),
            ("video-streaming", -15, -13, -1),
        ):
            out = self.folder / f"{spec}.wav"
            result = conform(self.results["03"][0], catalogue.shipped()[spec], out)
            with self.subTest(spec=spec):
                self.assertTrue(result.passes, result.obstacles)
                samples, rate = soundfile.read(out, always_2d=True)
                state = pyebur128.R128State(samples.shape[1], rate, pyebur128.MeasurementMode.MODE_I)
                state.add_frames(samples.astype(np.float32).ravel(), len(samples))
                self.assertTrue(low <= pyebur128.get_loudness_global(state) <= high)
                self.assertLessEqual(independent_true_peak(samples), ceiling)

    def test_the_encoders_level_change_is_compensated(self):
        result = self.results["02"][2]
        self.assertAlmostEqual(result.after.value("rms_dbfs"), -20.5, delta=0.1)

    def test_predictions_hold(self):
        measured = inspect(self.results["03"][0])
        plan = make(shaping.whole(measured.basis), AUDIOBOOK, role="master")
        self.assertAlmostEqual(plan.expected_limiting_db, self.results["03"][2].touch.depth_p99_db, delta=0.5)
        for number in ("02", "03", "04", "05", "07", "09"):
            path, _, result = self.results[number]
            [plan] = [each for preference, each in proposed(path, AUDIOBOOK) if preference in ("light", "balanced")][-1:]
            with self.subTest(number=number):
                self.assertEqual([step.kind for step in plan.treatment.steps], self.steps(number))
                self.assertEqual(
                    set(plan.predicted), {"rms_dbfs", "sample_peak_dbfs", "noise_floor_dbfs", "active_speech_level_dbfs"}
                )
                for quantity, value in plan.predicted.items():
                    self.assertAlmostEqual(value, result.after.value(quantity), delta=0.5, msg=quantity)
                self.assertAlmostEqual(plan.touch.voice, result.touch.voice or 0.0, delta=5)
                self.assertAlmostEqual(plan.touch.room, result.touch.room or 0.0, delta=8)

    def test_what_nobody_hears_counts_little_and_what_comes_and_goes_counts_much(self):
        hum, saved = self.results["05"][2].touch, self.results["04"][2].touch
        self.assertLess(hum.touch, 20)
        self.assertGreater(saved.room, 50)
        self.assertLess(saved.voice, 10)

    def test_up_to_three_plans_and_fewer_where_they_coincide(self):
        path = self.results["03"][0]
        found = proposed(path, AUDIOBOOK)
        self.assertEqual([preference for preference, _ in found], ["light", "even"])
        self.assertLess(found[0][1].touch.touch, found[1][1].touch.touch)
        self.assertEqual([preference for preference, _ in proposed(self.results["01"][0], AUDIOBOOK)], ["light"])
        [(_, refused)] = proposed(self.results["10"][0], AUDIOBOOK)
        [obstacle] = refused.obstacles
        self.assertEqual([each.kind for each in obstacle.could_give][-2:], ["noise-reduction", "expander"])
        self.assertAlmostEqual(sum(each.db for each in obstacle.could_give) + obstacle.shortfall_db, 21.9, delta=0.3)

    def test_too_dense_for_the_bounds_is_refused_with_what_is_missing(self):
        strict = Bounds(limiting_db=0.2, compression_db=0.2)
        result = conform(self.results["03"][0], catalogue.shipped()["video-streaming"], self.folder / "no.wav", bounds=strict)
        self.assertFalse(result.passes)
        [obstacle] = result.obstacles
        self.assertEqual(obstacle.limits, ("integrated_loudness_lufs", "true_peak_dbtp"))
        self.assertGreater(obstacle.shortfall_db, 0)
        self.assertFalse((self.folder / "no.wav").exists())

    def test_a_given_treatment_is_run_as_it_is(self):
        out = self.folder / "own.wav"
        own = Treatment(steps=(Step(kind="gain", settings={"gain_db": 12.0}), Step(kind="head-and-tail", settings={"head_s": 0.8})))
        result = conform(self.results["02"][0], AUDIOBOOK, out, treatment=own)
        self.assertTrue(result.passes)
        self.assertAlmostEqual(result.after.value("rms_dbfs"), -21.0, delta=0.2)

    def test_a_recording_is_never_overwritten(self):
        path = self.results["01"][0]
        before = path.read_bytes()
        with self.assertRaises(errors.WouldOverwrite):
            conform(path, AUDIOBOOK, path)
        self.assertEqual(path.read_bytes(), before)

    def test_rate_and_channels_are_converted_where_asked(self):
        wave = signals.stereo(signals.voice_like(12, rms_dbfs=-24, rate=48_000, room_dbfs=-75))
        path = signals.write(self.folder / "s48.wav", wave, 48_000)
        result = conform(path, AUDIOBOOK, self.folder / "s48.mp3")
        self.assertTrue(result.passes, result.obstacles)
        self.assertEqual((result.after.facts.sample_rate_hz, result.after.facts.channels), (44_100, 2))
        self.assertIn("sample-rate", [step.kind for step in result.treatment.steps])
        mono = conform(path, catalogue.shipped()["podcast-mono"], self.folder / "s48.flac")
        self.assertTrue(mono.passes, mono.obstacles)
        self.assertEqual((mono.after.facts.sample_rate_hz, mono.after.facts.channels), (48_000, 1))

    def test_nothing_is_left_in_the_folder_but_results(self):
        self.assertEqual([path.name for path in self.folder.iterdir() if path.name.startswith(".")], [])
