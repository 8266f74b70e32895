"""Treatments kept for other recordings: what holds there, at which level, what a plan adds; their files and versions."""

import json
import tempfile
import unittest
from pathlib import Path

import jsonschema
import numpy as np

from ispettore.core import errors
from ispettore.core.audio.writing import read_span
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan.conform import conform
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import catalogue
from ispettore.core.treat import changes, keeping, order, runner
from ispettore.core.treat.keeping import KeptTreatment, general, lacks_reference, with_reference
from ispettore.core.treat.treatment import STEPS, Step, Treatment
from tests import signals
from tests.corpus import some
from tests.speakers import NAMES, laid, room
from tests.treating import EXAMPLES

RATE = 44_100
RETAIL = catalogue.find("audiobook-retail")
COMPRESSOR = Step(kind="compressor", settings={"threshold_dbfs": -20, "ratio": 3})


def chapter(folder: Path, name: str, *, rms_dbfs: float, room_dbfs: float = -78.0, seed: int = 3) -> Path:
    wave = signals.voice_like(14, rms_dbfs=rms_dbfs, rate=RATE, room_dbfs=room_dbfs, seed=seed)
    return signals.write(folder / name, wave, RATE)


class InFolder(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))


class Holding(InFolder):
    """What of a treatment holds for other recordings."""

    def test_what_belongs_to_one_recording_stays_behind(self):
        spans = [{"start_s": 1.0, "end_s": 1.5}]
        steps = [
            Step(kind="channels", settings={"channels": 1, "live": [2], "turned": [2]}),
            Step(kind="clip-repair", settings={"spans": spans}),
            Step(kind="clip-repair", settings={"threshold_dbfs": -1}),
            Step(kind="click-repair", settings={"spans": spans}),
            Step(kind="room-tone-fill", settings={"spans": spans}),
            Step(
                kind="noise-reduction", settings={"amount_db": 7}, reason="The room reads −52 dBFS.", learned={"noise_dbfs": -52.0}
            ),
            Step(kind="spot-gain", settings={"spots": [{"start_s": 1, "end_s": 2, "gain_db": -3}]}),
            COMPRESSOR.model_copy(update={"on": False}),
            Step(kind="gain", settings={"gain_db": 3}),
        ]
        found = general(steps, finish="given")
        self.assertEqual(found.spots, ("Clip repair", "Click repair", "Room tone fill", "Spot gain"))
        self.assertEqual([step.kind for step in found.steps], ["channels", "clip-repair", "noise-reduction", "compressor", "gain"])
        self.assertEqual(found.steps[0].settings, {"channels": 1}, "which channels sound is found in each recording")
        self.assertTrue(all(not step.reason and not step.learned for step in found.steps))
        self.assertFalse(found.steps[3].on)
        planned = general(steps, finish="planned")
        self.assertEqual((planned.finished, [step.kind for step in planned.steps][-1]), (("Gain",), "compressor"))

    def test_every_step_says_what_of_it_holds_elsewhere(self):
        for kind in STEPS:
            step = Step(kind=kind, settings=EXAMPLES.get(kind, {}))
            there = step.typed.elsewhere()
            with self.subTest(kind=kind):
                self.assertTrue(there is None or isinstance(there, STEPS[kind]))
                if kind not in keeping.FINISHING and there is not None:
                    self.assertIn(kind, [one.kind for one in general([step], finish="planned").steps])

    def test_a_reference_level_is_missing_before_the_first_step_that_means_a_level(self):
        own = Step(kind="expander", settings={"threshold_dbfs": -50})
        for steps, place in (
            ([Step(kind="rumble-filter"), Step(kind="expander"), COMPRESSOR], 2),
            ([Step(kind="rumble-filter"), own, COMPRESSOR], 1),
            ([Step(kind="reference-level"), own, COMPRESSOR], None),
            ([Step(kind="reference-level", on=False), COMPRESSOR], 1),
            ([Step(kind="final-level"), COMPRESSOR], None),
            ([Step(kind="noise-reduction"), Step(kind="level-riding"), Step(kind="tone")], None),
            ([Step(kind="level-riding", settings={"target_lufs": -20})], 0),
        ):
            with self.subTest(steps=[step.kind for step in steps]):
                self.assertEqual(lacks_reference(steps), place)
                filled = with_reference(steps, -23.4)
                self.assertEqual(len(filled), len(steps) + (place is not None))
                if place is not None:
                    self.assertEqual((filled[place].kind, filled[place].settings["target_db"]), ("reference-level", -23.4))
                    self.assertIsNone(lacks_reference(filled))
                    self.assertEqual(order.objections(Treatment(steps=filled)), [])

    def test_thresholds_mean_the_same_at_every_level_once_there_is_a_reference(self):
        came, missing = [], []
        for number, level in enumerate((-16.0, -24.0, -36.0)):
            source = chapter(self.folder, f"{number}.wav", rms_dbfs=level, room_dbfs=level - 50)
            for steps, found in ((with_reference([COMPRESSOR]), came), ((COMPRESSOR,), missing)):
                folder = self.folder / f"{number}-{len(steps)}"
                folder.mkdir()
                run = runner.run(source, Treatment(steps=steps), folder=folder)
                found.append(float(np.min(run.reductions["compressor"])))
                read = inspect(run.path).inspection.value("active_speech_level_dbfs")
                if found is came:
                    came[-1] = (came[-1], read)
        for deepest, level in came[1:]:
            self.assertAlmostEqual(deepest, came[0][0], delta=0.05)
            self.assertAlmostEqual(level, came[0][1], delta=0.05)
        self.assertGreater(missing[2] - missing[0], 5.0, "without one, the same threshold does another thing to each")

    def test_at_the_level_it_was_set_for_a_reference_changes_nothing(self):
        source = chapter(self.folder, "own.wav", rms_dbfs=-27.0)
        level = keeping.level_of(inspect(source).inspection, (COMPRESSOR,))
        sounds = []
        for number, steps in enumerate(((COMPRESSOR,), with_reference((COMPRESSOR,), level))):
            folder = self.folder / str(number)
            folder.mkdir()
            run = runner.run(source, Treatment(steps=steps), folder=folder)
            sounds.append(read_span(run.path, 0, 14 * RATE))
        loud = np.abs(sounds[0]) > 0.01
        off = 20 * np.log10(np.abs(sounds[1][loud]) / np.abs(sounds[0][loud]))
        self.assertLess(np.abs(off).max(), 0.06, "its target is written to a tenth")


