"""What planning guarantees, on a sample of the corpus (all of it: `./run bench --plans`), and on what nothing can be made of."""

import tempfile
import unittest
from itertools import product
from pathlib import Path

import soundfile

from ispettore.core import errors
from ispettore.core.plan.conform import conform, proposed
from ispettore.core.spec import catalogue
from tests import corpus, recordings
from tests.bench_plans import WAV, one


class Guarantees(unittest.TestCase):
    def test_plans_pass_by_others_meters_and_refusals_come_early(self):
        cases = list(product(recordings.recordings(), recordings.specifications()))
        self.assertGreater(len(recordings.recordings()), 80)
        for name, specification in corpus.some(cases, every=89, first=3):
            [came] = one((name, [specification]))
            with self.subTest(recording=name, specification=specification):
                self.assertEqual(came.against, ())
                if not came.passes:
                    self.assertLessEqual(came.rounds, 2)
                    self.assertTrue(came.refused)
                elif came.rounds == 1:
                    self.assertLess(max(came.off.values(), default=0.0), 0.5, came.off)
                if came.passes and specification == "audiobook-retail":
                    self.assertLess(came.touch, came.recipe_touch)

    def test_the_same_recording_gets_the_same_plans(self):
        name = "wren, shouts"
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "in.wav"
            wave, rate = recordings.recordings()[name]()
            soundfile.write(path, wave, rate, "PCM_24")
            wanted = recordings.specifications()["narrow-range"]
            first, second = (proposed(path, wanted, form=WAV) for _ in range(2))
        self.assertEqual(first, second)

    def test_what_nothing_can_be_made_of_gets_a_sentence_and_nothing_is_written(self):
        hard = ("audiobook-retail", "narrow-range", "dense", "no-dead-silence")
        for (name, (wave, rate)), wanted in product(recordings.hopeless().items(), hard):
            with tempfile.TemporaryDirectory() as folder, self.subTest(recording=name, specification=wanted):
                path, out = Path(folder) / "in.wav", Path(folder) / "out.wav"
                soundfile.write(path, wave, rate, "FLOAT")
                try:
                    result = conform(path, recordings.specifications()[wanted], out)
                except errors.IspettoreError as error:
                    self.assertTrue(error.sentence.endswith("."), error.sentence)
                else:
                    self.assertFalse(result.passes)
                    self.assertTrue(result.obstacles)
                    self.assertTrue(all(obstacle.advice.endswith(".") for obstacle in result.obstacles))
                self.assertEqual(sorted(each.name for each in Path(folder).iterdir()), ["in.wav"])

    def test_the_corpus_holds_all_that_is_shipped(self):
        self.assertLess(set(catalogue.shipped()), set(recordings.specifications()))
        self.assertEqual(len(recordings.specifications()), len(catalogue.shipped()) + 6)
