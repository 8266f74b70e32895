"""A draft rehearsed is the draft run: the same samples, from wherever it is listened to, and nothing is done twice."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.audio.writing import read_span
from ispettore.core.measure.inspecting import inspect
from ispettore.core.treat import rehearsal, runner
from ispettore.core.treat.rehearsal import Rehearsal
from ispettore.core.treat.treatment import STEPS, Step, Treatment
from tests import signals

RATE = 44_100
SETTINGS: dict[str, dict] = {
    "channels": {"channels": 2},
    "sample-rate": {"sample_rate_hz": 48_000},
    "hum-filter": {"base_hz": 50},
    "tone": {"bands": [{"kind": "bell", "frequency_hz": 3_000, "gain_db": 2}]},
    "spot-gain": {"spots": [{"start_s": 4.0, "end_s": 5.5, "gain_db": -6}]},
    "room-tone-fill": {"spans": [{"start_s": 3.0, "end_s": 3.4}]},
    "multiband-compressor": {"bands": [{"compressor": {"threshold_dbfs": -30}}] * 3},
    "compressor": {"threshold_dbfs": -30},
    "gain": {"gain_db": 4},
    "true-peak-limiter": {"ceiling_dbtp": -18},
    "head-and-tail": {"head_s": 0.8, "tail_s": 1.5},
}
CHAIN = ("rumble-filter", "noise-reduction", "reference-level", "level-riding", "compressor", "gain", "true-peak-limiter")


def of(*kinds: str, **changed: dict) -> list[Step]:
    return [Step(kind=kind, settings={**SETTINGS.get(kind, {}), **changed.get(kind.replace("-", "_"), {})}) for kind in kinds]


class Rehearsed(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.path = cls.folder / "chapter.wav"
        soundfile.write(cls.path, signals.voice_like(14, rms_dbfs=-26, rate=RATE, room_dbfs=-58), RATE, subtype="PCM_24")
        cls.known = inspect(cls.path).inspection

    def rehearse(self) -> Rehearsal:
        made = Rehearsal(self.path, self.known, name="chapter.wav", folder=self.folder)
        self.addCleanup(made.let_go)
        return made

    def run_whole(self, steps: list[Step]) -> np.ndarray:
        with tempfile.TemporaryDirectory() as folder:
            run = runner.run(self.path, Treatment(steps=tuple(steps)), folder=Path(folder))
            return read_span(run.path, 0, 10**7)

    def test_every_step_sounds_as_it_will_be_written(self):
        for kind in STEPS:
            with self.subTest(kind=kind):
                steps = of(kind)
                written = self.run_whole(steps)
                heard = self.rehearse().sound(steps, 0, 10**6)
                self.assertEqual(heard.shape, written.shape)
                self.assertLess(float(np.abs(heard - written).max()), 2e-6)

    def test_a_whole_treatment_from_the_middle_on(self):
        steps = of(*CHAIN)
        written = self.run_whole(steps)
        rehearsed = self.rehearse()
        for start in (6 * RATE, 9 * RATE, 2 * RATE):
            heard = rehearsed.sound(steps, start, RATE)
            self.assertLess(float(np.abs(heard - written[start : start + RATE]).max()), 2e-6)

    def test_only_what_follows_a_change_is_done_again(self):
        rehearsed = self.rehearse()
        steps = of(*CHAIN)
        rehearsed.sound(steps, 0, RATE)
        before = rehearsed.chain(0, RATE).through(steps)
        after = rehearsed.chain(0, RATE).through(of(*CHAIN, compressor={"threshold_dbfs": -34}))
        same = [one is other for one, other in zip(before, after, strict=True)]
        self.assertEqual(same, [True] * 5 + [False] * 3)
        back = rehearsed.chain(0, RATE).through(steps)
        self.assertTrue(all(one is other for one, other in zip(before, back, strict=True)))

    def test_a_step_that_learns_nothing_works_only_as_far_as_somebody_listens(self):
        rehearsed = self.rehearse()
        rehearsed.sound(of("compressor", "true-peak-limiter"), 0, RATE // 2)
        last = rehearsed.chain(0, RATE).through(of("compressor", "true-peak-limiter"))[-1]
        self.assertLess(last._count, 3 * RATE)

    def test_steps_that_are_off_are_not_heard(self):
        off = [one.model_copy(update={"on": False}) for one in of("gain")]
        plain = read_span(self.path, 0, RATE)
        self.assertEqual(float(np.abs(self.rehearse().sound(off, 0, RATE) - plain).max()), 0.0)

    def test_a_step_that_cannot_be_started_lets_everything_through_and_says_why(self):
        """Gated to dead silence: there is no room tone to fill it with."""
        path = self.folder / "gated.wav"
        wave = signals.voice_like(12, rate=RATE, rms_dbfs=-22, room_dbfs=-120)
        wave[np.abs(wave) < 1e-4] = 0
        soundfile.write(path, wave, RATE, subtype="PCM_24")
        rehearsed = Rehearsal(path, inspect(path).inspection, name="gated.wav", folder=self.folder)
        self.addCleanup(rehearsed.let_go)
        steps = of("room-tone-fill", "gain", room_tone_fill={"spans": []})
        heard = rehearsed.sound(steps, 4 * RATE, RATE)
        plain = read_span(path, 4 * RATE, RATE) * np.float32(10 ** (4 / 20))
        self.assertLess(float(np.abs(heard - plain).max()), 2e-6)
        idle = rehearsed.chain(0, RATE).through(steps)[1]
        self.assertIsInstance(idle, rehearsal.Idle)
        self.assertIn("“gated.wav” has no room tone", idle.problem)

    def test_the_rate_that_comes_out_counts_the_frames(self):
        steps = of("sample-rate")
        whole = self.run_whole(steps)
        heard = self.rehearse().sound(steps, 5 * 48_000, 4_800)
        self.assertLess(float(np.abs(heard - whole[5 * 48_000 : 5 * 48_000 + 4_800]).max()), 2e-6)

    def test_the_end_is_the_end(self):
        frames = soundfile.info(self.path).frames
        self.assertEqual(len(self.rehearse().sound(of("gain"), frames - 100, RATE)), 100)
        self.assertEqual(len(self.rehearse().sound(of("gain"), frames + 100, RATE)), 0)


class OfALongRecording(unittest.TestCase):
    """Longer than what is taken whole: five minutes, of which a window is heard."""

    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.path = cls.folder / "long.wav"
        piece = signals.voice_like(30, rms_dbfs=-26, rate=RATE, room_dbfs=-58)
        soundfile.write(cls.path, np.tile(piece, 10), RATE, subtype="PCM_24")
        cls.known = inspect(cls.path).inspection

    def rehearse(self) -> Rehearsal:
        made = Rehearsal(self.path, self.known, name="long.wav", folder=self.folder)
        self.addCleanup(made.let_go)
        return made

    def near(self, heard: np.ndarray, written: np.ndarray) -> float:
        """How far below the sound the difference lies, in dB."""
        return 10 * float(np.log10(np.mean(written**2) / max(float(np.mean((heard - written) ** 2)), 1e-30)))

    def test_a_window_sounds_as_the_whole_run_does(self):
        self.assertGreater(soundfile.info(self.path).duration, rehearsal.WHOLE_S)
        spots = {"spots": [{"start_s": 203.0, "end_s": 204.0, "gain_db": -6}, {"start_s": 20, "end_s": 21, "gain_db": 6}]}
        for steps, least_db in (
            (of("compressor", "true-peak-limiter"), 60),
            (of("spot-gain", spot_gain=spots), 100),
            (of("reference-level", "compressor"), 25),
            (of("noise-reduction", "gain", "head-and-tail"), 25),
        ):
            with self.subTest(steps=[step.kind for step in steps]), tempfile.TemporaryDirectory() as folder:
                # What works at the ends alone is not heard in between.
                run = runner.run(self.path, Treatment(steps=tuple(steps[:2])), folder=Path(folder))
                written = read_span(run.path, 0, 10**9)
                rehearsed = self.rehearse()
                for start in (202 * RATE, 61 * RATE):
                    heard = rehearsed.sound(steps, start, 2 * RATE)
                    self.assertEqual(len(heard), 2 * RATE)
                    self.assertGreater(self.near(heard, written[start : start + 2 * RATE]), least_db)

    def test_the_last_steps_begin_where_somebody_listens(self):
        rehearsed = self.rehearse()
        steps = of("noise-reduction", "compressor", "gain", "true-peak-limiter")
        rehearsed.sound(steps, 100 * RATE, RATE)
        changed = of("noise-reduction", "compressor", "gain", "true-peak-limiter", compressor={"threshold_dbfs": -34})
        late = rehearsed.sound(changed, 130 * RATE, RATE)
        begins = [sound.first / RATE for sound in rehearsed.chain(130 * RATE, 131 * RATE).through(changed, 35 * RATE)]
        self.assertEqual(begins[:2], [0, 0])
        self.assertEqual(begins[2:], [30.0] * 3)
        again = self.rehearse().sound(changed, 130 * RATE, RATE)
        self.assertGreater(self.near(late, again), 40)
        # What lies before that is there as well, once it is asked for.
        self.assertEqual(len(rehearsed.sound(changed, 101 * RATE, RATE)), RATE)

    def test_a_window_is_kept_while_it_is_listened_to(self):
        rehearsed = self.rehearse()
        steps = of("gain")
        for second in range(100, 120):
            rehearsed.sound(steps, second * RATE, RATE)
        self.assertEqual(len(rehearsed._chains), 1)
        for second in (10, 280, 150, 220):
            rehearsed.sound(steps, second * RATE, RATE)
        self.assertEqual(len(rehearsed._chains), 3)


if __name__ == "__main__":
    unittest.main()
