"""What writing does to a master: told of every format; and a limit that only the written file misses, corrected and said."""

import tempfile
import threading
import unittest
from functools import cache
from pathlib import Path
from unittest.mock import patch

import numpy as np

from ispettore.core.audio.formats import FORMAT_NAMES
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.errors import Cancelled
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan import encoding, kept
from ispettore.core.plan.conform import Conformed, conform
from ispettore.core.spec import catalogue
from ispettore.core.treat.treatment import Step, Treatment
from tests import signals, speakers

RATE = 44_100


@cache
def voice(name: str = "wren", seconds: float = 25) -> np.ndarray:
    laid = speakers.laid(name, rate=RATE, seconds=seconds)
    return laid.wave * 0.1 + speakers.room(len(laid.wave), rate=RATE, dbfs=-75)


class Encoding(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.source = signals.write(self.folder / "one.wav", voice(), RATE)

    def conformed(self, specification: str, form: OutputFormat, **how) -> Conformed:
        out = self.folder / f"out.{form.written.endings[0]}"
        return conform(self.source, catalogue.find(specification), out, form=form, **how)

    def moved(self, found: Conformed) -> dict[str, float]:
        effect = encoding.effect(found.master, found.after)
        self.assertEqual(effect.longer_by, 0)
        self.assertEqual([change.quantity for change in effect.changes], list(encoding.TOLD))
        return {change.quantity: change.after - change.before for change in effect.changes}

    def test_what_every_format_does_to_level_peak_noise_and_length(self):
        for container in FORMAT_NAMES:
            with self.subTest(container=container):
                moved = self.moved(self.conformed("podcast-mono", OutputFormat(container=container)))
                if container == "mp3":
                    self.assertAlmostEqual(moved["rms_dbfs"], -0.265, delta=0.02)
                    self.assertAlmostEqual(moved["noise_floor_dbfs"], -0.3, delta=0.1)
                elif container in ("wav", "flac", "aiff"):
                    for quantity, off in moved.items():
                        self.assertAlmostEqual(off, 0, delta=0.02, msg=quantity)
                else:
                    self.assertAlmostEqual(moved["rms_dbfs"], 0.02, delta=0.06)
                    self.assertLess(abs(moved["true_peak_dbtp"]), 1.5)

    def test_the_masters_noise_is_that_of_a_lossless_file_of_the_same_run(self):
        gain_db = -19.6 - inspect(self.source).inspection.value("integrated_loudness_lufs")
        ends = Step(kind="head-and-tail", settings={"head_s": 2, "tail_s": 3})
        steps = Treatment(steps=(Step(kind="gain", settings={"gain_db": gain_db}), ends))
        lossy = self.conformed("podcast-mono", OutputFormat(container="mp3"), treatment=steps)
        self.conformed("podcast-mono", OutputFormat(container="wav"), treatment=steps)
        self.assertTrue(lossy.passes, lossy.obstacles)
        master = lossy.master
        lossless = inspect(self.folder / "out.wav").inspection
        for quantity in encoding.TOLD:
            self.assertAlmostEqual(master.readings[quantity], lossless.value(quantity), delta=0.05, msg=quantity)
        self.assertEqual(master.frames, lossless.facts.frames)

    def test_without_a_step_the_master_is_the_recording_itself(self):
        self.source = signals.write(self.folder / "fits.wav", voice() * 10 ** (9 / 20), RATE)
        found = self.conformed("audiobook-retail", OutputFormat(container="mp3"))
        before = inspect(self.source).inspection
        if not found.ledger:
            self.assertEqual(found.master.frames, before.facts.frames)
            self.assertEqual(found.master.readings["rms_dbfs"], before.value("rms_dbfs"))
        self.assertTrue(found.passes)

    def test_a_limit_missed_only_after_encoding_is_corrected_and_said(self):
        found = self.conformed("video-streaming", OutputFormat(container="opus"))
        self.assertTrue(found.passes)
        self.assertGreater(found.rounds, 1)
        self.assertEqual(len(found.corrections), found.rounds - 1)
        self.assertRegex(
            found.corrections[0],
            r"^True peak was −0\.\d\d dBTP in the finished file, outside its limit; before encoding it was −1\.\d\d\. "
            r"It was planned and written again\.$",
        )
        again = kept.conformed(found.model_dump(mode="json"))
        self.assertEqual((again.corrections, again.master), (found.corrections, found.master))
        older = {name: part for name, part in found.model_dump(mode="json").items() if name not in ("corrections", "master")}
        self.assertEqual((kept.conformed(older).corrections, kept.conformed(older).master), ((), None))


class Cancelling(unittest.TestCase):
    def test_wherever_it_is_cancelled_it_ends_and_leaves_nothing(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        loud = voice(seconds=12) / np.std(voice(seconds=12)) * 10 ** (-22 / 20)
        noisy = loud + speakers.room(len(loud), rate=RATE, dbfs=-57, kind="white")
        source, out = signals.write(folder / "one.wav", noisy, RATE), folder / "out.mp3"
        threads, told = threading.active_count(), []

        def conformed(progress) -> Conformed:
            with tempfile.TemporaryDirectory() as made, patch.object(tempfile, "tempdir", made):
                try:
                    return conform(source, catalogue.find("audiobook-retail"), out, progress=progress)
                finally:
                    self.assertEqual(list(Path(made).iterdir()), [])

        self.assertTrue(conformed(lambda *now: told.append(now)).passes)
        out.unlink()
        stages = list(dict.fromkeys(stage for stage, _ in told))
        self.assertIn("Trying ways to clean the room", stages)
        self.assertIn("Measuring the result (round 1)", stages)
        self.assertGreater(max(done for stage, done in told if stage == "Trying ways to clean the room"), 0)
        # In each stage when it begins, in its middle and when it ends: passes that encode as they go are among them.
        for stage in stages:
            places = [place for place, (of, _) in enumerate(told) if of == stage]
            for at in {places[0], places[len(places) // 2], places[-1]}:
                with self.subTest(stage=stage, at=at):
                    left = iter(range(at))

                    def cancelling(_stage: str, _fraction: float, left=left) -> None:
                        if next(left, None) is None:
                            raise Cancelled()

                    with self.assertRaises(Cancelled):
                        conformed(cancelling)
                    self.assertEqual([path.name for path in folder.iterdir()], ["one.wav"])
                    self.assertEqual(threading.active_count(), threads)
