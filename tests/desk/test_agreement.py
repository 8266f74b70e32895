"""Two meters that share no line of code, over the generated corpus: the desk's and ours agree, or one of them is wrong."""

import tempfile
import unittest
from pathlib import Path

import soundfile

from ispettore.core.audio.writing import OutputFormat, Sink
from ispettore.core.deliver import answers
from ispettore.core.measure.inspecting import inspect
from ispettore.desk.meter import measure
from tests import corpus, recordings


class Agreement(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def agree(self, name: str, path: Path) -> None:
        read = answers.beside(inspect(path).inspection, measure(path).readings)
        self.assertGreaterEqual(len(read), 5, "both read these at the least")
        for one in read:
            with self.subTest(recording=name, quantity=one.quantity):
                self.assertTrue(one.agree, answers.told(name, one))

    def test_over_the_whole_corpus(self):
        for name, make in corpus.some(list(recordings.recordings().items()), every=3):
            wave, rate = make()
            path = self.folder / "a.wav"
            soundfile.write(path, wave, rate, subtype="PCM_24")
            self.agree(name, path)

    def test_over_every_format_that_is_delivered(self):
        wave, rate = recordings.recordings()["stereo pair"]()
        for container in ("mp3", "flac", "ogg", "opus", "aiff", "wav"):
            form = OutputFormat(container=container)
            path = self.folder / f"a.{form.written.endings[0]}"
            with Sink(path, sample_rate_hz=form.rate_for(rate), channels=wave.shape[1], form=form) as sink:
                sink.write((0.5 * wave).astype("float32"))
            self.agree(container, path)

    def test_a_disagreement_is_a_finding_against_ourselves(self):
        wave, rate = recordings.recordings()["5 s"]()
        path = self.folder / "a.wav"
        soundfile.write(path, wave, rate, subtype="PCM_24")
        theirs = measure(path).readings
        theirs = {**theirs, "rms_dbfs": theirs["rms_dbfs"] + 0.5, "sample_peak_dbfs": None, "warmth_db": 3.0}
        read = {one.quantity: one for one in answers.beside(inspect(path).inspection, theirs)}
        self.assertEqual([name for name, one in read.items() if not one.agree], ["sample_peak_dbfs", "rms_dbfs"])
        self.assertNotIn("warmth_db", read)
        self.assertRegex(answers.told("a.wav", read["rms_dbfs"]), r"a\.wav: RMS level is −26\.\d dBFS here and −25\.\d dBFS there")
        self.assertIn("nothing there", answers.told("a.wav", read["sample_peak_dbfs"]))
