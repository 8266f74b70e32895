"""Recordings split and joined, as edits: what is heard of each, what goes with which part, and the way back."""

import numpy as np

from tests import signals
from tests.web.wire import RATE, WireCase


class Parting(WireCase):
    def setUp(self):
        type(self).production = self.make("podcast-mono", name=self._testMethodName)
        waves = [signals.voice_like(8, rms_dbfs=-24, rate=RATE, room_dbfs=-70, seed=seed) for seed in (1, 2)]
        self.waves = [np.asarray(wave).reshape(-1) for wave in waves]
        self.ids = [self.send(f"0{number} voice.wav", self.wav(wave)) for number, wave in enumerate(waves, 1)]

    def of(self, recording: str, method: str, path: str, status: int = 200, **named):
        return self.ask(method, f"/recordings/{recording}{path}", status, **named)

    def sheet(self) -> list[str]:
        return [one["name"] for one in self.ask("GET", f"/productions/{self.production}/sheet")["entries"]]

    def heard(self, recording: str) -> np.ndarray:
        return np.frombuffer(self.of(recording, "GET", "/sound", params={"start": 0, "frames": 1_000_000}), dtype="<f4")

    def test_a_recording_is_split_and_each_part_is_heard_by_itself(self):
        one = self.ids[0]
        self.of(
            one, "PUT", "/accepted", 204, json={"findings": [{"kind": "click", "start_s": 6, "end_s": 6.1}], "reason": "a page"}
        )
        for at_s, text in ((1.0, "early"), (6.0, "late")):
            note = {"at_s": at_s, "kind": "other", "text": text}
            self.ask("POST", f"/listen/recording/{one}/notes", 201, json=note)
        rest = self.of(one, "POST", "/split", 201, json={"at": [{"at_s": 5.0}], "follows": 0})[0]["id"]
        for recording in (one, rest):
            self.work(recording)
        self.assertEqual(self.sheet(), ["01 voice.wav", "01 voice, part 2.wav", "02 voice.wav"])
        np.testing.assert_allclose(self.heard(one), self.waves[0][: 5 * RATE], atol=2**-22)
        np.testing.assert_allclose(self.heard(rest), self.waves[0][5 * RATE :], atol=2**-22)
        self.assertIsNone(self.of(rest, "GET", "")["same_as"])
        notes = [[note["text"] for note in self.of(recording, "GET", "/notes")] for recording in (one, rest)]
        self.assertEqual(notes, [["early"], ["late"]])
        self.assertEqual([round(note["at_s"], 3) for note in self.of(rest, "GET", "/notes")], [1.0])
        # Back again: the first is whole, and the other goes.
        self.of(one, "POST", "/edits/undo", json={"follows": 1})
        self.ask("POST", "/recordings/remove", 204, json={"recordings": [rest]})
        self.assertEqual((self.sheet(), len(self.heard(one))), (["01 voice.wav", "02 voice.wav"], 8 * RATE))

    def test_a_split_is_refused_where_a_part_would_hold_nothing(self):
        for at_s in (0.0, 0.1, 7.9, 8.0, 99.0):
            with self.subTest(at_s=at_s):
                asked = {"at": [{"at_s": at_s}], "follows": 0}
                self.assertTrue(self.of(self.ids[0], "POST", "/split", 422, json=asked)["error"])
        stale = {"at": [{"at_s": 4}], "follows": 3}
        self.assertIn("another window", self.of(self.ids[0], "POST", "/split", 409, json=stale)["error"])
        self.assertEqual(len(self.sheet()), 2)

    def test_two_are_joined_with_the_edits_of_both_and_parted_again(self):
        one, two = self.ids
        self.of(two, "POST", "/edits", json={"wish": {"what": "cut", "start_s": 2.0, "end_s": 3.0}, "follows": 0})
        self.work(two)
        self.assertEqual(self.of(one, "GET", "/edits")["next"], "02 voice.wav")
        second = self.heard(two)
        view = self.of(one, "POST", "/join", json={"follows": 0})
        self.work(one)
        [edit] = view["edits"]
        self.assertEqual((edit["told"], edit["take"]["name"]), ("Joined with 7 s of another recording", "02 voice.wav"))
        self.assertEqual((self.sheet(), view["length_s"], view["next"]), (["01 voice.wav"], 15, ""))
        heard, half = self.heard(one), round(0.01 * RATE)
        np.testing.assert_allclose(heard[: 8 * RATE - half], self.waves[0][: 8 * RATE - half], atol=2**-22)
        np.testing.assert_allclose(heard[8 * RATE + half :], second[half:], atol=2**-20)
        said = self.of(one, "POST", "/join", 409, json={"follows": 1})["error"]
        self.assertIn("the last recording of its production", said)
        self.of(one, "POST", "/edits/undo", json={"follows": 1})
        self.ask("POST", "/recordings/restore", 204, json={"recordings": [two]})
        self.assertEqual((self.sheet(), len(self.heard(one))), (["01 voice.wav", "02 voice.wav"], 8 * RATE))

    def test_what_does_not_fit_is_not_joined(self):
        stereo = np.repeat(self.waves[1].reshape(-1, 1), 2, axis=1)
        self.send("03 wide.wav", self.wav(stereo))
        self.assertIn("sample rates or channels differ", self.of(self.ids[1], "POST", "/join", 409, json={"follows": 0})["error"])
        self.assertEqual(len(self.sheet()), 3)
