"""Treatments as sentences, drafts that may be wrong, and the smallest change that closes what a file missed."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.plan import closing, offering, summary
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.conform import conform
from ispettore.core.spec import catalogue
from ispettore.core.spec.specification import Limit
from ispettore.core.spec.verdict import judge
from ispettore.core.treat import draft, order, wording
from ispettore.core.treat.draft import DraftStep, StepNotReady
from ispettore.core.treat.treatment import STEPS, Step, Treatment
from tests import signals

RATE = 44_100
RETAIL = catalogue.find("audiobook-retail")


def step(kind: str, identifier: str = "", on: bool = True, **settings) -> DraftStep:
    return DraftStep(id=identifier or kind, kind=kind, on=on, settings=settings)


def said(pieces, settings) -> str:
    return "".join(piece.words or settings[piece.path].text for piece in pieces)


class Sentences(unittest.TestCase):
    def test_every_step_says_what_it_is_for_and_names_every_setting_once(self):
        for kind, made in STEPS.items():
            with self.subTest(kind=kind):
                self.assertRegex(made.purpose, r"^[A-Z].*\.$")
                read = wording.read(kind, {})
                named = [piece.path for piece in (*read.pieces, *read.further) if piece.path]
                listed = {made.each[0]} if made.each else set()
                whole = {"begins_s", "length_s"} if made.adds_sound else set()
                self.assertEqual(sorted(named), sorted(set(made.model_fields) - listed - whole))
                for setting in read.settings.values():
                    self.assertRegex(setting.why, r"^[A-Z].*\.$", setting.path)
                    self.assertTrue(setting.title, setting.path)
                    self.assertTrue(setting.form != "number" or setting.least is not None, setting.path)

    def test_every_step_is_offered_once_in_the_order_of_work(self):
        offered = [kind for _, kinds in order.GROUPS for kind in kinds]
        self.assertEqual(sorted(offered), sorted(kind for kind, step in STEPS.items() if not step.adds_sound))
        self.assertEqual(order.by_place(offered), {})

    def test_a_step_reads_with_its_figures(self):
        for kind, settings, wanted in (
            ("compressor", {"threshold_dbfs": -24, "ratio": 2.5}, "Compress above −24 dBFS at 2.5 : 1"),
            ("noise-reduction", {}, "Lower steady noise by 8 dB, learned from room tone"),
            ("expander", {}, "Lower pauses below a threshold proposed for this recording by up to 12 dB"),
            ("true-peak-limiter", {"ceiling_dbtp": -3.2}, "Hold true peaks under −3.2 dBTP"),
            ("channels", {"channels": 1}, "Deliver one channel"),
            ("sample-rate", {"sample_rate_hz": 44_100}, "Convert to 44,100 Hz"),
            ("reference-level", {"quantity": "rms_dbfs"}, "Bring RMS level to −20 dB"),
        ):
            self.assertEqual(wording.text(wording.read(kind, settings)), wanted)

    def test_entries_of_a_list_read_each_by_itself(self):
        read = wording.read(
            "tone", {"bands": [{"kind": "bell", "frequency_hz": 3_000, "gain_db": -2}, {"kind": "notch", "frequency_hz": 9}]}
        )
        first, second = read.entries
        self.assertEqual(said(first.pieces, read.settings), "A bell at 3,000 by −2, quality 0.707")
        self.assertEqual(read.settings["bands.1.frequency_hz"].problem, "Frequency: enter 20 to 20,000 Hz.")
        self.assertEqual(second.path, "bands.1")
        self.assertFalse(read.sound)

    def test_what_is_wrong_stands_beside_the_setting_and_what_was_written_stays(self):
        for written, text in ((-200, "−200"), ("loud", "loud"), (None, "…")):
            read = wording.read("compressor", {"threshold_dbfs": written})
            self.assertEqual(read.settings["threshold_dbfs"].problem, "Threshold: enter −80 to 0 dBFS.")
            self.assertEqual(read.settings["threshold_dbfs"].text, text)
        spots = [{"start_s": 2, "end_s": 1, "gain_db": 3}]
        self.assertEqual(wording.read("spot-gain", {"spots": spots}).problems, ("A span ends after it starts.",))
        unknown = wording.read("gain", {"gain_db": 1, "colour": "red"})
        self.assertIn("does not know the setting “colour”", unknown.problems[0])


class Drafts(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.path = cls.folder / "chapter.wav"
        soundfile.write(cls.path, signals.voice_like(12, rms_dbfs=-29, rate=RATE, room_dbfs=-78), RATE, subtype="PCM_24")
        cls.inspection = inspect(cls.path).inspection

    def test_only_steps_that_are_on_must_be_sound(self):
        steps = [step("gain", gain_db=3), step("harp", on=False), step("compressor", on=False)]
        read = draft.read(steps)
        self.assertTrue(draft.ready(read))
        self.assertEqual([one.kind for one in draft.treatment(steps).steps], ["gain"])
        with self.assertRaises(StepNotReady) as refused:
            draft.treatment([step("gain", gain_db=3), step("compressor")])
        self.assertEqual(refused.exception.sentence, "Step 2, compressor, can't run: Threshold: enter −80 to 0 dBFS.")

    def test_no_room_tone_to_learn_from_is_said_beside_the_step(self):
        steps = [step("gain", gain_db=3), step("noise-reduction"), step("head-and-tail", head_s=5)]
        bare = self.inspection.model_copy(update={"room_tone": ()})
        gain, noise, ends = draft.read(steps, bare)
        self.assertEqual(gain.problems, ())
        self.assertIn("no room tone to learn the noise from", noise.problems[0])
        self.assertIn("no room tone of 120 ms", ends.problems[0])
        known = draft.read(steps, self.inspection)
        self.assertTrue(all(not one.problems for one in known))
        pauses = sum(span.length_s >= 0.06 for span in self.inspection.room_tone)
        self.assertEqual(wording.text(known[1].reading), f"Lower steady noise by 8 dB, learned from {pauses} pauses")

    def test_the_order_speaks_beside_the_step_it_concerns(self):
        first, second, third = draft.read([step("compressor", on=False), step("gain", gain_db=1), step("noise-reduction")])
        self.assertEqual((first.order, second.order), ("", ""))
        self.assertRegex(third.order, "^Noise reduction comes after gain: ")

    def test_a_new_step_goes_where_it_belongs(self):
        there = ["rumble-filter", "expander", "gain", "true-peak-limiter", "head-and-tail"]
        for kind in STEPS:
            at = order.place_for(kind, there)
            with self.subTest(kind=kind):
                self.assertEqual(order.by_place([*there[:at], kind, *there[at:]]), {})

    def test_changes_are_told_in_a_few_words(self):
        one, two, three = step("gain", gain_db=3), step("compressor", threshold_dbfs=-24), step("de-esser")
        for before, after, words in (
            ([one, two], [two, one], "move compressor"),
            ([one, two, three], [three, one, two], "move de-esser"),
            ([two], [step("compressor", threshold_dbfs=-26)], "compressor: threshold −26 dBFS"),
            ([two], [step("compressor", threshold_dbfs=-26, ratio=3)], "change compressor"),
            ([one], [one, two], "add compressor"),
            ([one, two], [step("gain", "new", gain_db=1)], "replace the treatment"),
            ([one], [one], ""),
        ):
            self.assertEqual(draft.told(before, after), words)
        self.assertEqual(
            draft.differences([one, two], [two, step("gain", gain_db=4), three]), ["gain 4 dB", "with de-esser", "in another order"]
        )

    def test_steps_begin_with_settings_that_fit_the_recording_and_run(self):
        loud = [one for group in offering.steps(self.inspection, RETAIL) for one in group.steps]
        for one in loud:
            with self.subTest(kind=one.kind):
                read = wording.read(one.kind, one.settings)
                self.assertTrue(read.sound, (read.problems, one.settings))
                self.assertEqual(one.entry is not None, STEPS[one.kind].each is not None)
        by_kind = {one.kind: one.settings for one in loud}
        self.assertEqual(by_kind["true-peak-limiter"], {"ceiling_dbtp": -3.2})
        self.assertAlmostEqual(by_kind["gain"]["gain_db"], 6.0, delta=0.3)
        self.assertAlmostEqual(by_kind["compressor"]["threshold_dbfs"], self.inspection.value("active_speech_level_dbfs"), delta=1)

    def run_own(self, *steps: Step):
        out = self.folder / "out.mp3"
        return conform(self.path, RETAIL, out, known=inspect(self.path).basis, treatment=Treatment(steps=steps))

    def test_the_smallest_change_closes_what_a_draft_missed(self):
        """Each offered change, run as it is offered, ends with a file that passes."""
        for steps, words in (
            ((Step(kind="gain", settings={"gain_db": 3}),), "Raise the last gain"),
            ((Step(kind="gain", settings={"gain_db": 16}),), "Lower the last gain"),
            ((), "Raise the level"),
        ):
            with self.subTest(words=words):
                made = self.run_own(*steps)
                self.assertFalse(made.passes)
                self.assertRegex(made.closing.said, f"^{words}.* dB")
                again = self.run_own(*made.closing.treatment.steps)
                self.assertTrue(again.passes, [limit.title for limit in judge(again.before, RETAIL, role="recording").missed])

    def test_what_no_step_moves_is_not_promised(self):
        missed = [
            limit for limit in judge(self.inspection, RETAIL, role="deliverable").missed if limit.about.moved_by <= {"format"}
        ]
        self.assertTrue(missed)
        self.assertIsNone(closing.smallest(Treatment(), missed, self.inspection, inspect(self.path).basis, RETAIL, Bounds()))

    def test_a_limiter_is_offered_where_peaks_stand_too_high_for_the_level(self):
        peaky = RETAIL.model_copy(
            update={"limits": (Limit(quantity="rms_dbfs", low=-23, high=-18), Limit(quantity="true_peak_dbtp", high=-14))}
        )
        out = self.folder / "peaky.wav"
        rounds = 0
        steps: tuple[Step, ...] = ()
        while rounds < 3:
            made = conform(self.path, peaky, out, known=inspect(self.path).basis, treatment=Treatment(steps=steps))
            if made.passes:
                break
            self.assertIsNotNone(made.closing)
            steps, rounds = made.closing.treatment.steps, rounds + 1
        self.assertTrue(made.passes)
        self.assertLess(rounds, 3)
        self.assertIn("true-peak-limiter", [one.kind for one in steps])
        self.assertLess(float(np.abs(soundfile.read(out)[0]).max()), 10 ** (-14 / 20))

    def test_what_a_limiter_takes_of_a_gain_is_made_up_for(self):
        """A level that is a hair short behind a limiter that works hard: a gain of a hair would bring a tenth of it."""
        wanted = RETAIL.model_copy(
            update={"limits": (Limit(quantity="rms_dbfs", low=-24.5), Limit(quantity="true_peak_dbtp", high=-14))}
        )
        out, limiter = self.folder / "held.wav", Step(kind="true-peak-limiter", settings={"ceiling_dbtp": -14.2})
        basis = inspect(self.path).basis
        low, high = 0.0, 30.0
        while high - low > 0.02:  # the gain that brings the level just to its limit
            gain = (low + high) / 2
            steps = (Step(kind="gain", settings={"gain_db": gain}), limiter)
            made = conform(self.path, wanted, out, known=basis, treatment=Treatment(steps=steps))
            low, high = (low, gain) if made.passes else (gain, high)
        short = (Step(kind="gain", settings={"gain_db": round(low - 0.1, 2)}), limiter)
        made = conform(self.path, wanted, out, known=basis, treatment=Treatment(steps=short))
        self.assertFalse(made.passes)
        self.assertRegex(made.closing.said, r"^Raise the last gain by 0\.[1-9] dB\.$")
        self.assertTrue(conform(self.path, wanted, out, known=basis, treatment=made.closing.treatment).passes)

    def test_evening_is_put_before_a_limiter_that_is_there_and_planned_for_what_comes_out_of_it(self):
        """More than a limiter gives at its bound: the voice is evened before it, and its ceiling is not named again."""
        wanted = RETAIL.model_copy(
            update={"limits": (Limit(quantity="rms_dbfs", low=-23), Limit(quantity="true_peak_dbtp", high=-14))}
        )
        basis = inspect(self.path).basis
        limiter = Step(kind="true-peak-limiter", settings={"ceiling_dbtp": -14.2})
        steps: tuple[Step, ...] = (Step(kind="gain", settings={"gain_db": 3}), limiter)
        offered = []
        made = conform(self.path, wanted, self.folder / "evened.wav", known=basis, treatment=Treatment(steps=steps))
        while not made.passes and len(offered) < 3:
            offered.append(made.closing.said)
            made = conform(self.path, wanted, self.folder / "evened.wav", known=basis, treatment=made.closing.treatment)
        self.assertTrue(made.passes)
        self.assertLess(len(offered), 3)
        self.assertRegex(offered[0], r"^Add compressor and raise the last gain by [\d.]+ dB\.$")
        self.assertEqual([one.kind for one in made.treatment.steps], ["compressor", "gain", "true-peak-limiter"])


class Standing(unittest.TestCase):
    def verdict(self, *limits: Limit):
        wave = signals.voice_like(12, rms_dbfs=-29, rate=RATE, room_dbfs=-78)
        inspection = measure_array(wave.astype(np.float32)[:, None], sample_rate_hz=RATE).inspection
        return judge(inspection, RETAIL.model_copy(update={"limits": limits}), role="recording")

    def test_it_says_where_a_recording_stands_and_what_closes_it(self):
        level, peak = Limit(quantity="rms_dbfs", low=-23), Limit(quantity="sample_peak_dbfs", high=-60)
        one = summary.told(self.verdict(level), "S", plans=["light", "even"])
        self.assertRegex(one, r"^One limit is not met: RMS level is \d\.\d dB too low\. The light plan fixes it\.$")
        two = summary.told(self.verdict(level, peak), "S", stage="planning")
        self.assertRegex(two, r"^Two limits are not met: RMS level is .* and peak is .* too high\. Plans are being made\.$")
        self.assertEqual(summary.told(self.verdict(level), "S"), one.removesuffix(" The light plan fixes it."))
        for advice, said in (
            ("RMS level conflicts.", "RMS level conflicts."),
            ("Peak and head conflict.", "peak and head conflict."),
        ):
            obstacle = Obstacle(limits=("rms_dbfs", "rms_dbfs"), shortfall_db=1.0, advice=advice)
            self.assertTrue(summary.told(self.verdict(level), "S", obstacles=[obstacle]).endswith(f"No plan fixes it: {said}"))
