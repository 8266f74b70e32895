"""Limits on loudness range, the loudest moments, peaks over level: riding, compression and limiting meet them, or it is refused."""

import tempfile
import unittest
from dataclasses import replace
from itertools import product
from pathlib import Path

import numpy as np
import pyebur128
import soundfile

from ispettore.core.audio.writing import OutputFormat
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan import evening, foretelling, levelling, remedies, shaping, window
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.conform import Conformed, conform
from ispettore.core.plan.holding import EVENING_RESERVE_DB, Asked
from ispettore.core.plan.proposing import proposed
from ispettore.core.plan.shaping import Cells, Evened, Shaping
from ispettore.core.spec import catalogue
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.treat import touch
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.level_riding import LevelRiding
from ispettore.core.treat.treatment import Step, Treatment
from tests import corpus, signals, speakers
from tests.core.test_steps import independent_true_peak
from tests.treating import RATE, measured, treated

RMS = (Limit(quantity="rms_dbfs", low=-23, high=-18, guard=0.5), Limit(quantity="sample_peak_dbfs", high=-3))
LOUDNESS = (Limit(quantity="integrated_loudness_lufs", low=-17, high=-15), Limit(quantity="true_peak_dbtp", high=-1))
HARD: dict[str, tuple[Limit, ...]] = {
    "loudness_range_lu": (*LOUDNESS, Limit(quantity="loudness_range_lu", high=6)),
    "short_term_max_lufs": (*LOUDNESS, Limit(quantity="short_term_max_lufs", high=-12)),
    "momentary_max_lufs": (*LOUDNESS, Limit(quantity="momentary_max_lufs", high=-10)),
    "crest_factor_db": (*RMS, Limit(quantity="crest_factor_db", high=14)),
    "speech_crest_db": (RMS[0], Limit(quantity="speech_crest_db", high=13)),
    "peak_to_loudness_db": (*LOUDNESS, Limit(quantity="peak_to_loudness_db", high=13)),
    "inter_sample_overs": (
        Limit(quantity="integrated_loudness_lufs", low=-15, high=-13),
        Limit(quantity="inter_sample_overs", high=0),
    ),
}
"""By the quantity that is hard to meet."""

UNEVEN = ((0.0, 1), (6.0, 3), (9.0, 0), (14.0, 6))
"""So many dB louder, every so many phrases; 0: the second half."""


def specification(*limits: Limit) -> Specification:
    return Specification(id="hard", name="Hard", limits=limits)


def uneven(name: str, louder_db: float, every: int, *, seconds: float = 40) -> np.ndarray:
    """A voice at −27 dBFS RMS with loud passages, in a quiet room."""
    laid = speakers.laid(name, rate=RATE, seconds=seconds, pause_s=0.9)
    wave = laid.wave.copy()
    loud = [(wave.size / RATE / 2, wave.size / RATE)] if every == 0 else laid.spans[every - 1 :: every]
    for start, end in loud:
        wave[round(start * RATE) : round(end * RATE)] *= 10 ** (louder_db / 20)
    wave *= 10 ** (-27 / 20) / np.sqrt(np.mean(wave**2))
    return np.clip(wave + speakers.room(wave.size, rate=RATE, dbfs=-85), -1, 1)