class Finished(InFolder):
    """A kept treatment whose finish is planned for each recording."""

    def test_every_starting_point_brings_every_voice_into_its_limits(self):
        self.assertEqual(
            [one.name for one in keeping.shipped().values()], ["A quiet room", "A lively room", "Two voices in one chapter"]
        )
        cases = [(name, kept, level) for name in NAMES for kept in keeping.shipped().values() for level in (-17.0, -33.0)]
        for name, kept, level in some(cases, every=5):
            with self.subTest(voice=name, treatment=kept.id, level=level):
                spoken = laid(name, rate=RATE, seconds=20)
                wave = spoken.wave + room(spoken.wave.size, rate=RATE, dbfs=-64.0)
                source = signals.write(self.folder / "in.wav", wave * 10 ** ((level + 20) / 20), RATE)
                result = conform(source, RETAIL, self.folder / "out.flac", treatment=kept)
                self.assertTrue(result.passes, [one.advice for one in result.obstacles])
                self.assertEqual(result.treatment.name, f"{kept.name}, version 1")
                kinds = [step.kind for step in result.treatment.steps]
                own = [step.kind for step in kept.steps]
                self.assertEqual([kind for kind in kinds if kind in own][: len(own)], own)
                self.assertEqual(order.objections(result.treatment), [])

    def test_cleaning_that_a_limit_asks_for_comes_before_its_dynamics_and_is_foretold(self):
        source = chapter(self.folder, "loud room.wav", rms_dbfs=-22.0, room_dbfs=-52.0)
        kept = keeping.shipped()["quiet-room"]
        [(_, plan)] = proposed(source, RETAIL, treatment=kept, preferences=("balanced",))
        kinds = [step.kind for step in plan.treatment.steps]
        self.assertIn("noise-reduction", kinds)
        self.assertLess(kinds.index("noise-reduction"), kinds.index("compressor"))
        self.assertGreater(plan.touch.touch, 0)
        result = conform(source, RETAIL, self.folder / "out.wav", treatment=kept)
        self.assertTrue(result.passes)
        for quantity, value in plan.predicted.items():
            self.assertAlmostEqual(result.after.value(quantity), value, delta=0.5, msg=quantity)

    def test_conversions_come_first_and_those_it_has_itself_are_not_made_twice(self):
        wave = signals.voice_like(12, rms_dbfs=-26, rate=48_000, room_dbfs=-80)
        source = signals.write(self.folder / "wide.wav", np.stack((wave, 0.5 * wave), axis=1), 48_000)
        mono = Step(kind="channels", settings={"channels": 1})
        for steps, channels in (((COMPRESSOR,), 2), ((mono, COMPRESSOR), 1)):
            kept = KeptTreatment(name="Mine", finish="planned", steps=with_reference(steps))
            result = conform(source, RETAIL, self.folder / f"{channels}.mp3", treatment=kept)
            self.assertTrue(result.passes, result.obstacles)
            self.assertEqual(result.after.facts.channels, channels)
            kinds = [step.kind for step in result.treatment.steps]
            self.assertEqual((kinds.count("sample-rate"), kinds.count("channels")), (1, 2 - channels))
            self.assertLess(kinds.index("sample-rate"), kinds.index("reference-level"))

    def test_what_learns_learns_anew_for_each_recording(self):
        kept = keeping.shipped()["lively-room"]
        learned = []
        for name, room_dbfs in (("near.wav", -58.0), ("far.wav", -66.0)):
            source = chapter(self.folder, name, rms_dbfs=-21.0, room_dbfs=room_dbfs)
            result = conform(source, RETAIL, self.folder / f"{name}.flac", treatment=kept)
            steps = {step.kind: step for step in result.treatment.steps}
            learned.append((steps["noise-reduction"].learned["noise_dbfs"], steps["reference-level"].learned["gain_db"]))
        self.assertAlmostEqual(learned[0][0] - learned[1][0], 8.0, delta=1.0)

    def test_as_given_it_runs_as_it_stands(self):
        source = chapter(self.folder, "given.wav", rms_dbfs=-22.0)
        kept = KeptTreatment(name="As it is", id="as-it-is", revision=4, steps=(Step(kind="gain", settings={"gain_db": 9}),))
        result = conform(source, RETAIL, self.folder / "out.mp3", treatment=kept)
        self.assertFalse(result.passes, "nobody asked for another gain")
        self.assertEqual(result.treatment.name, "As it is, version 4")
        self.assertEqual([step.settings for step in result.treatment.steps], [{"gain_db": 9}])


