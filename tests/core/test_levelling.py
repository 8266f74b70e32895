"""Uneven and shouted speech: what limiting takes from the level is known before anything runs, and a refusal is true."""

import tempfile
import unittest
from itertools import product
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.plan import foretelling, limiting, room, shaping, window
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.conform import Conformed, conform
from ispettore.core.plan.holding import Asked
from ispettore.core.plan.limiting import Limited
from ispettore.core.spec import catalogue
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.treat import touch
from tests import corpus, speakers
from tests.treating import RATE, measured, treated

SHOUTS = ((6.0, 3), (10.0, 4), (14.0, 6))
"""So many dB louder, every so many phrases."""

WANTED = {
    "audiobook-retail": ("rms_dbfs", -23.0),
    "podcast-mono": ("integrated_loudness_lufs", -20.0),
    "video-streaming": ("integrated_loudness_lufs", -15.0),
}
"""The level that each asks for at the least."""


def shouted(name: str, louder_db: float, every: int) -> np.ndarray:
    """A voice at −27 dBFS RMS, some of its phrases louder, in a quiet room."""
    laid = speakers.laid(name, rate=RATE, seconds=20, pause_s=0.9)
    wave = laid.wave.copy()
    for start, end in laid.spans[every - 1 :: every]:
        wave[round(start * RATE) : round(end * RATE)] *= 10 ** (louder_db / 20)
    wave *= 10 ** (-27 / 20) / np.sqrt(np.mean(wave**2))
    return np.clip(wave + speakers.room(wave.size, rate=RATE, dbfs=-78), -1, 1)


def levelled(case: tuple[str, tuple[float, int], str], **how) -> Conformed:
    name, (louder_db, every), wanted = case
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "in.wav"
        soundfile.write(path, shouted(name, louder_db, every), RATE, "PCM_24")
        return conform(path, catalogue.shipped()[wanted], Path(folder) / "out.wav", **how)


def cases() -> list[tuple[str, tuple[float, int], str]]:
    return list(product(speakers.NAMES, SHOUTS, WANTED))


class Levelling(unittest.TestCase):
    def test_the_first_round_passes_or_it_is_refused_before_anything_runs(self):
        for case in corpus.some(cases(), every=7):
            result = levelled(case)
            with self.subTest(case=case):
                self.assertEqual(result.rounds, 1, result.obstacles)
                quantity, least = WANTED[case[2]]
                if result.passes:
                    self.assertGreaterEqual(result.after.value(quantity), least)
                else:
                    self.assertEqual(result.obstacles[0].limits[0], quantity)

    def test_a_refusal_says_how_far_the_level_stays_short(self):
        case = ("reed", SHOUTS[1], "video-streaming")
        result = levelled(case, bounds=Bounds(riding_db=0, compression_db=0))
        [obstacle] = result.obstacles
        wave = shouted(case[0], *case[1])
        speech = measured(wave).basis.speech
        low, high = 0.0, 20.0
        for _ in range(9):
            gain = (low + high) / 2
            steps = (("gain", {"gain_db": gain}), ("true-peak-limiter", {"ceiling_dbtp": -1.2}))
            out, done = treated(wave, *steps)
            deep = touch.of(done.reduction_db, speech).depth_p99_db > Bounds().limiting_db
            low, high = (low, gain) if deep else (gain, high)
        short = -15 - measured(out).inspection.value("integrated_loudness_lufs")
        self.assertGreater(short, 1)
        self.assertAlmostEqual(obstacle.shortfall_db, short, delta=0.3)
        self.assertIn(f"the level stays {obstacle.shortfall_db:.1f} LU short", obstacle.advice)

    def test_two_levels_that_exclude_one_another_are_named_with_peaks_limited_or_not(self):
        levels = (
            Limit(quantity="rms_dbfs", low=-10, high=-5),
            Limit(quantity="integrated_loudness_lufs", low=-40, high=-30),
        )
        for more in ((), (Limit(quantity="true_peak_dbtp", high=-1),), (Limit(quantity="noise_floor_dbfs", high=-60),)):
            wanted = Specification(id="x", name="X", limits=(*levels, *more))
            with tempfile.TemporaryDirectory() as folder, self.subTest(more=more):
                path = Path(folder) / "in.wav"
                soundfile.write(path, shouted("wren", 6.0, 3), RATE, "PCM_24")
                [obstacle] = conform(path, wanted, Path(folder) / "out.wav").obstacles
                self.assertEqual(obstacle.limits, ("rms_dbfs", "integrated_loudness_lufs"))
                self.assertIn("conflict: this recording can't meet both", obstacle.advice)

    def test_what_limiting_takes_is_solved_for(self):
        limited = Limited(measured(shouted("wren", 10.0, 4)).basis, "rms_dbfs")
        ceiling = -3.2
        for wanted in (3.0, 6.0, 9.0):

            def lost(gain_db: float) -> float:
                return limited.loss(gain_db, ceiling)

            gain = limiting.compensated(wanted, lost)
            self.assertGreater(gain, wanted)
            self.assertAlmostEqual(gain + lost(gain), wanted, delta=0.01)
        self.assertEqual(limiting.compensated(-20.0, lost), -20.0)
        self.assertEqual(Limited(limited.basis, None).loss(9.0, ceiling), 0.0)

    def test_between_its_steps_what_limiting_takes_is_told_within_three_hundredths(self):
        for name, (louder_db, every) in corpus.some(list(product(speakers.NAMES, SHOUTS)), every=4):
            basis = measured(shouted(name, louder_db, every)).basis
            for level in ("rms_dbfs", "integrated_loudness_lufs"):
                limited = Limited(basis, level)
                for gain in np.arange(-2.0, 18.0, 0.37):
                    taken = limiting.reduction(basis, gain, -3.2)
                    held = foretelling.changes(basis, basis.times(10 ** (taken / 20)), [level])[level]
                    with self.subTest(name=name, level=level, gain=gain):
                        self.assertAlmostEqual(limited.loss(gain, -3.2), held, delta=0.03)
                        self.assertAlmostEqual(limited.depth(gain, -3.2), limiting.depth_of(taken, basis.speech), delta=0.035)
            self.assertEqual(limited.loss(-60.0, -3.2), 0.0)

    def test_what_makes_up_for_limiting_raises_the_room_too(self):
        quiet = shouted("caller", 14.0, 6)
        wave = quiet + speakers.room(quiet.size, rate=RATE, dbfs=-65.2, kind="white", seed=4)
        basis = measured(wave).basis
        specification = catalogue.shipped()["audiobook-retail"]
        readings = window.expected(basis.inspection, specification)
        bare = room.missing(readings, specification, evened={})({})
        asked = room.short_of_quiet(shaping.whole(basis), readings, Asked(specification, window.Learned(), "light", Bounds()))
        self.assertIsNotNone(asked)
        self.assertGreater(asked({}), bare + 0.3)