class Run:
    """One conform, and the file it wrote."""

    def __init__(self, wave: np.ndarray, wanted: Specification, **how) -> None:
        self._folder = tempfile.TemporaryDirectory()
        folder = Path(self._folder.name)
        self.source, self.out = folder / "in.wav", folder / "out.wav"
        soundfile.write(self.source, wave, RATE, "PCM_24")
        self.wanted = wanted
        self.result: Conformed = conform(self.source, wanted, self.out, **how)
        self.kinds = [step.kind for step in self.result.treatment.steps]

    def __enter__(self) -> "Run":
        return self

    def __exit__(self, *_: object) -> None:
        self._folder.cleanup()

    def others_reading(self, quantity: str) -> float:
        """What the written file reads by others' code."""
        samples, rate = soundfile.read(self.out, always_2d=True)
        peak = 20 * np.log10(np.abs(samples).max())
        if quantity in ("crest_factor_db", "speech_crest_db"):
            level = 10 * np.log10(np.mean(samples**2))
            return (
                peak - level
                if quantity == "crest_factor_db"
                else peak - max(level, self.result.after.value("active_speech_level_dbfs"))
            )
        if quantity == "inter_sample_overs":
            return 0.0 if independent_true_peak(samples) <= 0 else 1.0
        mode = pyebur128.MeasurementMode
        state = pyebur128.R128State(samples.shape[1], rate, mode.MODE_I | mode.MODE_LRA | mode.MODE_S)
        largest = {"momentary_max_lufs": -99.0, "short_term_max_lufs": -99.0}
        step = rate // 100
        for first in range(0, len(samples), step):
            state.add_frames(samples[first : first + step].astype(np.float32).ravel(), len(samples[first : first + step]))
            if first >= 0.4 * rate:
                largest["momentary_max_lufs"] = max(largest["momentary_max_lufs"], pyebur128.get_loudness_momentary(state))
            if first >= 3 * rate:
                largest["short_term_max_lufs"] = max(largest["short_term_max_lufs"], pyebur128.get_loudness_shortterm(state))
        if quantity in largest:
            return largest[quantity]
        if quantity == "loudness_range_lu":
            return pyebur128.get_loudness_range(state)
        return independent_true_peak(samples) - pyebur128.get_loudness_global(state)


def limited(wave: np.ndarray, treatment: Treatment) -> float:
    """How deep the limiter of a treatment goes in the loudest hundredth of the speech, in dB."""
    _, done = treated(wave, *((step.kind, step.settings) for step in treatment.steps))
    reduction = done.reductions.get("true-peak-limiter")
    return touch.of(reduction, measured(wave).basis.speech).depth_p99_db if reduction is not None else 0.0


