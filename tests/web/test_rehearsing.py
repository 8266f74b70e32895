"""A draft heard and foretold over the wire: the core's own samples, the newest change first, and a process that may die."""

import os
import signal
import tempfile
import threading
import unittest
from pathlib import Path

import numpy as np
import soundfile
from fastapi.testclient import TestClient

from ispettore.core.audio.writing import read_span
from ispettore.core.measure.inspecting import inspect
from ispettore.core.treat import runner
from ispettore.core.treat.treatment import Step, Treatment
from ispettore.studio.catalogue import rehearsals
from ispettore.studio.worker.doing import do
from ispettore.web.app import build
from tests import signals
from tests.support import ApplicationCase, work_for

RATE = 44_100
STEPS = (
    {"kind": "noise-reduction", "settings": {"amount_db": 6}},
    {"kind": "compressor", "settings": {"threshold_dbfs": -30}},
    {"kind": "gain", "settings": {"gain_db": 7}},
    {"kind": "true-peak-limiter", "settings": {"ceiling_dbtp": -12}},
    {"kind": "head-and-tail", "settings": {"head_s": 0.9}},
)


class Rehearsing(ApplicationCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.client = cls.enterClassContext(TestClient(build(), base_url="http://127.0.0.1"))
        cls.path = cls.application.folder / "chapter.wav"
        soundfile.write(cls.path, signals.voice_like(12, rms_dbfs=-29, rate=RATE, room_dbfs=-60), RATE, subtype="PCM_24")
        made = cls.client.post("/api/productions", json={"name": "Almanac", "specification_id": "audiobook-retail"}).json()["id"]
        put = cls.client.put(f"/api/productions/{made}/recordings", params={"name": "c.wav"}, content=cls.path.read_bytes())
        cls.recording = put.json()["id"]
        do(work_for(cls.recording).id, cls.application.store)

    def draft(self, *steps: dict) -> int:
        view = self.client.get(f"/api/recordings/{self.recording}/draft").json()
        body = {"steps": list(steps), "follows": view["number"]}
        changed = self.client.put(f"/api/recordings/{self.recording}/draft", json=body)
        self.assertEqual(changed.status_code, 200, changed.text)
        self.view = changed.json()
        return self.view["number"]

    newest = 0

    def turn(self, by: int = 1) -> int:
        """Turns grow, whoever asks."""
        Rehearsing.newest += by
        return Rehearsing.newest

    def hear(self, number: int, at_s: float, length_s: float = 1.0, turn: int | None = None, **more):
        turn = self.turn() if turn is None else turn
        wanted = {"number": number, "turn": turn, "at_s": at_s, "length_s": length_s, **more}
        return self.client.get(f"/api/recordings/{self.recording}/draft/sound", params=wanted)

    def samples(self, answer) -> np.ndarray:
        self.assertEqual(answer.status_code, 200, answer.text)
        return np.frombuffer(answer.content, dtype="<f4").reshape(-1, int(answer.headers["x-channels"]))

    def written(self, *steps: dict) -> np.ndarray:
        with tempfile.TemporaryDirectory() as folder:
            run = runner.run(self.path, Treatment(steps=tuple(Step(**step) for step in steps)), folder=Path(folder))
            return read_span(run.path, 0, 10**7)

    def test_what_is_heard_is_what_will_be_written(self):
        number = self.draft(*STEPS)
        written = self.written(*STEPS)
        later = len(written) - soundfile.info(self.path).frames  # the head alone became longer, or shorter
        for at in (3.0, 7.25):
            heard = self.samples(self.hear(number, at))
            start = round(at * RATE) + later
            self.assertLess(float(np.abs(heard - written[start : start + len(heard)]).max()), 2e-6)
            self.assertEqual(len(heard), RATE)
        upto = self.samples(self.hear(number, 3.0, upto=self.view["steps"][1]["id"]))
        two = self.written(*STEPS[:2])
        self.assertLess(float(np.abs(upto - two[3 * RATE : 4 * RATE]).max()), 2e-6)

    def test_a_step_that_cannot_run_leaves_the_rest_to_be_heard(self):
        number = self.draft({"kind": "gain", "settings": {"gain_db": 6}}, {"kind": "harp"}, {"kind": "compressor"})
        heard = self.samples(self.hear(number, 2.0))
        plain = read_span(self.path, 2 * RATE, RATE)
        self.assertLess(float(np.abs(heard - plain * np.float32(10 ** (6 / 20))).max()), 2e-6)

    def test_what_is_expected_is_what_a_run_measures(self):
        number = self.draft(*STEPS)
        told = self.client.get(
            f"/api/recordings/{self.recording}/draft/foretold", params={"number": number, "turn": self.turn()}
        ).json()
        self.assertTrue(told["whole"])
        self.assertEqual([line["kind"] for line in told["lines"]], ["", *(step["kind"] for step in STEPS)])
        with tempfile.TemporaryDirectory() as folder:
            run = runner.run(self.path, Treatment(steps=tuple(Step(**step) for step in STEPS)), folder=Path(folder))
            measured = inspect(run.path).inspection
        for quantity, value in told["lines"][-1]["readings"].items():
            self.assertAlmostEqual(value, measured.value(quantity), delta=0.02, msg=quantity)
        bars = {bar["quantity"]: bar for bar in told["window"]["bars"]}
        self.assertAlmostEqual(bars["rms_dbfs"]["low_db"], 7 - 23 - measured.value("rms_dbfs"), delta=0.02)
        self.assertIsNone(bars["sample_peak_dbfs"]["high_db"])
        self.assertGreater(len(told["rms_dbfs"]), 100)
        deepest = min(float(part.min()) for part in run.reductions.values())
        self.assertLessEqual(min(told["moved_db"]), deepest + 0.01)

    def test_the_newest_change_wins(self):
        number = self.draft(STEPS[2])
        self.assertEqual(self.hear(number - 1, 2.0).status_code, 409)
        self.assertEqual(self.hear(number, 2.0, turn=self.turn(10)).status_code, 200)
        said = self.hear(number, 2.0, turn=self.newest - 1)
        self.assertEqual(
            (said.status_code, said.json()["error"]), (409, "A newer change of the treatment of “c.wav” is being worked on.")
        )

    def test_a_hundred_changes_in_a_row_do_not_queue_up(self):
        number = self.draft(*STEPS)
        self.hear(number, 2.0)
        answers: list[int] = []

        def ask(turn: int) -> None:
            answers.append(self.hear(number, 2.0, turn=turn).status_code)

        threads = [threading.Thread(target=ask, args=(turn,)) for turn in range(self.newest + 1, self.turn(100) + 1)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(len(answers), 100)
        self.assertEqual(set(answers), {200, 409})
        self.assertGreater(answers.count(409), 50)
        self.assertEqual(self.hear(number, 2.0).status_code, 200)

    def test_a_rehearsal_that_dies_is_said_and_begun_again(self):
        number = self.draft(STEPS[2])
        self.hear(number, 2.0)
        child = rehearsals.rehearsers().hearing._child
        os.kill(child.pid, signal.SIGSTOP)
        answers = []
        waiting = threading.Thread(target=lambda: answers.append(self.hear(number, 2.0)))
        waiting.start()
        os.kill(child.pid, signal.SIGKILL)
        waiting.join()
        self.assertIn(answers[0].status_code, (200, 422))
        self.assertEqual(self.hear(number, 2.0).status_code, 200)


if __name__ == "__main__":
    unittest.main()
