"""Work on single spots: clicks and clipped runs rebuilt where they were pointed at, and nothing else touched."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.audio.writing import read_span
from ispettore.core.treat import runner
from ispettore.core.treat.treatment import Step, Treatment
from tests import signals

RATE = 44_100
CLICKS = (2.1, 3.77, 5.0, 7.42, 9.999)


class Spots(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.clean = signals.voice_like(12, rms_dbfs=-24, rate=RATE, room_dbfs=-70).astype(np.float32)

    def treat(self, wave: np.ndarray, kind: str, **settings) -> tuple[np.ndarray, dict]:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "spots.wav"
            soundfile.write(path, wave, RATE, subtype="FLOAT")
            run = runner.run(path, Treatment(steps=(Step(kind=kind, settings=settings),)), folder=Path(folder))
            out = read_span(run.path, 0, 10**7)
        return (out[:, 0] if wave.ndim == 1 else out), run.ledger[0].learned

    def clicked(self, level: float = 0.5) -> np.ndarray:
        wave = self.clean.copy()
        for place, at in enumerate(CLICKS):
            first = round(at * RATE)
            wave[first : first + 3 + place] += level * np.array([1, -0.8, 0.5, -0.3, 0.2, -0.1, 0.05])[: 3 + place]
        return wave

    def error_db(self, out: np.ndarray, at: float) -> float:
        """The worst sample around a click against what it would be, beneath the voice's level, in dB."""
        first = round(at * RATE)
        around = slice(first - 50, first + 60)
        return 20 * float(np.log10(np.abs(out[around] - self.clean[around]).max() + 1e-9)) + 24

    def test_clicks_that_were_found_are_rebuilt(self):
        wave = self.clicked()
        out, learned = self.treat(wave, "click-repair")
        self.assertEqual(learned["repaired_clicks"], len(CLICKS))
        for at in CLICKS:
            with self.subTest(at=at):
                self.assertLess(self.error_db(out, at), self.error_db(wave, at) - 20)
        changed = np.flatnonzero(out != wave)
        near = np.abs(changed[:, None] / RATE - np.array(CLICKS)).min(axis=1)
        self.assertLess(float(near.max()), 0.004)
        self.assertLess(changed.size, 60 * len(CLICKS))

    def test_only_the_spots_that_were_chosen_are_looked_at(self):
        wave = self.clicked()
        out, learned = self.treat(wave, "click-repair", spans=[{"start_s": 3.7, "end_s": 3.85}])
        self.assertEqual(learned["repaired_clicks"], 1)
        self.assertLess(self.error_db(out, 3.77), -20)
        changed = np.flatnonzero(out != wave) / RATE
        self.assertTrue(((changed > 3.69) & (changed < 3.86)).all())

    def test_a_spot_without_a_click_stays_as_it_is(self):
        out, learned = self.treat(self.clean, "click-repair", spans=[{"start_s": 3.0, "end_s": 3.2}])
        self.assertLess(int((out != self.clean).sum()), 30)
        self.assertLessEqual(learned["repaired_clicks"], 1)

    def test_both_channels_are_mended_each_by_itself(self):
        wave = np.stack((self.clicked(), self.clean), axis=1)
        out, _ = self.treat(wave, "click-repair", spans=[{"start_s": at - 0.01, "end_s": at + 0.01} for at in CLICKS])
        self.assertLess(self.error_db(out[:, 0], 5.0), -20)
        self.assertLess(int((out[:, 1] != wave[:, 1]).sum()), 200)

    def test_clipped_runs_are_rebuilt_in_the_chosen_spots_only(self):
        loud = self.clean / np.abs(self.clean).max() * 1.6
        wave = np.clip(loud, -0.9, 0.9)
        clipped = np.flatnonzero(np.abs(wave) >= 0.9) / RATE
        middle = float(np.median(clipped))
        spans = [{"start_s": middle - 0.5, "end_s": middle + 0.5}]
        everywhere, _ = self.treat(wave, "clip-repair", threshold_dbfs=-1)
        here, _ = self.treat(wave, "clip-repair", threshold_dbfs=-1, spans=spans)
        changed = np.flatnonzero(here != wave) / RATE
        self.assertGreater(changed.size, 0)
        self.assertTrue(((changed > middle - 0.51) & (changed < middle + 0.51)).all())
        inside = slice(round((middle - 0.3) * RATE), round((middle + 0.3) * RATE))
        np.testing.assert_allclose(here[inside], everywhere[inside], atol=1e-6)
        self.assertGreater(np.flatnonzero(everywhere != wave).size, changed.size)


if __name__ == "__main__":
    unittest.main()
