"""Treatments as data: their file and its schema, their order, the ledger of a run, and touch."""

import json
import tempfile
import unittest
from pathlib import Path

import jsonschema
import numpy as np
import soundfile
from scipy import signal

from ispettore.core import errors
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.plan.conform import conform
from ispettore.core.spec import catalogue
from ispettore.core.treat import order, touch
from ispettore.core.treat.keeping import KeptTreatment, load, parse, schema
from ispettore.core.treat.runner import touched
from ispettore.core.treat.treatment import STEPS, VERSION, Step, Treatment
from tests import signals, speakers
from tests.treating import EXAMPLES, RATE, measured, treated


def of(*kinds: str) -> Treatment:
    return Treatment(steps=tuple(Step(kind=kind, settings=EXAMPLES.get(kind, {})) for kind in kinds))


class Files(unittest.TestCase):
    def test_every_kind_of_step_survives_the_file_and_fits_the_schema(self):
        treatment = of(*(kind for kind, step in STEPS.items() if not step.adds_sound))
        text = treatment.model_dump_json()
        self.assertEqual(parse(text, name="all.json"), KeptTreatment(steps=treatment.steps))
        jsonschema.validate(json.loads(text), schema())
        jsonschema.validate({"version": 1, "steps": [{"kind": "gain", "settings": {"gain_db": 2}}]}, schema())
        for wrong in (
            {"version": VERSION, "steps": [{"kind": "reverb"}]},
            {"version": VERSION, "steps": [{"kind": "gain"}]},
            {"version": VERSION, "steps": [{"kind": "bed"}]},
            {"version": VERSION, "steps": [{"kind": "gain", "settings": {"gain_db": 99}}]},
            {"version": VERSION, "steps": [{"kind": "gain", "settings": {"gain_db": 1, "loud": True}}]},
        ):
            with self.assertRaises(jsonschema.ValidationError):
                jsonschema.validate(wrong, schema())
            with self.assertRaises(errors.BadTreatment):
                parse(json.dumps(wrong), name="wrong.json")

    def test_the_published_schema_is_current(self):
        published = json.loads((Path(__file__).parents[2] / "docs" / "treatment.schema.json").read_text(encoding="utf-8"))
        self.assertEqual(published, json.loads(json.dumps(schema())))

    def test_older_versions_are_migrated_and_newer_ones_refused_by_name(self):
        older = parse('{"version": 1, "name": "mine", "steps": [{"kind": "gain", "settings": {"gain_db": 2}}]}', name="old.json")
        self.assertEqual((older.version, older.name, older.steps[0].settings), (VERSION, "mine", {"gain_db": 2}))
        for text, words in (
            ('{"version": 9, "steps": []}', "it is of version 9; this program knows treatments up to version 3"),
            ('{"steps": [{"kind": "reverb"}]}', "there is no step “reverb”; known are channels,"),
            ('{"steps": [{"kind": "compressor"}]}', "threshold_dbfs"),
            ("[" * 100_000, "it is not JSON"),
            ("{", "it is not JSON"),
        ):
            with self.assertRaises(errors.BadTreatment) as raised:
                parse(text, name="x.json")
            self.assertIn(words, raised.exception.sentence)
        with tempfile.TemporaryDirectory() as folder, self.assertRaises(errors.BadTreatment):
            path = Path(folder) / "bytes.json"
            path.write_bytes(b"\xff\xfe\x00")
            load(path)


class Order(unittest.TestCase):
    def test_every_step_has_a_stage_and_the_usual_order_is_never_objected_to(self):
        self.assertEqual(sorted(kind for kinds in order.STAGES for kind in kinds), sorted(STEPS))
        self.assertEqual(set(order.RISKS), set(STEPS))
        self.assertEqual(order.objections(of(*STEPS)), [])
        self.assertEqual(order.objections(of("rumble-filter", "compressor", "gain", "true-peak-limiter", "head-and-tail")), [])

    def test_another_order_is_explained_in_a_sentence(self):
        [said] = order.objections(of("compressor", "noise-reduction", "true-peak-limiter"))
        self.assertEqual(
            said,
            "Noise reduction comes after compressor: the noise has been moved by then, so what is learned in pauses no longer "
            "fits what lies under the voice.",
        )
        [said] = order.objections(of("true-peak-limiter", "gain"))
        self.assertIn("Gain comes after true-peak limiter", said)
        off = Treatment(steps=(Step(kind="compressor", settings={"threshold_dbfs": -20}, on=False), Step(kind="noise-reduction")))
        self.assertEqual(order.objections(off), [])

    def test_every_pair_that_is_turned_round_has_its_sentence(self):
        kinds = list(STEPS)
        for first in kinds:
            for second in kinds:
                if first == "reference-level" and second in order.CLEANED_AT_ANY_LEVEL:
                    self.assertEqual(order.objections(of(first, second)), [], "a constant gain takes nothing from them")
                elif order.stage_of(first) > order.stage_of(second):
                    [said] = order.objections(of(first, second))
                    self.assertRegex(said, r"^[A-Z].* comes after .*: .+\.$")