class HardLimits(unittest.TestCase):
    def test_what_is_conformed_passes_by_others_meters_and_what_is_not_is_refused_early(self):
        cases = list(product(speakers.NAMES, UNEVEN, HARD))
        for name, how, quantity in corpus.some(cases, every=23):
            with (
                Run(uneven(name, *how), specification(*HARD[quantity])) as run,
                self.subTest(name=name, how=how, quantity=quantity),
            ):
                self.assertLessEqual(run.result.rounds, 2)
                if not run.result.passes:
                    self.assertEqual(name, "heron", run.result.obstacles)  # its peaks stand 25 dB over its level
                    continue
                high = next(limit.high for limit in HARD[quantity] if limit.quantity == quantity)
                self.assertLessEqual(run.others_reading(quantity), high + 0.05)

    def test_no_step_can_be_left_out_and_what_was_foretold_comes(self):
        cases = list(product(("caller", "wren", "almanac-02"), UNEVEN[1:], HARD))
        for name, how, quantity in corpus.some(cases, every=17):
            wave = uneven(name, *how)
            with Run(wave, specification(*HARD[quantity]), preference="light") as run:
                self.assertTrue(run.result.passes)
                [(_, plan), *_] = proposed(run.source, run.wanted, form=OutputFormat(container="wav"))
                steps = run.result.treatment.steps
                for left_out in range(len(steps)):
                    fewer = Treatment(steps=(*steps[:left_out], *steps[left_out + 1 :]))
                    out = run.out.with_name("fewer.wav")
                    with self.subTest(name=name, how=how, quantity=quantity, left_out=steps[left_out].kind):
                        passes = conform(run.source, run.wanted, out, treatment=fewer).passes
                        self.assertFalse(passes and limited(wave, fewer) <= Bounds().limiting_db)
                with self.subTest(name=name, how=how, quantity=quantity):
                    for each, value in plan.predicted.items():
                        self.assertAlmostEqual(value, run.result.after.value(each), delta=0.5, msg=each)

    def test_what_passes_already_is_left_alone(self):
        wave = uneven("wren", 0.0, 1) * 10 ** (8 / 20)
        limits = (
            Limit(quantity="loudness_range_lu", high=12),
            Limit(quantity="crest_factor_db", high=30),
            Limit(quantity="inter_sample_overs", high=0),
            Limit(quantity="short_term_max_lufs", high=-5),
        )
        with Run(wave, specification(*limits)) as run:
            self.assertEqual((run.kinds, run.result.touch.touch), ([], 0))

    def test_a_lower_bound_on_what_evening_only_lowers_is_said_to_be_beyond_mending(self):
        with Run(uneven("wren", 0.0, 1), specification(Limit(quantity="loudness_range_lu", low=20))) as run:
            [obstacle] = run.result.obstacles
            self.assertEqual(obstacle.limits, ("loudness_range_lu", "loudness_range_lu"))
            self.assertIn("processing can't fix this", obstacle.advice)

    def test_where_no_peak_is_limited_full_scale_does(self):
        wave = uneven("reed", 0.0, 1)
        with Run(wave, specification(Limit(quantity="rms_dbfs", low=-16, high=-12))) as run:
            self.assertTrue(run.result.passes)
            self.assertIn("true-peak-limiter", run.kinds)
            self.assertEqual(run.result.after.value("clipped_runs"), run.result.before.value("clipped_runs"))
            self.assertLess(run.result.after.value("true_peak_dbtp"), 0)

    def test_bounds_hold(self):
        wave, wanted = uneven("caller", 9.0, 0), specification(*HARD["loudness_range_lu"])
        for bounds in (Bounds(riding_db=0), Bounds(riding_db=2, ratio=1.5), Bounds(compression_db=0)):
            with Run(wave, wanted, bounds=bounds) as run, self.subTest(bounds=bounds):
                for step in run.result.treatment.steps:
                    if step.kind == "level-riding":
                        self.assertLessEqual(max(step.settings["up_db"], step.settings["down_db"]), bounds.riding_db)
                    if step.kind == "compressor":
                        self.assertLessEqual(step.settings["ratio"], bounds.ratio)
                        self.assertGreater(bounds.compression_db, 0)
        with Run(wave, wanted, bounds=Bounds(riding_db=0, compression_db=0)) as run:
            [obstacle] = run.result.obstacles
            self.assertEqual(obstacle.limits, ("loudness_range_lu", "loudness_range_lu"))
            self.assertEqual([each.kind for each in obstacle.could_give], ["true-peak-limiter"])
            apart = run.result.before.value("loudness_range_lu") - 6
            self.assertAlmostEqual(obstacle.could_give[0].db + obstacle.shortfall_db, apart, delta=0.1)

    def test_a_refusal_says_what_each_step_could_have_given(self):
        wave, bounds = uneven("caller", 14.0, 6), Bounds(riding_db=3, compression_db=4)
        with Run(wave, specification(*HARD["peak_to_loudness_db"]), bounds=bounds) as run:
            [obstacle] = run.result.obstacles
            self.assertEqual([each.kind for each in obstacle.could_give], ["level-riding", "compressor", "true-peak-limiter"])
            apart = run.result.before.value("peak_to_loudness_db") - 13
            self.assertAlmostEqual(sum(each.db for each in obstacle.could_give) + obstacle.shortfall_db, apart, delta=0.1)
            self.assertRegex(obstacle.advice, r"Level riding \d\.\d dB, compressor \d\.\d dB, true-peak limiter \d\.\d dB at most")

    def test_no_chain_within_the_bounds_comes_nearer_than_a_refusal_says(self):
        wave = uneven("heron", 9.0, 0)
        with Run(wave, specification(*HARD["crest_factor_db"])) as run:
            [obstacle] = run.result.obstacles
        speech, reached = measured(wave).basis.speech, []
        ridings = ((), (("level-riding", {"up_db": 6, "down_db": 6, "speed_s": 1.0}),))
        compressors = ((), *((("compressor", {"ratio": 4, "threshold_dbfs": at}),) for at in (-15, -18, -19.5)))
        for before in (riding + compressor for riding, compressor in product(ridings, compressors)):
            shaped, run_of = treated(wave, *before)
            if any(touch.of(each, speech).depth_p99_db > 10 for kind, each in run_of.reductions.items() if kind == "compressor"):
                continue
            gain = -20 - 10 * np.log10(np.mean(shaped**2))
            low, high = -20.0, 0.0
            for _ in range(7):
                ceiling = (low + high) / 2
                steps = (("gain", {"gain_db": gain}), ("true-peak-limiter", {"ceiling_dbtp": ceiling}))
                out, done = treated(shaped, *steps)
                deep = touch.of(done.reduction_db, speech).depth_p99_db > Bounds().limiting_db
                low, high = (ceiling, high) if deep else (low, ceiling)
                if not deep:
                    reached.append(measured(out).inspection.value("crest_factor_db") - 14)
        self.assertGreater(min(reached), obstacle.shortfall_db - 0.3)


