"""What planning guarantees, on a sample of the corpus (all of it: `./run bench --plans`), and on what nothing can be made of."""

import tempfile
import unittest
from collections.abc import Iterator
from itertools import product
from pathlib import Path

import numpy as np
import soundfile
from scipy import signal

from ispettore.core import errors
from ispettore.core.plan.conform import conform
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import catalogue
from tests import corpus, recordings, speakers
from tests.bench_plans import WAV, one
from tests.core.test_cleaning_chosen import CASES, noisy
from tests.recordings import RATE, at


def losses(clean: np.ndarray, noise: np.ndarray, came: np.ndarray) -> Iterator[tuple[int, int, float]]:
    """What syllables so far under the speech (from so many dB on, by five) lost in dB against the clean voice, in each third-octave
    in which they stood over the noise."""
    frames = min(clean.size, came.size)
    gain = (came[:frames] @ clean[:frames]) / (clean[:frames] @ clean[:frames])
    parts = (each[:frames] for each in (clean * gain, noise * gain, came))
    voice, room, out = (np.abs(signal.stft(each, RATE, nperseg=1024, boundary=None)[2]) ** 2 for each in parts)
    level = 10 * np.log10(voice.sum(axis=0) + 1e-20)
    speech = 10 * np.log10(voice.sum(axis=0)[level > level.max() - 35].mean())
    hz = np.fft.rfftfreq(1024, 1 / RATE)
    for under, centre in product((10, 15, 20), 1000 * 2.0 ** (np.arange(-9, 10) / 3)):
        quiet = (level < speech - under) & (level > speech - under - 5)
        band = (hz >= centre * 2 ** (-1 / 6)) & (hz < centre * 2 ** (1 / 6))
        was, beside, now = (each[band][:, quiet].sum() for each in (voice, room, out))
        if quiet.sum() > 10 and was > beside:
            yield under, round(centre), 10 * np.log10(was / now)


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
                if came.passes and (specification == "audiobook-retail" or came.recipe_short_db <= 0):
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

    def test_what_is_no_speech_is_refused_in_a_sentence_and_nothing_is_written_or_it_passes(self):
        # Noise and a tone have an even level and no range, so what asks for no more than that is met by gain.
        met = {("all noise", "narrow-range"), ("all noise", "dense"), ("all tone", "narrow-range"), ("all tone", "dense"),
               ("one sample", "dense")}  # fmt: skip
        wanted = ("audiobook-retail", "narrow-range", "dense", "no-dead-silence")
        for (name, (wave, rate)), specification in product(recordings.hopeless().items(), wanted):
            with tempfile.TemporaryDirectory() as folder, self.subTest(recording=name, specification=specification):
                path, out = Path(folder) / "in.wav", Path(folder) / "out.wav"
                soundfile.write(path, wave, rate, "FLOAT")
                try:
                    result = conform(path, recordings.specifications()[specification], out)
                except errors.IspettoreError as error:
                    self.assertTrue(error.sentence.endswith("."), error.sentence)
                else:
                    self.assertEqual(result.passes, (name, specification) in met)
                    self.assertEqual(bool(result.obstacles), not result.passes)
                    self.assertTrue(all(obstacle.advice.endswith(".") for obstacle in result.obstacles))
                written = ["in.wav", "out.wav"] if (name, specification) in met else ["in.wav"]
                self.assertEqual(sorted(each.name for each in Path(folder).iterdir()), written)

    def test_cleaning_leaves_quiet_syllables(self):
        cases = list(product(speakers.NAMES, CASES))
        for name, (kind, dbfs) in corpus.some(cases, every=13):
            clean = at(speakers.laid(name, rate=RATE, seconds=24, pause_s=0.9).wave, -21.5)
            wave = noisy(name, kind, dbfs)
            with tempfile.TemporaryDirectory() as folder:
                path, out = Path(folder) / "in.wav", Path(folder) / "out.wav"
                soundfile.write(path, wave, RATE, "PCM_24")
                self.assertTrue(conform(path, catalogue.shipped()["audiobook-retail"], out).passes)
                came, _ = soundfile.read(out)
            for under, hz, lost in losses(clean, wave - clean, came):
                with self.subTest(name=name, kind=kind, under_db=under, hz=hz):
                    self.assertLess(lost, 2)

    def test_the_corpus_holds_all_that_is_shipped(self):
        self.assertLess(set(catalogue.shipped()), set(recordings.specifications()))
        self.assertEqual(len(recordings.specifications()), len(catalogue.shipped()) + 6)
