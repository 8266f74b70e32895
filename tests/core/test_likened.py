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


if __name__ == "__main__":
    unittest.main()
