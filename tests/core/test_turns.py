"""Two voices or two sessions in one recording are told apart, one is not, and they are brought to one another."""

import tempfile
import unittest
from itertools import pairwise
from pathlib import Path

import numpy as np

from ispettore.core.audio.writing import open_spans
from ispettore.core.measure import voice_tone
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.turns import Turn
from ispettore.core.plan import turning
from ispettore.core.plan.turning import Aim
from ispettore.core.treat.tone_match import ToneMatch
from tests import signals, speakers
from tests.treating import treated

RATE = 44_100
VOICES = ("heron", "plover", "reed", "sluice", "wren")
Parts = list[tuple[str, float, dict | None]]
"""Phrases of a speaker one after another: whose, by how much louder, and with which band of tone."""


def laid(parts: Parts, *, phrases: int = 3, pause_s: float = 0.9, room: float = -66.0) -> tuple[np.ndarray, list[float]]:
    """A recording in which speakers take turns of some phrases each, and where the turns end, in seconds."""
    pieces, ends, taken = [np.zeros(round(0.7 * RATE))], [], dict.fromkeys(VOICES, 0)
    for name, gain_db, tone in parts:
        all_of = speakers.phrases(name, RATE)
        for _ in range(phrases):
            phrase = all_of[taken[name] % len(all_of)]
            taken[name] += 1
            if tone:
                phrase = treated(phrase, ("tone", {"bands": [tone]}))[0][: phrase.size]
            pieces += [phrase * 10 ** (gain_db / 20), np.zeros(round(pause_s * RATE))]
        ends.append(sum(piece.size for piece in pieces) / RATE - pause_s / 2)
    wave = np.concatenate(pieces)
    return wave + speakers.room(wave.size, rate=RATE, dbfs=room), ends[:-1]


class TurnsCase(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)

    def measured(self, wave: np.ndarray) -> Measured:
        self.path = signals.write(self.folder / "in.wav", wave, RATE)
        return inspect(self.path)

    def found(self, wave: np.ndarray) -> list[Turn]:
        return self.measured(wave).inspection.turns


class Told(TurnsCase):
    def alternate(self, parts: Parts, **how) -> None:
        """Passages are those of the parts, to half a pause."""
        wave, ends = laid(parts, **how)
        found = self.found(wave)
        self.assertEqual(len(found), len(parts), found)
        self.assertEqual(found[0].start_s, 0.0)
        self.assertAlmostEqual(found[-1].end_s, wave.size / RATE, delta=0.006)
        for (before, after), end in zip(pairwise(found), ends, strict=True):
            self.assertEqual(before.end_s, after.start_s)
            self.assertAlmostEqual(before.end_s, end, delta=0.5)
            self.assertNotEqual(before.voice, after.voice)

    def test_one_voice_is_one_whoever_speaks(self):
        for name in VOICES:
            with self.subTest(name):
                wave, _ = laid([(name, 0.0, None)], phrases=30)
                self.assertEqual(self.found(wave), [])

    def test_two_readers_at_the_same_level_are_two(self):
        for one, other in (("wren", "reed"), ("heron", "plover"), ("sluice", "wren"), ("plover", "wren")):
            with self.subTest(f"{one} and {other}"):
                self.alternate([(one, 0, None), (other, 0, None)] * 3)

    def test_two_sessions_of_one_reader_are_two(self):
        dull = {"kind": "high-shelf", "frequency_hz": 2_500, "gain_db": -7}
        self.alternate([("wren", 0, None), ("wren", -6, dull), ("wren", 0, None)], phrases=6)

    def test_a_softer_second_reader_is_found_as_well(self):
        self.alternate([("wren", 0, None), ("reed", -9, None)] * 3)

    def test_the_one_that_speaks_more_is_the_first(self):
        wave, _ = laid([("reed", 0, None), ("wren", 0, None), ("wren", 0, None), ("reed", 0, None), ("wren", 0, None)], phrases=4)
        self.assertEqual([turn.voice for turn in self.found(wave)], [1, 0, 1, 0])

    def test_a_voice_that_grows_slowly_softer_is_one(self):
        wave, _ = laid([("wren", 0.0, None)], phrases=24)
        self.assertEqual(self.found(wave * np.linspace(1, 10 ** (-3 / 20), wave.size)), [])

    def test_silence_noise_and_a_few_words_have_none(self):
        self.assertEqual(self.found(np.zeros(RATE * 5)), [])
        self.assertEqual(self.found(speakers.room(RATE * 5, rate=RATE, dbfs=-40)), [])
        wave, _ = laid([("wren", 0, None), ("reed", 0, None)], phrases=1)
        self.assertEqual(self.found(wave), [])