class Foretelling(unittest.TestCase):
    NAMES = ("rms_dbfs", "integrated_loudness_lufs", "active_speech_level_dbfs", "sample_peak_dbfs", "loudness_range_lu",
             "momentary_max_lufs", "short_term_max_lufs", "crest_factor_db", "noise_floor_dbfs")  # fmt: skip

    def test_cells_foretell_what_the_steps_do(self):
        steps = {
            "level-riding": {"up_db": 4, "down_db": 4},
            "compressor": {"threshold_dbfs": -30, "ratio": 2},
            "true-peak-limiter": {"ceiling_dbtp": -9},
        }
        for name, (kind, settings) in corpus.some(list(product(speakers.NAMES, steps.items())), every=3):
            wave = uneven(name, 9.0, 0)
            basis = measured(wave).basis
            out, done = treated(wave, (kind, settings))
            told = foretelling.changes(basis, basis.times(10 ** (done.reduction_db[: basis.counts.size] / 20)), self.NAMES)
            after = measured(out).inspection
            for quantity in self.NAMES:
                with self.subTest(name=name, kind=kind, quantity=quantity):
                    came = after.value(quantity) - basis.inspection.value(quantity)
                    self.assertAlmostEqual(told[quantity], came, delta=0.3)

    def test_silence_tells_nothing(self):
        quiet = measured(np.zeros(RATE * 5)).basis
        self.assertEqual(foretelling.changes(quiet, quiet, self.NAMES), {})

    def test_what_is_multiplied_or_taken_in_part_keeps_its_speech(self):
        basis = measured(uneven("wren", 0.0, 1, seconds=10)).basis
        louder = basis.times(np.full(basis.counts.size, 2.0))
        np.testing.assert_allclose(louder.power, basis.power * 4, rtol=1e-5)
        np.testing.assert_allclose(louder.times(np.full(basis.counts.size, 0.5)).k_power, basis.k_power, rtol=1e-5)
        np.testing.assert_array_equal(louder.highest, basis.highest * 2)
        np.testing.assert_array_equal(louder.speech, basis.speech)
        some = np.arange(basis.counts.size) % 2 == 0
        half: Basis = basis.part(some)
        np.testing.assert_array_equal(half.room, basis.room[some])
        np.testing.assert_array_equal(half.peak, basis.peak[:, some])


