"""What holds for every plan: over voices of many levels, rooms and peaks, and for every shipped specification."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from ispettore.core.audio.facts import FileFacts
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import evening, planner, preparing, shaping, window
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.cleaning import Cleaning
from ispettore.core.plan.conform import conform
from ispettore.core.plan.holding import Asked
from ispettore.core.plan.proposing import role_for
from ispettore.core.plan.window import Bar, of_bars
from ispettore.core.spec import catalogue
from ispettore.core.spec.quantities import ROOM_LEVELS
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.verdict import judge
from ispettore.core.treat.treatment import Step
from tests import signals

RATE = 44_100
AUDIOBOOK = catalogue.shipped()["audiobook-retail"]


def voice(*, rms_dbfs: float, room_dbfs: float, crest_db: float = 0.0, seconds: float = 10) -> np.ndarray:
    """A voice whose loudest tenth of a second stands `crest_db` higher than it would: shape (frames, 1)."""
    wave = signals.voice_like(seconds, rms_dbfs=rms_dbfs, rate=RATE, room_dbfs=room_dbfs)
    if crest_db:
        at = int(np.argmax(np.abs(wave)))
        span = slice(max(0, at - 2_200), at + 2_200)
        wave[span] *= 1 + (10 ** (crest_db / 20) - 1) * np.hanning(wave[span].size)
    return np.clip(wave, -1, 1)[:, None]


class EverySpecification(unittest.TestCase):
    def test_a_plan_either_passes_when_run_or_names_two_limits(self):
        cases = [
            {"rms_dbfs": -30, "room_dbfs": -80},
            {"rms_dbfs": -24, "room_dbfs": -75, "crest_db": 10},
            {"rms_dbfs": -20, "room_dbfs": -52},
        ]
        with tempfile.TemporaryDirectory() as folder:
            for number, case in enumerate(cases):
                path = signals.write(Path(folder) / f"{number}.wav", voice(**case), RATE)
                for name, specification in catalogue.shipped().items():
                    out = Path(folder) / f"{number}-{name}.wav"
                    result = conform(path, specification, out)
                    with self.subTest(case=case, specification=name):
                        self.assertEqual(result.passes, out.exists())
                        if result.passes:
                            self.assertTrue(judge(result.after, specification, role=result.role).passes)
                            self.assertEqual(result.obstacles, ())
                        else:
                            self.assertTrue(result.obstacles)
                            self.assertTrue(all(obstacle.advice for obstacle in result.obstacles))

    def test_what_passes_already_is_left_alone(self):
        with tempfile.TemporaryDirectory() as folder:
            path = signals.write(Path(folder) / "good.wav", voice(rms_dbfs=-20.5, room_dbfs=-72), RATE)
            result = conform(path, AUDIOBOOK, Path(folder) / "out.wav")
            self.assertEqual(result.treatment.steps, ())
            self.assertEqual(result.touch.touch, 0)

    def test_preferences_trade_touch_for_evenness(self):
        with tempfile.TemporaryDirectory() as folder:
            path = signals.write(Path(folder) / "wild.wav", voice(rms_dbfs=-28, room_dbfs=-80, crest_db=12), RATE)
            found = {}
            for preference in ("light", "balanced", "even"):
                out = Path(folder) / f"{preference}.wav"
                found[preference] = conform(path, AUDIOBOOK, out, preference=preference)
                self.assertTrue(found[preference].passes, preference)
            touch = [found[preference].touch.touch for preference in ("light", "balanced", "even")]
            self.assertEqual(touch, sorted(touch))
            self.assertAlmostEqual(found["even"].after.value("rms_dbfs"), -20.5, delta=0.6)


class Preparations(unittest.TestCase):
    @staticmethod
    def recording(rate: int, channels: int) -> Inspection:
        facts = FileFacts(
            container="wav",
            codec="pcm",
            sample_rate_hz=rate,
            bit_depth=24,
            channels=channels,
            frames=rate,
            duration_s=1,
            bit_rate_kbps=None,
            bit_rate_constant=None,
            size_bytes=0,
        )
        return Inspection(name="", sha256="", facts=facts, readings={}, findings=[], speech=[], room_tone=[], methods_version=1)

    def kinds(self, rate: int, channels: int, specification: str, container: str) -> list[str]:
        form = OutputFormat.model_validate({"container": container})
        spec = catalogue.shipped()[specification]
        prepared = preparing.preparation(self.recording(rate, channels), spec, role=role_for(form, spec), form=form)
        return [f"{step.kind} {next(iter(step.settings.values()))}" for step in prepared.steps]

    def test_conversions_are_those_that_are_asked_for_and_no_others(self):
        cases = [
            ((44_100, 1, "audiobook-retail", "mp3"), []),
            ((48_000, 1, "audiobook-retail", "mp3"), ["sample-rate 44100"]),
            ((48_000, 1, "audiobook-retail", "wav"), []),
            ((96_000, 2, "podcast-mono", "mp3"), ["channels 1", "sample-rate 48000"]),
            ((88_200, 2, "podcast-mono", "flac"), ["channels 1"]),
            ((22_050, 1, "podcast-stereo", "mp3"), ["channels 2", "sample-rate 44100"]),
            ((48_000, 6, "video-streaming", "mp3"), ["channels 2"]),
        ]
        for arguments, expected in cases:
            with self.subTest(arguments=arguments):
                self.assertEqual(self.kinds(*arguments), expected)


class Windows(unittest.TestCase):
    def test_what_lowers_a_reading_moves_its_bar_up(self):
        window = of_bars(
            [
                Bar(quantity="rms_dbfs", title="", low_db=-2.0, high_db=3.0),
                Bar(quantity="noise_floor_dbfs", title="", low_db=None, high_db=-8.0),
            ]
        )
        self.assertAlmostEqual(window.shortfall_db, 6.0)
        self.assertTrue(window.moved(noise_floor_dbfs=-7.0).open)
        self.assertAlmostEqual(window.moved(noise_floor_dbfs=-4.0).shortfall_db, 2.0)
        self.assertEqual((window.raised_by, window.held_by), ("rms_dbfs", "noise_floor_dbfs"))
        self.assertIsNone(window.without("rms_dbfs").low_db)

    def test_a_longer_tail_lowers_the_rms_of_the_whole(self):
        inspection = measure_array(voice(rms_dbfs=-23, room_dbfs=-70), sample_rate_hz=RATE).inspection
        short = window.gain_window(inspection, AUDIOBOOK)
        longer = window.gain_window(inspection, AUDIOBOOK, longer_s=10.0)
        self.assertAlmostEqual((longer.low_db or 0) - (short.low_db or 0), 3.01, delta=0.05)

    def test_whatever_level_of_the_room_is_limited_cleaning_brings_it_down(self):
        basis = measure_array(voice(rms_dbfs=-23, room_dbfs=-55), sample_rate_hz=RATE).basis
        for name in ROOM_LEVELS:
            wanted = Specification(
                id="quiet",
                name="Quiet",
                limits=(Limit(quantity="rms_dbfs", low=-23.5, high=-18), Limit(quantity=name, high=-60)),
            )
            with self.subTest(name=name):
                tried = Cleaning(steps=(Step(kind="rumble-filter"),), moved={name: -12.0})
                kinds = [
                    [
                        step.kind
                        for step in planner.make(shaping.whole(basis), wanted, role="recording", cleaning=cleaning).treatment.steps
                    ]
                    for cleaning in (None, tried)
                ]
                self.assertEqual(["rumble-filter" in each for each in kinds], [False, True])


class Evening(unittest.TestCase):
    def setUp(self):
        self.measured = measure_array(voice(rms_dbfs=-24, room_dbfs=-85, crest_db=14), sample_rate_hz=RATE)
        self.specification = Specification(
            id="dense",
            name="Dense",
            limits=(Limit(quantity="rms_dbfs", low=-15, high=-12, guard=0.5), Limit(quantity="true_peak_dbtp", high=-1)),
        )
        self.readings = window.expected(self.measured.inspection, self.specification)

    def search(self, bounds: Bounds) -> shaping.Evened:
        asked = Asked(self.specification, window.Learned(), "light", bounds)
        self.assertFalse(evening.plain(shaping.whole(self.measured.basis), self.readings, asked).held.enough)
        return evening.search(shaping.whole(self.measured.basis), self.readings, asked)

    def test_the_mildest_ratio_that_stays_within_the_bounds(self):
        easy, strict = self.search(Bounds(limiting_db=6, riding_db=0)), self.search(Bounds(limiting_db=2, riding_db=0))
        for found, most in ((easy, 6), (strict, 2)):
            self.assertTrue(found.held.enough)
            self.assertLessEqual(found.held.depth_db, most + 0.05)
            self.assertLessEqual(found.shaping.compression_db, 10)
            self.assertLessEqual(found.shaping.compressor.ratio, 4)
        self.assertGreaterEqual(strict.shaping.compressor.ratio, easy.shaping.compressor.ratio)

    def test_no_bounds_wide_enough_no_evening(self):
        self.assertIsNone(self.search(Bounds(limiting_db=0, compression_db=0, riding_db=0)))
