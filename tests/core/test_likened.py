"""The ribbon that is expected of a long recording, against the ribbon of the run itself."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.measure import ribbon
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan import rehearsing
from ispettore.core.spec import catalogue
from ispettore.core.treat import runner
from ispettore.core.treat.rehearsal import Rehearsal
from ispettore.core.treat.treatment import Step, Treatment
from tests import speakers

RATE = 44_100
CHAINS = {
    "gain": (0.1, Step(kind="gain", settings={"gain_db": 7})),
    "spots": (0.1, Step(kind="spot-gain", settings={"spots": [{"start_s": 250.0, "end_s": 290.0, "gain_db": -6}]})),
    "compressor": (
        0.8,
        Step(kind="compressor", settings={"threshold_dbfs": -30, "ratio": 4}),
        Step(kind="gain", settings={"gain_db": 6}),
        Step(kind="true-peak-limiter", settings={"ceiling_dbtp": -9}),
    ),
    "compressor mixed": (
        0.8,
        Step(kind="compressor", settings={"threshold_dbfs": -34, "wet": 0.6, "make_up_db": 5, "detection": "rms"}),
    ),
    "cleaning": (
        1.6,
        Step(kind="rumble-filter", settings={}),
        Step(kind="noise-reduction", settings={"amount_db": 10}),
        Step(kind="expander", settings={"threshold_dbfs": -52}),
        Step(kind="gain", settings={"gain_db": 4}),
    ),
    "riding": (1.5, Step(kind="level-riding", settings={}), Step(kind="gain", settings={"gain_db": 4})),
}


class OfALongRecording(unittest.TestCase):
    """Six minutes whose middle is read 5 dB more softly, and whose last minute comes louder."""

    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.path = cls.folder / "long.wav"
        laid = speakers.laid("heron", rate=RATE, seconds=60)
        parts = [laid.wave * 10 ** (level_db / 20) for level_db in (0, -2, -5, -5, 1, 4)]
        wave = np.concatenate(parts)
        wave += speakers.room(wave.size, rate=RATE, dbfs=-62)
        soundfile.write(cls.path, wave, RATE, subtype="PCM_24")
        cls.measured = inspect(cls.path)
        cls.basis = cls.measured.basis

    def test_the_ribbon_is_near_what_a_run_brings(self):
        specification = catalogue.find("audiobook-retail")
        made = Rehearsal(self.path, self.measured.inspection, name="long.wav", folder=self.folder)
        self.addCleanup(made.let_go)
        self.assertFalse(made.whole)
        for name, (within, *steps) in CHAINS.items():
            with self.subTest(chain=name), tempfile.TemporaryDirectory() as folder:
                told = rehearsing.foretold(made, self.basis, steps, specification)
                run = runner.run(self.path, Treatment(steps=tuple(steps)), folder=Path(folder))
                written = ribbon.of(inspect(run.path), columns=len(told.peak_dbfs))
                self.assertGreater(len(told.peak_dbfs), 700)
                self.assertEqual(len(told.peak_dbfs), len(written.peak_dbfs))
                [length] = [limit.reading for limit in told.lines[-1].limits if limit.quantity == "duration_s"]
                self.assertAlmostEqual(length, self.measured.inspection.facts.duration_s, places=3)
                for edge, of in ((told.peak_dbfs, written.peak_dbfs), (told.rms_dbfs, written.rms_dbfs)):
                    self.assertLess(np.percentile(np.abs(np.array(edge) - of), 90), within)
                moved = run.reduction_db
                if moved.size and moved.min() < -0.1:
                    deepest = [part.min() for part in np.array_split(moved, len(told.moved_db))]
                    away = np.abs(np.array(told.moved_db) - deepest)
                    self.assertLess(np.median(away), within / 2)
                    self.assertLess(np.percentile(away, 90), 2.2 * within)
                else:
                    self.assertEqual(told.moved_db, ())

    def test_what_works_at_its_ends_is_expected_and_pictured(self):
        made = Rehearsal(self.path, self.measured.inspection, name="long.wav", folder=self.folder)
        self.addCleanup(made.let_go)
        spots = {"spots": [{"start_s": 50.0, "end_s": 80.0, "gain_db": -40}]}
        steps = (
            Step(kind="spot-gain", settings=spots),
            Step(kind="head-and-tail", settings={"head_s": 0.6, "tail_s": 2.0}),
            Step(kind="gain", settings={"gain_db": 3}),
        )
        told = rehearsing.foretold(made, self.basis, steps, catalogue.find("audiobook-retail"))
        with tempfile.TemporaryDirectory() as folder:
            run = inspect(runner.run(self.path, Treatment(steps=steps), folder=Path(folder)).path).inspection
        before, _, ended, last = ({limit.quantity: limit.reading for limit in line.limits} for line in told.lines)
        for line in (ended, last):
            self.assertAlmostEqual(line["head_s"], run.value("head_s"), delta=0.02)
            self.assertAlmostEqual(line["tail_s"], run.value("tail_s"), delta=0.02)
            self.assertAlmostEqual(line["duration_s"], run.facts.duration_s, delta=0.001)
        self.assertAlmostEqual(before["tail_s"], self.measured.inspection.value("tail_s"))
        head, tail = rehearsing.pictured(made, self.basis, steps[:2])
        for picture, name, to in ((head, "head", 0.6), (tail, "tail", 2.0)):
            lasted = self.measured.inspection.value(f"{name}_s")
            self.assertEqual(picture.said, f"The {name} is {lasted:.2f} s long and becomes {to:.2f} s.")
            self.assertEqual([(line.of, len(line.x) > 100) for line in picture.lines], [("before", True), ("after", True)])
            # A spot in the middle of the recording is not heard at its ends.
            self.assertGreater(max(picture.lines[1].y), -30)


if __name__ == "__main__":
    unittest.main()