class Lightest(unittest.TestCase):
    """Of all ridings and compressors within the bounds the one is taken that touches the voice least."""

    CASES = tuple(product(("crest_factor_db", "loudness_range_lu", "loud"), speakers.NAMES))
    LOUD = (Limit(quantity="integrated_loudness_lufs", low=-15, high=-13), Limit(quantity="true_peak_dbtp", high=-3))
    THRESHOLDS_DB = (14, 12, 10, 8, 6, 4, 2, 0, -2, -4, -6, -8, -10)

    def asked(self, quantity: str, name: str) -> tuple[Cells, window.Readings, Asked]:
        wanted = specification(*(self.LOUD if quantity == "loud" else HARD[quantity]))
        basis = measured(uneven(name, 0.0 if quantity == "crest_factor_db" else 9.0, 3, seconds=20)).basis
        asked = Asked(wanted, window.Learned(), "balanced", Bounds())
        return shaping.whole(basis), window.expected(basis.inspection, wanted), asked

    def compressed(self, case: tuple[Cells, window.Readings, Asked], riding: LevelRiding | None, ratio: float) -> list[Evened]:
        """From the highest threshold to the lowest that the bound on compression allows."""
        cells, readings, asked = case
        made = (Compressor(threshold_dbfs=min(cells.voice_db + over, 0), ratio=ratio) for over in self.THRESHOLDS_DB)
        shaped = (cells.shaped(Shaping(riding, compressor)) for compressor in made)
        return [each.held(readings, asked) for each in shaped if each.shaping.compression_db <= asked.bounds.compression_db]

    def test_nothing_that_does_touches_less(self):
        ridings = [LevelRiding(up_db=size, down_db=size, speed_s=speed) for size, speed in product((1, 3, 5), (3.0, 1.0))]
        for quantity, name in corpus.some(self.CASES, every=6):
            case = cells, readings, asked = self.asked(quantity, name)
            simple = evening.plain(cells, readings, asked)
            found = levelling.solved(cells, readings, asked, simple)
            tried = [simple, *(cells.shaped(Shaping(riding)).held(readings, asked) for riding in ridings)]
            for riding, ratio in product((None, *ridings[:4]), (1.5, 2, 4)):
                tried += self.compressed(case, riding, ratio)
            least = min((each.touch.touch for each in tried if each.held.enough), default=100.0)
            with self.subTest(quantity=quantity, name=name):
                self.assertTrue(found.held.enough or least == 100.0)
                self.assertLess(found.touch.touch if found.held.enough else 0.0, least + 0.5)

    def test_a_lower_threshold_never_leaves_more_missing(self):
        """What is sought by halving has to fall all along."""
        for quantity, name in corpus.some(self.CASES, every=4):
            case = self.asked(quantity, name)
            for ratio in (1.5, 4):
                missing = [each.held.missing_db for each in self.compressed(case, None, ratio)]
                with self.subTest(quantity=quantity, name=name, ratio=ratio):
                    self.assertLess(max(np.diff(missing), default=0.0), 0.05)

    def test_peaks_are_brought_near_the_level_and_the_level_is_kept(self):
        for name in speakers.NAMES:
            cells, readings, asked = self.asked("crest_factor_db", name)
            for each in self.compressed((cells, readings, asked), None, 2.0):
                with self.subTest(name=name, compression_db=each.shaping.compression_db):
                    self.assertLess(each.held.depth_db, Bounds().limiting_db)
                    self.assertGreater(each.held.readings["rms_dbfs"], -23)
                    self.assertEqual(each.held.enough, each.held.readings["crest_factor_db"] <= 14 - EVENING_RESERVE_DB)
                    if not each.held.enough:  # as deep as it may be
                        self.assertGreater(each.held.depth_db, Bounds().limiting_db - EVENING_RESERVE_DB - 0.1)

    def test_a_bound_on_compression_is_kept_however_small(self):
        cells, readings, asked = self.asked("crest_factor_db", "reed")
        reached = []
        for most in (0.0, 0.2, 1.0, 4.0, 10.0):
            within = replace(asked, bounds=Bounds(compression_db=most, riding_db=0))
            found = levelling.solved(cells, readings, within, evening.plain(cells, readings, within))
            with self.subTest(most=most):
                self.assertLessEqual(found.shaping.compression_db, most + 0.05)
            reached.append(found.held.missing_db)
        self.assertEqual(reached, sorted(reached, reverse=True))
        self.assertGreater(reached[0], 1)

    def test_no_plan_is_lighter_than_light(self):
        wave = np.concatenate([uneven("wren", 0.0, 1, seconds=20), 0.25 * uneven("wren", 0.0, 1, seconds=20)])
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "in.wav"
            soundfile.write(path, wave, RATE, "PCM_24")
            for quantity in ("loudness_range_lu", "short_term_max_lufs", "peak_to_loudness_db"):
                plans = dict(proposed(path, specification(*HARD[quantity])))
                with self.subTest(quantity=quantity):
                    self.assertFalse(plans["light"].obstacles)
                    self.assertLess(plans["light"].touch.touch, min(plan.touch.touch for plan in plans.values()) + 0.3)


