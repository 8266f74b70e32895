"""How cleaning is chosen: the mildest chain that will do, by trial, and a true refusal where none will."""

import tempfile
import unittest
from itertools import combinations, product
from pathlib import Path

import numpy as np
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from ispettore.core.audio.writing import read_span
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.plan import cleaning, room, shaping, window
from ispettore.core.plan.bounds import Bounds, told
from ispettore.core.plan.cleaning import CLOSED_DB, Cleaning, choose, stretch
from ispettore.core.plan.conform import Conformed, conform
from ispettore.core.plan.holding import Asked
from ispettore.core.spec import catalogue
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.treat.treatment import Step, Treatment
from tests import corpus, speakers
from tests.treating import RATE, db, measured, treated

AUDIOBOOK = catalogue.shipped()["audiobook-retail"]
NOISE = "noise_floor_dbfs"
STRONGEST = (("noise-reduction", {"amount_db": 12.0}), ("expander", {"range_db": 6.0}))


class Room:
    """A room that is known to the last decibel: powers of hum, of rumble and of hiss."""

    def __init__(self, hum: float, rumble: float, hiss: float) -> None:
        self.parts = 10 ** (np.array([hum, rumble, hiss]) / 10)

    def level(self, *steps: Step) -> float:
        hum, rumble, hiss = self.parts
        taken = 0.0
        for step in steps:
            if step.kind == "hum-filter":
                hum *= 1e-4
            elif step.kind == "rumble-filter":
                rumble *= 0.03 if step.settings["corner_hz"] == 80 else 0.003
            elif step.kind == "noise-reduction":
                taken += step.settings["amount_db"]
            else:
                taken += 0.85 * step.settings["range_db"]
        return 10 * float(np.log10(hum + rumble + hiss)) - taken

    def trial(self, *steps: Step) -> dict[str, float]:
        return {NOISE: self.level(*steps) - self.level()} if steps else {}


def short_by(short_db: float):
    return lambda moved: short_db + moved.get(NOISE, 0.0)


class Choosing(unittest.TestCase):
    def chosen(self, room: Room, short_db: float, **how) -> Cleaning:
        return choose(room.trial, short_by(short_db), Bounds(), **{"hum": True, "fundamental_hz": 180.0, **how})

    @given(st.floats(-90, -40), st.floats(-90, -40), st.floats(-90, -40), st.floats(0.2, 40))
    @settings(max_examples=200, deadline=None)
    def test_nothing_can_be_left_out_and_a_refusal_is_true(self, hum, rumble, hiss, short):
        room, missing = Room(hum, rumble, hiss), short_by(short)
        found = self.chosen(room, short)
        self.assertEqual([each.kind for each in found.given], [step.kind for step in found.steps])
        amounts = {step.kind: step.settings for step in found.steps}
        reduced = amounts.get("noise-reduction", {}).get("amount_db", 0.0)
        self.assertLessEqual(reduced, 12)
        self.assertLessEqual(reduced + amounts.get("expander", {}).get("range_db", 0.0), 18)
        if found.closes:
            self.assertLessEqual(missing(room.trial(*found.steps)), CLOSED_DB)
            for fewer in combinations(found.steps, len(found.steps) - 1):
                self.assertGreater(missing(room.trial(*fewer)), CLOSED_DB, fewer)
        else:
            rumbles = [Step(kind="rumble-filter", settings={"corner_hz": hz}) for hz, _ in cleaning.CORNERS]
            best = (Step(kind="hum-filter"), rumbles[-1], *(Step(kind=kind, settings=own) for kind, own in STRONGEST))
            self.assertGreater(missing(room.trial(*best)), CLOSED_DB)
            self.assertAlmostEqual(found.missing_db, missing(room.trial(*best)), delta=0.15)

    def test_in_the_order_of_mildness(self):
        cases = {
            (-50, -90, -75): ["hum-filter"],
            (-90, -50, -75): ["rumble-filter"],
            (-50, -50, -75): ["hum-filter", "rumble-filter"],
            (-90, -90, -50): ["noise-reduction"],
            (-50, -90, -53): ["hum-filter", "noise-reduction"],
            (-90, -90, -36): ["noise-reduction", "expander"],
        }
        for parts, kinds in cases.items():
            room = Room(*parts)
            with self.subTest(parts=parts):
                self.assertEqual([step.kind for step in self.chosen(room, room.level() + 53).steps], kinds)

    def test_hum_is_only_filtered_where_it_was_found_and_a_low_voice_keeps_its_lowest_notes(self):
        self.assertNotIn("hum-filter", [step.kind for step in self.chosen(Room(-50, -90, -75), 8, hum=False).steps])
        room = Room(-90, -45, -61.5)
        deep, high = (self.chosen(room, 13.5, fundamental_hz=hz).steps for hz in (95.0, 190.0))
        self.assertEqual([step.settings.get("corner_hz") for step in deep], [80.0, None])
        self.assertEqual([step.settings["corner_hz"] for step in high], [100.0])

    def test_every_step_says_what_it_brings(self):
        found = self.chosen(Room(-50, -50, -48), 14)
        self.assertTrue(found.closes)
        for step, each in zip(found.steps, found.given, strict=True):
            self.assertIn(f"{each.db:.1f} dB", step.reason)

    def test_bounds_can_be_changed(self):
        room = Room(-90, -90, -50)
        tight = choose(room.trial, short_by(8), Bounds(noise_reduction_db=3, pauses_db=3), hum=False, fundamental_hz=None)
        self.assertAlmostEqual(tight.missing_db, 5, places=2)
        self.assertEqual(told(tight.given), "noise reduction 3.0 dB")
        none = choose(room.trial, short_by(8), Bounds(noise_reduction_db=0, pauses_db=0), hum=False, fundamental_hz=None)
        self.assertEqual((none.steps, told(none.given)), ((), ""))
        self.assertAlmostEqual(none.missing_db, 8, places=2)