class Documents(unittest.TestCase):
    def test_files_survive_and_fit_the_published_schema(self):
        for kept in (*keeping.shipped().values(), KeptTreatment(name="Empty"), KeptTreatment(name="A", id="a", revision=7)):
            data = keeping.as_file(kept)
            jsonschema.validate(data, keeping.schema())
            self.assertEqual(keeping.parse(json.dumps(data), name="a.json"), kept)

    def test_starting_points_are_explained_step_by_step(self):
        for kept in keeping.shipped().values():
            self.assertEqual((kept.finish, lacks_reference(kept.steps)), ("planned", None))
            self.assertTrue(kept.description)
            self.assertTrue(all(step.reason.endswith(".") for step in kept.steps))
            self.assertEqual(order.objections(kept), [])

    def test_bad_files_say_what_is_wrong(self):
        for text, words in (
            (b" " * (keeping.LARGEST_BYTES + 1), "larger than 1 MB"),
            ("[]", "not a JSON object"),
            ('{"id": "../x"}', "id: "),
            ('{"finish": "whatever"}', "finish: "),
        ):
            with self.assertRaises(errors.BadTreatment) as raised:
                keeping.parse(text, name="mine.json")
            self.assertIn(words, raised.exception.sentence)

    def test_what_a_version_changed_is_said_in_sentences(self):
        one = KeptTreatment(name="A", steps=(Step(kind="rumble-filter"), COMPRESSOR, Step(kind="de-esser")))
        two = one.model_copy(
            update={
                "finish": "planned",
                "steps": (
                    Step(kind="de-esser"),
                    COMPRESSOR.with_settings(attack_ms=12.0),
                    Step(kind="rumble-filter", on=False),
                    Step(kind="tone", settings=EXAMPLES["tone"]),
                ),
            }
        )
        found = {change.about: change for change in changes.changes(one, two)}
        self.assertEqual(set(found), {"Finish", "Compressor", "Rumble filter", "Tone", "Order"})
        self.assertIn("attack 12 ms", found["Compressor"].after)
        self.assertEqual(found["Rumble filter"].after, "Filter rumble below 80 Hz (off)")
        self.assertEqual((found["Tone"].kind, found["Tone"].before), ("added", ""))
        self.assertEqual(found["Order"].before, "rumble filter, compressor, de-esser")
        removed = changes.changes(two, one)
        self.assertEqual([change.about for change in removed if change.kind == "removed"], ["Tone"])
        self.assertEqual(changes.changes(one, one), [])


if __name__ == "__main__":
    unittest.main()
