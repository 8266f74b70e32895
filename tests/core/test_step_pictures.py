"""The picture of each step holds this recording's own figures."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.measure.inspecting import inspect
from ispettore.core.treat import pictures
from ispettore.core.treat.pictures import Picture
from ispettore.core.treat.rehearsal import Rehearsal
from ispettore.core.treat.treatment import STEPS, Step
from tests import signals
from tests.core.test_rehearsal import RATE, of


class Pictures(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.path = cls.folder / "chapter.wav"
        soundfile.write(cls.path, signals.voice_like(14, rms_dbfs=-26, rate=RATE, room_dbfs=-58), RATE, subtype="PCM_24")
        cls.known = inspect(cls.path).inspection

    def draw(self, *steps: Step) -> tuple[Picture, ...]:
        rehearsed = Rehearsal(self.path, self.known, name="chapter.wav", folder=self.folder)
        self.addCleanup(rehearsed.let_go)
        chain = rehearsed.chain(0, 1)
        return pictures.of(chain.through(rehearsed.steps(steps, chain))[-1])

    def only(self, kind: str, **settings) -> Picture:
        return self.draw(Step(kind=kind, settings={**of(kind)[0].settings, **settings}))[0]

    def line(self, picture: Picture, title: str, of: str) -> np.ndarray:
        [found] = [line for line in picture.lines if line.title == title and line.of == of]
        return np.array(found.y, dtype=float)

    def test_every_step_has_a_picture_and_a_sentence(self):
        for kind in STEPS:
            with self.subTest(kind=kind):
                found = self.draw(*of(kind))
                self.assertTrue(found)
                for picture in found:
                    self.assertRegex(picture.said, r"^[A-Z\d].*\.$")
                    for line in picture.lines:
                        self.assertEqual(len(line.x), len(line.y))
                        self.assertTrue(np.isfinite(np.array(line.y, dtype=float)).all())
                        self.assertTrue((np.diff(line.x) >= 0).all())

    def test_the_compressors_curve_lies_over_the_recordings_own_levels(self):
        picture = self.only("compressor", threshold_dbfs=-30, ratio=4, knee_db=0)
        line = picture.lines[0]
        out = dict(zip(line.x, line.y, strict=True))
        self.assertAlmostEqual(out[-50.0], -50.0, delta=0.01)
        self.assertAlmostEqual(out[-10.0], -25.0, delta=0.01)
        self.assertAlmostEqual(sum(picture.bars), 1.0, delta=0.05)
        self.assertEqual([(mark.path, mark.at) for mark in picture.marks], [("threshold_dbfs", -30.0)])

    def test_the_expander_marks_room_and_softest_speech_around_what_it_proposes(self):
        picture = self.only("expander")
        marks = {mark.title: mark.at for mark in picture.marks}
        self.assertLess(marks["room tone"], marks["threshold"])
        self.assertLess(marks["threshold"], marks["softest speech"])
        self.assertIn(f"{marks['threshold']:.1f} dBFS is proposed".replace("-", "−"), picture.said)

    def test_noise_reduction_shows_the_room_fall_and_the_voice_stay(self):
        picture = self.only("noise-reduction", amount_db=10)
        room = self.line(picture, "room tone", "before") - self.line(picture, "room tone", "after")
        middle = slice(8, 24)
        self.assertAlmostEqual(float(room[middle].mean()), 10, delta=1.5)
        voice = self.line(picture, "voice", "before") - self.line(picture, "voice", "after")
        clear = self.line(picture, "voice", "before") > self.line(picture, "room tone", "before") + 25
        self.assertTrue(clear.any())
        self.assertLess(float(np.abs(voice[clear]).max()), 1.0)

    def test_a_response_is_that_of_the_filter(self):
        for kind, settings, at, level in (
            ("rumble-filter", {"corner_hz": 100, "slope_db_per_octave": 24}, 50.0, -24.0),
            ("rumble-filter", {"corner_hz": 100, "slope_db_per_octave": 24}, 1_000.0, 0.0),
            ("tone", {"bands": [{"kind": "bell", "frequency_hz": 1_000, "gain_db": 6, "q": 1}]}, 1_000.0, 6.0),
        ):
            picture = self.only(kind, **settings)
            [line] = [line for line in picture.lines if line.title == "response"]
            self.assertAlmostEqual(float(np.interp(at, line.x, line.y)), level, delta=0.5, msg=f"{kind} {at}")

    def test_the_limiter_counts_the_places_it_touches(self):
        picture = self.only("true-peak-limiter", ceiling_dbtp=-18)
        after = self.line(picture, "peak", "after")
        self.assertLessEqual(float(after.max()), -18.0)
        self.assertRegex(picture.said, r"^It touches \d+ places; the largest reduction is \d+\.\d dB\.$")
        self.assertEqual(
            self.only("true-peak-limiter", ceiling_dbtp=0).said, "No peak reaches the ceiling: it leaves everything as it is."
        )

    def test_head_and_tail_are_looked_at_where_they_are(self):
        first, last = self.draw(*of("head-and-tail"))
        self.assertIn("and becomes 0.80 s", first.said)
        self.assertIn("and becomes 1.50 s", last.said)
        self.assertLess(max(last.lines[0].x), 0.01)

    def test_riding_brings_passages_nearer_to_one_another(self):
        picture = self.only("level-riding")
        before, after = (self.line(picture, "short-term loudness", which) for which in ("before", "after"))
        self.assertLessEqual(float(np.ptp(after[5:-5])), float(np.ptp(before[5:-5])) + 0.1)
