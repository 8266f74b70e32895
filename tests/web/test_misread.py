"""Words read again, over the wire: found, heard as they would be cut, cut out, left in, and carried over to a newer file."""

import re
from uuid import UUID

import numpy as np

from ispettore.core.audio.broadcast import Broadcast
from ispettore.core.audio.cues import Mark
from ispettore.core.audio.growing_wav import GrowingWav
from ispettore.core.edit.edits import FADE_S
from ispettore.studio.catalogue import recordings
from ispettore.studio.store.placing import placing
from tests import misread
from tests.web.wire import RATE, WireCase


class ReadAgain(WireCase):
    """One reading with mistakes in it, sent in for each test."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make("podcast-mono")
        cls.reading = misread.misread(misread.spoken_twice("reed", RATE), rate=RATE, seed=3, rounds=1)

    def setUp(self):
        self.recording = self.send("read.wav", self.wav(self.reading.wave))

    def of(self, method: str, path: str, status: int = 200, **named):
        return self.ask(method, f"/recordings/{self.recording}{path}", status, **named)

    def proposed(self) -> list[dict]:
        return self.of("GET", "")["inspection"]["repeats"]

    def cut(self, spans: list[dict], status: int = 200) -> dict:
        follows = self.of("GET", "/edits")["number"]
        spans = [{"start_s": one["start_s"], "end_s": one["end_s"]} for one in spans]
        return self.of("POST", "/edits", status, json={"wish": {"what": "misread", "spans": spans}, "follows": follows})

    def sound(self, path: str, **where) -> np.ndarray:
        return np.frombuffer(self.of("GET", path, params={"start": 0, "frames": 1_000_000, **where}), dtype="<f4")


class Misread(ReadAgain):
    def test_each_mark_is_a_finding_with_what_is_read_again(self):
        detail = self.of("GET", "")
        marks = [one for one in detail["findings"] if one["kind"] == "mark"]
        proposed = detail["inspection"]["repeats"]
        self.assertEqual([one["start_s"] for one in marks], [one["mark_s"] for one in proposed])
        self.assertEqual({one["title"] for one in marks}, {"Mark made in the read"})
        for one, (begun_s, again_s) in zip(proposed, self.reading.mistakes, strict=True):
            self.assertAlmostEqual(one["begun_s"], begun_s, delta=0.05)
            self.assertAlmostEqual(one["again_s"], again_s, delta=0.05)

    def test_it_is_heard_as_it_will_be_before_it_is_cut_and_all_go_at_once(self):
        proposed = self.proposed()
        first = proposed[0]
        foretold = self.sound("/cut-sound", start_s=first["start_s"], end_s=first["end_s"])
        view = self.cut(proposed)
        self.work(self.recording)
        heard = self.sound("/sound")
        # Up to the second cut there is no difference.
        second = round((proposed[1]["start_s"] - (first["end_s"] - first["start_s"]) - FADE_S) * RATE)
        np.testing.assert_array_equal(heard[:second], foretold[:second])
        self.assertEqual(len(view["edits"]), len(proposed))
        self.assertTrue(all(re.fullmatch(r"Misread words cut out, \S+ s", one["told"]) for one in view["edits"]), view)
        after = self.of("GET", "")
        self.assertEqual(after["inspection"]["repeats"], [])
        self.assertEqual([one for one in after["findings"] if one["kind"] == "mark"], [])
        # One step back brings them all.
        self.of("POST", "/edits/undo", json={"follows": view["number"]})
        self.assertEqual(self.proposed(), proposed)

    def test_what_is_left_in_stays_left_in_when_others_are_cut(self):
        proposed = self.proposed()
        mark = next(one for one in self.of("GET", "")["findings"] if one["start_s"] == proposed[-1]["mark_s"])
        place = {key: mark[key] for key in ("kind", "start_s", "end_s")}
        self.of("PUT", "/accepted", 204, json={"findings": [place], "reason": "Left in as read"})
        self.cut(proposed[:1])
        self.work(self.recording)
        [moved] = [one for one in self.of("GET", "")["findings"] if one["accepted"]]
        out = proposed[0]["end_s"] - proposed[0]["start_s"]
        self.assertAlmostEqual(moved["start_s"], mark["start_s"] - out, delta=0.006)

    def test_a_newer_file_of_the_same_reading_is_cut_as_well(self):
        proposed = self.proposed()
        view = self.cut(proposed)
        self.work(self.recording)
        older = self.recording
        later = np.concatenate((self.reading.wave[-RATE:], self.reading.wave)) * 0.8
        with placing():
            blob = self.application.store.put([self.wav(later)], name="newer.wav")
            self.recording = str(recordings.replace(UUID(older), "newer.wav", blob))
        self.work(self.recording)
        self.work(self.recording)
        carried = self.of("GET", "/edits")["edits"]
        self.assertEqual([one["told"] for one in carried], [one["told"] for one in view["edits"]])
        for one, other in zip(carried, view["edits"], strict=True):
            self.assertAlmostEqual(one["file_start_s"], other["file_start_s"] + 1, delta=0.006)

    def test_pauses_with_a_mark_in_them_keep_it(self):
        marks = len(self.proposed())
        wish = {"what": "pauses", "longest_s": 0.3, "shortest_s": None}
        self.of("POST", "/edits", json={"wish": wish, "follows": self.of("GET", "/edits")["number"]})
        self.work(self.recording)
        self.assertEqual(len(self.proposed()), marks)
        self.assertTrue(marks)

    def test_what_can_not_be_cut_is_told(self):
        for spans in ([{"start_s": 5.0, "end_s": 5.0}], [{"start_s": 0.0, "end_s": 1e6}]):
            self.assertIn("Nothing was changed.", self.cut(spans, 422)["error"])
        self.assertIn("error", self.of("GET", "/cut-sound", 422, params={"start": 0, "frames": 9, "start_s": 2, "end_s": 1}))
        self.cut([], 422)


class Keys(ReadAgain):
    """Marks that were set by a key while recording: they stand in the file and are not heard."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.reading = misread.misread(misread.spoken_twice("reed", RATE), rate=RATE, seed=3, rounds=1, with_marks=False)

    @classmethod
    def wav(cls, wave: np.ndarray) -> bytes:
        path = cls.application.folder / "keyed.wav"
        path.unlink(missing_ok=True)
        with GrowingWav.create(path, sample_rate_hz=RATE, channels=1, stated=Broadcast()) as wav:
            wav.append(wave.astype("<f4").tobytes())
            wav.finish([Mark(again_s - 0.15, "") for _, again_s in cls.reading.mistakes])
        return path.read_bytes()

    def test_what_is_read_again_near_each_is_proposed_and_the_mark_goes_with_it(self):
        detail = self.of("GET", "")
        marks = [one for one in detail["findings"] if one["kind"] == "mark-set"]
        self.assertEqual({one["title"] for one in marks}, {"Mark set in the file"})
        proposed = [one for one in self.proposed() if one["mark_s"] is not None]
        self.assertEqual([one["start_s"] for one in marks], [one["mark_s"] for one in proposed])
        for one, (begun_s, again_s) in zip(proposed, self.reading.mistakes, strict=True):
            self.assertAlmostEqual(one["begun_s"], begun_s, delta=0.05)
            self.assertAlmostEqual(one["again_s"], again_s, delta=0.05)
        gone_s = proposed[0]["end_s"] - proposed[0]["start_s"]
        self.cut(proposed[:1])
        self.work(self.recording)
        after = [one["start_s"] for one in self.of("GET", "")["findings"] if one["kind"] == "mark-set"]
        np.testing.assert_allclose(after, [one["start_s"] - gone_s for one in marks[1:]], atol=0.001)