class Ledger(unittest.TestCase):
    STEPS = (
        ("hum-filter", {}),
        ("noise-reduction", {"amount_db": 6}),
        ("compressor", {"threshold_dbfs": -26}),
        ("gain", {"gain_db": 4}),
        ("true-peak-limiter", {"ceiling_dbtp": -6}),
    )

    def test_readings_after_each_step_are_those_of_a_run_that_ends_there(self):
        wave = signals.voice_like(10, rms_dbfs=-22, rate=RATE, room_dbfs=-60)
        _, whole = treated(wave, *self.STEPS, ledger=True)
        self.assertEqual([line.kind for line in whole.ledger], [kind for kind, _ in self.STEPS])
        for count in range(1, len(self.STEPS) + 1):
            out, _ = treated(wave, *self.STEPS[:count])
            expected = measure_array(out, sample_rate_hz=RATE).inspection
            for quantity, reading in whole.ledger[count - 1].readings.items():
                with self.subTest(after=self.STEPS[count - 1][0], quantity=quantity):
                    if expected.value(quantity) is None:
                        self.assertIsNone(reading.value)
                    else:
                        self.assertAlmostEqual(reading.value, expected.value(quantity), delta=0.002)

    def test_what_was_learned_is_kept_and_a_reused_treatment_learns_anew(self):
        loud, quiet = (signals.voice_like(10, rms_dbfs=-20, rate=RATE, room_dbfs=level) for level in (-52, -66))
        specification = next(iter(catalogue.shipped().values()))
        treatment = Treatment(steps=(Step(kind="noise-reduction", settings={"amount_db": 6}),))
        learned = []
        with tempfile.TemporaryDirectory() as folder:
            for wave in (loud, quiet):
                path = Path(folder) / "in.wav"
                soundfile.write(path, wave, RATE, subtype="PCM_24")
                result = conform(path, specification, Path(folder) / "out.wav", treatment=treatment)
                self.assertEqual(result.ledger[0].learned, result.treatment.steps[0].learned)
                treatment = result.treatment
                learned.append(treatment.steps[0].learned["noise_dbfs"])
        self.assertAlmostEqual(learned[0], -52, delta=1)
        self.assertAlmostEqual(learned[1], -66, delta=1)

    def test_a_treatment_in_another_order_runs_and_is_explained(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "in.wav"
            soundfile.write(path, signals.voice_like(8, rms_dbfs=-24, rate=RATE), RATE, subtype="PCM_24")
            treatment = of("true-peak-limiter", "gain")
            result = conform(path, next(iter(catalogue.shipped().values())), Path(folder) / "out.wav", treatment=treatment)
        self.assertEqual(result.out_of_order, tuple(order.objections(treatment)))
        self.assertEqual(len(result.ledger), 2)


class WholeTouch(unittest.TestCase):
    def touched(self, *steps: tuple[str, dict], wave: np.ndarray | None = None) -> touch.Touch:
        wave = signals.voice_like(15, rms_dbfs=-22, rate=RATE, room_dbfs=-62) if wave is None else wave
        out, done = treated(wave, *steps)
        before, after = measured(wave), measured(out)
        return touched(done, before.basis, after)

    def test_a_gain_is_no_touch_whatever_is_compared(self):
        found = self.touched(("gain", {"gain_db": -6}))
        self.assertLess(found.touch, 0.5)
        self.assertAlmostEqual(found.pauses_moved_db, 0, delta=0.02)
        self.assertAlmostEqual(found.spectral_change_db, 0, delta=0.02)

    def test_each_part_is_told_by_itself(self):
        found = self.touched(("rumble-filter", {"corner_hz": 60, "phase": "linear"}))
        self.assertLess(found.room, 8, "what is taken from under the words as well is hardly heard")
        steady = self.touched(("noise-reduction", {"amount_db": 12}))
        self.assertAlmostEqual(steady.pauses_moved_db, -12, delta=0.7)
        laid = speakers.laid("wren", rate=RATE, pause_s=1.2)
        room = 0.2 * laid.wave + speakers.room(laid.wave.size, rate=RATE, dbfs=-62)
        closing = self.touched(("expander", {"range_db": 12}), wave=room)
        self.assertGreater(closing.room_swing_db, 3)
        self.assertGreater(closing.room, 35)
        self.assertLess(closing.voice, 10)
        biting = self.touched(("expander", {"threshold_dbfs": -40, "range_db": 12}), wave=room)
        self.assertGreater(biting.voice, 25, "a threshold in the voice is the voice's touch")
        # Half the third-octaves turned by 6 dB leave 3 dB at equal loudness, whatever the loudness.
        found = self.touched(("tone", {"bands": [{"kind": "high-shelf", "frequency_hz": 600, "gain_db": -8}]}))
        self.assertGreater(found.spectral_change_db, 1.5)
        self.assertEqual(found.gain_wander_db, 0.0)
        found = self.touched(("compressor", {"threshold_dbfs": -30, "ratio": 4}))
        self.assertGreater(found.gain_wander_db, 0.4)
        self.assertGreater(found.gain_speed_db, 0.05)
        self.assertGreater(found.depth_p99_db, 3)

    def test_the_formula_is_the_documented_one(self):
        speech = np.ones(400, dtype=bool)
        gain = np.where(np.arange(400) % 2, -3.0, 1.0)
        found = touch.of(gain, speech)
        x = np.hypot(found.gain_wander_db / 2, found.depth_p99_db / 6)
        self.assertAlmostEqual(found.touch, 100 * x / (1 + x), places=6)
        self.assertEqual((found.voice, found.room), (found.touch, 0))
        swung = touch.of(gain, speech, swing_db=6.0)
        self.assertAlmostEqual(swung.room, 50)
        self.assertAlmostEqual(swung.touch, 100 * np.hypot(x, 1) / (1 + np.hypot(x, 1)), places=6)

    def test_a_room_that_comes_and_goes_is_told_from_one_that_is_quieter(self):
        speech = np.zeros(4_000, dtype=bool)
        speech[1_000:1_400] = speech[2_400:2_800] = True
        room = ~speech
        before = np.where(speech, 1e-2, 1e-6)
        self.assertEqual(touch.swing(before, before * 0.01, speech, room), 0.0)
        away = np.minimum.reduce([np.abs(np.arange(4_000) - edge) for edge in (1_000, 1_400, 2_400, 2_800)])
        for depth_db in (3.0, 9.0):
            closing = before * np.where(speech | (away < 50), 1.0, 10 ** (-depth_db / 10))
            self.assertAlmostEqual(touch.swing(before, closing, speech, room), depth_db, delta=0.1)
        opened = before * np.where(speech | (away < 50), 0.1, 1.0)
        self.assertEqual(touch.swing(before, opened, speech, room), 0.0, "a room that rises in pauses is no cleaning")
        self.assertIsNone(touch.swing(before, before, np.ones(4_000, dtype=bool), ~np.ones(4_000, dtype=bool)))
        self.assertIsNone(touch.swing(np.zeros(4_000), np.zeros(4_000), speech, room))

    def test_what_a_steady_filter_uncovers_is_no_room_that_comes_back(self):
        # The ends of words lie under the rumble, and over the room without it.
        laid = speakers.trailing(speakers.laid("heron", rate=RATE, pause_s=0.9), slowest_s=0.5)
        low = signal.sosfilt(
            signal.butter(4, 50, fs=RATE, output="sos"), speakers.room(laid.wave.size, rate=RATE, dbfs=0, kind="white")
        )
        wave = 0.3 * laid.wave + low / low.std() * 10 ** (-45 / 20) + speakers.room(laid.wave.size, rate=RATE, dbfs=-75)
        filtered = ("rumble-filter", {"corner_hz": 100, "slope_db_per_octave": 48, "phase": "linear"})
        alone = self.touched(filtered, wave=wave)
        self.assertLess(alone.pauses_moved_db, -15)
        self.assertIsNone(alone.room_swing_db)
        self.assertLess(alone.room, 25)
        held = (filtered, ("gain", {"gain_db": 4}), ("true-peak-limiter", {"ceiling_dbtp": -6}))
        finished = self.touched(*held, ("head-and-tail", {"head_s": 1.5, "tail_s": 2.0}), wave=wave)
        self.assertLess(finished.room_swing_db, 1)
        closing = self.touched(filtered, ("expander", {"range_db": 12}), wave=wave)
        self.assertGreater(closing.room_swing_db, 3)

    def test_two_after_one_another(self):
        first, second = (touch.of(np.full(400, 0.0), np.ones(400, dtype=bool), swing_db=value) for value in (2.0, 4.0))
        self.assertAlmostEqual(touch.both(first, second).room, 50)
        self.assertEqual(touch.both(touch.Touch(), touch.Touch()).touch, 0)


if __name__ == "__main__":
    unittest.main()