class BroughtTogether(TurnsCase):
    """The same voice further from the microphone in the second and fourth passage: 7 dB softer and duller."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        far = {"kind": "high-shelf", "frequency_hz": 2_500, "gain_db": -6}
        cls.wave, _ = laid([("wren", 0, None), ("wren", -7, far)] * 2, phrases=6)
        cls.path = signals.write(cls.folder / "sessions.wav", cls.wave, RATE)
        cls.one = inspect(cls.path)

    def voices(self, measured: Measured, path: Path, turns: list[Turn]):
        with open_spans(path) as samples:
            return turning.voices(turns, measured.inspection, measured.basis, samples)

    def after(self, *, toward: int = 0, tone: bool, like: Aim | None = None):
        """Both voices before and after they were brought together."""
        turns = self.one.inspection.turns
        before = self.voices(self.one, self.path, turns)
        if like is not None:
            steps = turning.steps_like(turns, before, self.one.inspection, like, tone=tone)
        else:
            steps = turning.steps(turns, before, toward=toward, tone=tone)
        wave, _ = treated(self.wave, *[(step.kind, step.settings) for step in steps])
        path = signals.write(self.folder / "out.wav", wave[: self.wave.size], RATE)
        return before, self.voices(inspect(path), path, turns), steps, wave

    def test_they_come_to_the_same_level_and_nothing_else_moves(self):
        before, after, steps, wave = self.after(tone=False)
        self.assertGreater(before[0].speech_dbfs - before[1].speech_dbfs, 5)
        self.assertAlmostEqual(after[0].speech_dbfs, after[1].speech_dbfs, delta=0.3)
        self.assertAlmostEqual(after[0].speech_dbfs, before[0].speech_dbfs, delta=0.3)
        self.assertEqual([step.kind for step in steps], ["spot-gain"])
        said = r"^Where one voice speaks: matched to the other voice’s level, \d\.\d dB up in 2 passages\.$"
        self.assertRegex(steps[0].reason, said)
        first = self.one.inspection.turns[0]
        untouched = slice(0, round(first.end_s * RATE))
        np.testing.assert_array_equal(wave[untouched], self.wave.astype(np.float32)[untouched])

    def test_either_can_be_the_one_that_stays(self):
        before, after, _, _ = self.after(toward=1, tone=False)
        self.assertAlmostEqual(after[1].speech_dbfs, before[1].speech_dbfs, delta=0.3)
        self.assertAlmostEqual(after[0].speech_dbfs, after[1].speech_dbfs, delta=0.3)

    def test_and_on_request_to_the_same_tone(self):
        before, after, steps, _ = self.after(tone=True)
        self.assertEqual([step.kind for step in steps], ["tone-match", "spot-gain"])
        was, now = (voice_tone.apart(one[1].tone_db, one[0].tone_db) for one in (before, after))
        self.assertGreater(was, 1.5)
        self.assertLess(now, 0.5 * was)
        self.assertAlmostEqual(voice_tone.apart(before[0].tone_db, after[0].tone_db), 0, delta=0.15)
        moved = max(abs(db) for db in steps[0].typed.voice_db)
        self.assertGreater(moved, 0)

    def test_both_come_to_another_recording(self):
        speech = self.one.inspection.value("active_speech_level_dbfs")
        like = Aim(speech_dbfs=speech - 4, tone_db=())
        before, after, _, _ = self.after(tone=False, like=like)
        self.assertAlmostEqual(after[0].speech_dbfs, after[1].speech_dbfs, delta=0.3)
        self.assertLess(after[0].speech_dbfs, before[0].speech_dbfs - 2)

    def test_what_is_alike_needs_nothing(self):
        turns = [Turn(start_s=0, end_s=5, voice=0), Turn(start_s=5, end_s=10, voice=1)]
        alike = [turning.Voice(voice=voice, seconds=4, speech_dbfs=-20.1 * 1.0, tone_db=()) for voice in (0, 1)]
        self.assertEqual(turning.steps(turns, alike, toward=0, tone=True), [])

    def test_passages_move_with_what_comes_before_them_and_stay_behind_when_kept(self):
        here = ToneMatch(voice_db=(1.0,) * 20, passages=({"start_s": 1, "end_s": 4}, {"start_s": 8, "end_s": 9}))
        moved = here.later(-2.0)
        self.assertEqual([(one.start_s, one.end_s) for one in moved.passages], [(0, 2), (6, 7)])
        gone = here.later(-10.0)
        self.assertEqual((gone.passages, gone.voice_db), ((), ()), "without its passages it moves nothing at all")
        self.assertIsNone(here.elsewhere())
        self.assertIsNotNone(ToneMatch(voice_db=(1.0,) * 20).elsewhere())