class LongRecordings(unittest.TestCase):
    def test_what_is_found_on_pieces_does_for_the_whole(self):
        wave = np.concatenate([uneven("wren", louder, every, seconds=50) for louder, every in (*UNEVEN, *UNEVEN[1:])])
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "long.wav"
            soundfile.write(path, wave, RATE, "PCM_24")
            basis = inspect(path).basis
        self.assertGreater(basis.inspection.facts.duration_s, shaping.WHOLE_S)
        for quantity in ("loudness_range_lu", "peak_to_loudness_db"):
            wanted = specification(*HARD[quantity])
            readings = window.expected(basis.inspection, wanted)
            found = evening.search(shaping.whole(basis), readings, Asked(wanted, window.Learned(), "light", Bounds()))
            with self.subTest(quantity=quantity):
                self.assertTrue(found.held.enough)
                self.assertEqual(found.gain_db.size, basis.counts.size)
                self.assertLess(found.held.readings[quantity], 6 if quantity == "loudness_range_lu" else 13)


class TwoVoices(unittest.TestCase):
    @staticmethod
    def wave(name: str) -> np.ndarray:
        """Two voices 9 dB apart, at the level an audiobook asks for."""
        wave = uneven(name, -9.0, 0, seconds=60)
        return np.clip(wave * 10 ** (6 / 20), -1, 1)

    def test_what_a_plan_leaves_is_said_and_even_mends_it(self):
        for name in ("caller", "almanac-02"):
            with Run(self.wave(name), catalogue.shipped()["audiobook-retail"], preference="even") as run:
                plans = dict(proposed(run.source, run.wanted))
                with self.subTest(name=name):
                    self.assertIn(("level-jump", 1), [(each.kind, each.count) for each in plans["light"].leaves])
                    self.assertNotIn("level-jump", [each.kind for each in plans["even"].leaves])
                    self.assertTrue(run.result.passes)
                    self.assertEqual(run.kinds[0], "level-riding")
                    self.assertNotIn("level-jump", [finding.kind for finding in run.result.after.findings])
                    self.assertLess(run.result.after.value("loudness_range_lu"), 4)
                    self.assertRegex(run.result.treatment.steps[0].reason, r"Loudness range is 1\d\.\d LU; slow level riding")

    def test_even_speech_is_not_ridden(self):
        self.assertIsNone(evening.steadied(shaping.whole(measured(uneven("almanac-01", 0.0, 1)).basis), Bounds()))
        self.assertIsNone(evening.steadied(shaping.whole(measured(self.wave("wren")).basis), Bounds(riding_db=0)))

    def test_what_is_mended_is_not_left(self):
        wave = self.wave("wren")
        wave[RATE * 3] = 0.9
        inspection = measured(wave).inspection
        kinds = {finding.kind for finding in inspection.findings if finding.severity != "note"}
        self.assertEqual({each.kind for each in remedies.left(inspection, Treatment())}, kinds)
        mended = Treatment(steps=(Step(kind="level-riding"), Step(kind="gain", settings={"gain_db": 1})))
        self.assertEqual({each.kind for each in remedies.left(inspection, mended)}, kinds - {"level-jump"})
        self.assertTrue(all(each.advice for each in remedies.left(inspection, mended)))


class NothingToEven(unittest.TestCase):
    def test_silence_noise_and_a_tone_get_a_sentence(self):
        tone = signals.sine(440, peak_dbfs=-10, seconds=8, rate=RATE)
        waves = {"silence": np.zeros(RATE * 5), "noise": signals.noise(8, rms_dbfs=-40, rate=RATE), "tone": tone}
        wanted = specification(*HARD["loudness_range_lu"], Limit(quantity="crest_factor_db", high=2))
        for name, wave in waves.items():
            with Run(wave, wanted) as run, self.subTest(name=name):
                self.assertFalse(run.result.passes)
                self.assertFalse(run.out.exists())
                self.assertTrue(all(each.advice.endswith(".") for each in run.result.obstacles))

    def test_beyond_the_bounds_is_told_in_the_unit_of_the_limit(self):
        said = levelling.beyond(("short_term_max_lufs", "short_term_max_lufs"), 1.24, Bounds())
        self.assertIn("Loudest 3 s stays 1.2 LU outside the limit", said.advice)
        said = levelling.beyond(("integrated_loudness_lufs", "true_peak_dbtp"), 2.0, Bounds(limiting_db=3))
        self.assertIn("More than 3 dB of limiting", said.advice)
        self.assertIn("the level stays 2.0 LU short", said.advice)