class Stretch(unittest.TestCase):
    def test_a_short_recording_is_tried_whole_and_of_a_long_one_what_has_speech_and_a_usual_room(self):
        laid = speakers.laid("wren", rate=16_000, seconds=100)
        wave = laid.wave * 0.2 + speakers.room(laid.wave.size, rate=16_000, dbfs=-60)
        wave[: 30 * 16_000] = speakers.room(30 * 16_000, rate=16_000, dbfs=-40)  # half a minute of a louder room, without a word
        basis = measure_array(wave[:, None], sample_rate_hz=16_000).basis
        first, last = stretch(basis)
        self.assertEqual(last - first, 40 * 200)
        self.assertGreater(first, 20 * 200)
        self.assertGreater(basis.speech[first:last].mean(), 0.3)
        short = measure_array(wave[40 * 16_000 : 60 * 16_000, None], sample_rate_hz=16_000).basis
        self.assertEqual(stretch(short), (0, 20 * 200))


def noisy(name: str, kind: str, dbfs: float, *, seconds: float = 24) -> np.ndarray:
    """A voice at −21.5 dBFS RMS in a room of this level and kind, over a quieter one."""
    laid = speakers.laid(name, rate=RATE, seconds=seconds, pause_s=0.9)
    voice = laid.wave / np.sqrt(np.mean(laid.wave**2)) * 10 ** (-21.5 / 20)
    frames = voice.size
    hum = speakers.mains(frames)
    pink, white = (speakers.room(frames, rate=RATE, dbfs=-40, kind=kind) for kind in ("pink", "white"))
    low = signal.sosfilt(signal.butter(4, 60, fs=RATE, output="sos"), speakers.room(frames, rate=RATE, dbfs=-20, kind="white"))
    made = {
        "hum": hum,
        "hum and hiss": hum / hum.std() + 0.7 * white / white.std(),
        "rumble": low,
        "pink": pink,
        "white": white,
    }[kind]
    return voice + made / made.std() * 10 ** (dbfs / 20) + speakers.room(frames, rate=RATE, dbfs=-72, seed=5)


CASES: dict[tuple[str, float], list[str]] = {
    ("hum", -53): ["hum-filter"],
    ("rumble", -50): ["rumble-filter"],
    ("white", -57): ["noise-reduction"],
    ("white", -52): ["noise-reduction"],
    ("pink", -55): ["rumble-filter", "noise-reduction"],
    ("hum and hiss", -51): ["hum-filter", "noise-reduction"],
    ("white", -43): ["noise-reduction", "expander"],
}
"""Rooms that are too loud for the audiobook limit and can be mended, and the cleaning that they need."""

CLEANING = {"hum-filter", "rumble-filter", "noise-reduction", "expander"}


class OnVoices(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def conformed(self, wave: np.ndarray, specification: Specification = AUDIOBOOK, **how) -> tuple[Path, Conformed]:
        path, out = self.folder / "a.wav", self.folder / "out.wav"
        soundfile.write(path, wave, RATE, "PCM_24")
        return out, conform(path, specification, out, **how)

    def test_what_cleaning_can_mend_is_mended_by_the_least_of_it(self):
        cases = list(product(speakers.NAMES, CASES))
        for name, (kind, dbfs) in corpus.some(cases, every=9):
            with self.subTest(name=name, kind=kind, dbfs=dbfs):
                wave = noisy(name, kind, dbfs)
                out, result = self.conformed(wave)
                self.assertTrue(result.passes, result.obstacles)
                self.assertEqual([step.kind for step in result.treatment.steps if step.kind in CLEANING], CASES[kind, dbfs])
                self.assertLessEqual(result.rounds, 2)
                # By other means than our meter: the quietest tenth of 50 ms frames, and the RMS of all.
                samples, _ = soundfile.read(out)
                frames = samples[: samples.size // 2_205 * 2_205].reshape(-1, 2_205)
                self.assertLess(db(np.percentile(np.mean(frames**2, axis=1), 10)), -60)
                self.assertTrue(-23 <= db(np.mean(samples**2)) <= -18)

    def test_no_step_of_it_can_be_left_out(self):
        for name, (kind, dbfs) in (("reed", ("hum and hiss", -51)), ("caller", ("white", -43))):
            wave = noisy(name, kind, dbfs)
            _, result = self.conformed(wave)
            self.assertTrue(result.passes, result.obstacles)
            for number, step in enumerate(result.treatment.steps):
                fewer = Treatment(steps=(*result.treatment.steps[:number], *result.treatment.steps[number + 1 :]))
                with self.subTest(name=name, left_out=step.kind):
                    self.assertFalse(self.conformed(wave, treatment=fewer)[1].passes)

    def test_a_refusal_is_true_says_what_is_missing_and_writes_nothing(self):
        without_peaks = AUDIOBOOK.model_copy(update={"limits": tuple(each for each in AUDIOBOOK.limits if not each.about.is_peak)})
        for name in corpus.some(speakers.NAMES, every=5, first=1):
            wave = noisy(name, "white", -38)
            out, result = self.conformed(wave, without_peaks)
            with self.subTest(name=name):
                self.assertFalse(result.passes or out.exists())
                [obstacle] = result.obstacles
                self.assertEqual(obstacle.limits, ("rms_dbfs", NOISE))
                self.assertIn("noise reduction 1", obstacle.advice)
                self.assertIn(f"{obstacle.shortfall_db:.1f} dB are still missing", obstacle.advice)
                rumble = ("rumble-filter", {"corner_hz": 100.0, "slope_db_per_octave": 48, "phase": "linear"})
                chains = (STRONGEST, (rumble, *STRONGEST), (*STRONGEST[:1], ("expander", {"range_db": 6.0, "ratio": 4.0})))
                left = [measured(treated(wave, *chain)[0]).inspection for chain in chains]
                short = min((-23 - each.value("rms_dbfs")) - (-60 - each.value(NOISE)) for each in left)
                self.assertGreater(short, 0)
                self.assertAlmostEqual(obstacle.shortfall_db, short, delta=0.3)

    def test_the_lowest_of_two_voices_keeps_its_lowest_notes_though_the_trial_hears_the_other(self):
        both = [speakers.laid(name, rate=RATE, pause_s=0.9, seconds=seconds) for name, seconds in (("reed", 20), ("wren", 100))]
        wave = 0.5 * np.concatenate([laid.wave for laid in both])
        low = signal.sosfilt(signal.butter(4, 60, fs=RATE, output="sos"), speakers.room(wave.size, rate=RATE, dbfs=0, kind="white"))
        path = self.folder / "a.wav"
        soundfile.write(path, wave + low / low.std() * 10 ** (-48 / 20), RATE, "PCM_24")
        basis = inspect(path).basis
        lowest, high = (measured(0.5 * laid.wave).inspection.spectrum.fundamental_hz for laid in both)
        self.assertGreater(high, 1.4 * lowest)
        with tempfile.TemporaryDirectory() as folder:
            trial = cleaning.Trial(path, basis, name="two", folder=Path(folder))
        first, _ = stretch(basis)
        self.assertGreater(first * CELL_S, both[0].wave.size / RATE, "only the higher voice is heard on trial")
        self.assertAlmostEqual(trial.fundamental_hz, lowest, delta=0.1 * lowest)

    def test_a_limit_on_signal_to_noise_is_met_by_cleaning(self):
        wave = noisy("heron", "white", -50)
        before = measured(wave).inspection.value("signal_to_noise_db")
        wanted = Specification(id="x", name="X", limits=(Limit(quantity="signal_to_noise_db", low=before + 6),))
        _, result = self.conformed(wave, wanted)
        self.assertTrue(result.passes, result.obstacles)
        # The recording reaches full scale, and cleaning moves its peaks by a hair.
        self.assertEqual([step.kind for step in result.treatment.steps], ["noise-reduction", "gain"])
        self.assertGreater(result.treatment.steps[1].settings["gain_db"], -0.2)
        too_much = Specification(id="x", name="X", limits=(Limit(quantity="signal_to_noise_db", low=before + 40),))
        _, refused = self.conformed(wave, too_much)
        [obstacle] = refused.obstacles
        self.assertEqual(obstacle.limits, ("signal_to_noise_db", "signal_to_noise_db"))
        self.assertGreater(obstacle.shortfall_db, 20)

    def test_the_same_input_gives_the_same_plan(self):
        wave = noisy("plover", "pink", -55)
        first, second = (self.conformed(wave)[1].treatment for _ in range(2))
        self.assertEqual(first, second)

    def test_it_is_tried_on_the_room_tone_that_was_marked_by_hand(self):
        wave = noisy("wren", "white", -75)
        wave[: 8 * RATE] += speakers.room(8 * RATE, rate=RATE, dbfs=-56, kind="white")
        found = measure_array(wave, sample_rate_hz=RATE)
        marked = next(span for span in found.inspection.room_tone if span.start_s > 1 and span.length_s > 0.4)
        self.assertLess(marked.end_s, 8)
        known = measure_array(wave, sample_rate_hz=RATE, room_tone=[marked])
        noise = known.inspection.value(NOISE)
        self.assertGreater(noise, found.inspection.value(NOISE) + 3)
        _, result = self.conformed(wave, room_tone=[marked])
        self.assertTrue(result.passes, result.obstacles)
        self.assertIn("noise-reduction", [step.kind for step in result.treatment.steps])
        self.assertEqual(result.rounds, 1)
        (folder := self.folder / "trial").mkdir()
        trial = cleaning.Trial(self.folder / "a.wav", known.basis, name="", folder=folder, room_tone=[marked])
        self.assertAlmostEqual(trial._before.inspection.value(NOISE), noise, delta=0.1)

    def test_nothing_is_tried_where_nothing_is_missing(self):
        path = self.folder / "quiet.wav"
        soundfile.write(path, noisy("wren", "white", -70), RATE, "PCM_24")
        basis = inspect(path).basis
        asked = Asked(AUDIOBOOK, window.Learned(), "light", Bounds())
        self.assertIsNone(room.short_of_quiet(shaping.whole(basis), window.expected(basis.inspection, AUDIOBOOK), asked))
        self.assertEqual(read_span(path, 0, 10).shape, (10, 1))
