"""Chapter marks over the wire: set, moved, named, taken away; through edits, splits and newer files; head and tail with them."""

from uuid import UUID

import numpy as np
from sqlmodel import delete

from ispettore.studio.catalogue import chapters, recordings
from ispettore.studio.database import transaction
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import InspectionRecord
from tests import signals
from tests.web.wire import RATE, WireCase

LENGTH_S = 12


class Chapters(WireCase):
    def setUp(self):
        type(self).production = self.make("podcast-mono", name=self._testMethodName)
        self.wave = np.concatenate(
            [
                np.asarray(signals.voice_like(LENGTH_S / 2, rms_dbfs=-24, rate=RATE, room_dbfs=-70, seed=seed)).reshape(-1)
                for seed in (1, 2)
            ]
        )
        self.recording = self.send("book.wav", self.wav(self.wave))
        self.follows = 0

    def of(self, method: str, path: str, status: int = 200, *, recording: str = "", **named):
        return self.ask(method, f"/recordings/{recording or self.recording}{path}", status, **named)

    def mark(self, at_s: float, title: str = "") -> str:
        return self.of("POST", "/chapters", 201, json={"at_s": at_s, "title": title})["id"]

    def marks(self, recording: str = "") -> list[tuple[float, str]]:
        return [(round(one["at_s"], 3), one["title"]) for one in self.of("GET", "/chapters", recording=recording)]

    def edit(self, status: int = 200, **wish) -> dict:
        answer = self.of("POST", "/edits", status, json={"wish": wish, "follows": self.follows})
        if status == 200:
            self.follows = answer["number"]
            self.work(self.recording)
        return answer

    def readings(self) -> dict[str, float]:
        found = self.of("GET", "")["inspection"]["readings"]
        return {name: found[name]["value"] for name in ("head_s", "tail_s")}

    def record(self) -> str:
        return str(self.ask("GET", f"/productions/{self.production}/record"))

    def sheet(self) -> list[str]:
        return [one["name"] for one in self.ask("GET", f"/productions/{self.production}/sheet")["entries"]]

    def test_marks_are_set_moved_named_and_taken_away(self):
        late, early = self.mark(8.0, "  Harvest "), self.mark(1.5)
        self.assertEqual(self.marks(), [(1.5, ""), (8.0, "Harvest")])
        self.ask("PATCH", f"/chapters/{early}", 204, json={"title": "Sowing"})
        self.ask("PATCH", f"/chapters/{late}", 204, json={"at_s": 7.25})
        self.assertEqual(self.marks(), [(1.5, "Sowing"), (7.25, "Harvest")])
        self.ask("DELETE", f"/chapters/{early}", 204)
        self.assertEqual(self.marks(), [(7.25, "Harvest")])
        told = self.record()
        for said in (
            "Chapter mark “Harvest” set at 0:08.0.",
            "Chapter mark “Sowing” renamed.",
            "Chapter mark “Harvest” moved to 0:07.3.",
            "Chapter mark “Sowing” removed.",
        ):
            self.assertIn(said, told)

    def test_what_can_not_be_marked_is_refused_in_words(self):
        beyond = self.of("POST", "/chapters", 422, json={"at_s": LENGTH_S})["error"]
        self.assertIn("“book.wav” is 0:12.0 long; a chapter mark has to stand before its end.", beyond)
        self.assertIn("a null character", self.of("POST", "/chapters", 422, json={"at_s": 1, "title": "a\0b"})["error"])
        for wrong in ({"at_s": -1}, {"at_s": "NaN"}, {"title": "x"}, {"at_s": 1, "title": "x" * 121}):
            self.of("POST", "/chapters", 422, json=wrong)
        there = self.mark(1.0)
        self.ask("PATCH", f"/chapters/{there}", 422, json={"at_s": 50})
        self.ask("DELETE", f"/chapters/{there}", 204)
        self.assertIn("chapter mark", self.ask("PATCH", f"/chapters/{there}", 404, json={"title": "x"})["error"])
        self.ask("DELETE", f"/chapters/{there}", 404)
        was, chapters.MOST = chapters.MOST, 2
        try:
            self.mark(1.0)
            self.mark(2.0)
            self.assertIn("has 2 chapter marks", self.of("POST", "/chapters", 422, json={"at_s": 3})["error"])
        finally:
            chapters.MOST = was
        self.assertEqual(len(self.marks()), 2)

    def test_they_follow_through_edits_and_come_back(self):
        self.mark(2.0, "A")
        self.mark(5.0, "B")
        self.edit(what="cut", start_s=1.0, end_s=1.5)
        self.assertEqual(self.marks(), [(1.5, "A"), (4.5, "B")])
        self.edit(what="put-in", at_s=3.0, length_s=2.0)
        self.assertEqual(self.marks(), [(1.5, "A"), (6.5, "B")])
        self.mark(10.0, "C")  # as it is heard now
        self.edit(what="cut", start_s=6.0, end_s=7.0)
        self.assertEqual(self.marks(), [(1.5, "A"), (6.0, "B"), (9.0, "C")])
        self.of("POST", "/edits/undo", json={"follows": self.follows})
        self.of("POST", "/edits/undo", json={"follows": self.follows - 1})
        self.of("POST", "/edits/undo", json={"follows": self.follows - 2})
        self.assertEqual(self.marks(), [(2.0, "A"), (5.0, "B"), (8.5, "C")])

    def test_a_recording_is_split_at_several_marks_and_each_part_is_heard_by_itself(self):
        for at_s, title in ((0.0, "Opening"), (3.0, "Sowing"), (6.0, "Hay/Harvest"), (9.5, "")):
            self.mark(at_s, title)
        for at_s, text in ((1.0, "one"), (5.0, "two"), (7.0, "three"), (11.0, "four")):
            note = {"at_s": at_s, "kind": "other", "text": text}
            self.ask("POST", f"/listen/recording/{self.recording}/notes", 201, json=note)
        at = [{"at_s": at_s, "title": title} for at_s, title in self.marks()[1:]]
        parts = [one["id"] for one in self.of("POST", "/split", 201, json={"at": at[::-1], "follows": 0})]
        for recording in (self.recording, *parts):
            self.work(recording)
        self.assertEqual(self.sheet(), ["book.wav", "Sowing.wav", "Hay-Harvest.wav", "book, part 2.wav"])
        times = [0.0, 3.0, 6.0, 9.5, LENGTH_S]
        for recording, start, end in zip((self.recording, *parts), times, times[1:], strict=False):
            answer = self.of("GET", "/sound", recording=recording, params={"start": 0, "frames": 1_000_000})
            wanted = self.wave[round(start * RATE) : round(end * RATE)]
            np.testing.assert_allclose(np.frombuffer(answer, dtype="<f4"), wanted, atol=2**-22)
        notes = [[note["text"] for note in self.of("GET", "/notes", recording=each)] for each in (self.recording, *parts)]
        self.assertEqual(notes, [["one"], ["two"], ["three"], ["four"]])
        marks = [self.marks(each) for each in (self.recording, *parts)]
        self.assertEqual(marks, [[(0.0, "Opening")], [(0.0, "Sowing")], [(0.0, "Hay/Harvest")], [(0.0, "")]])
        # Undone, the first is whole again with all its marks.
        self.of("POST", "/edits/undo", json={"follows": 1})
        self.assertEqual([at_s for at_s, _ in self.marks()], times[:-1])

    def test_a_split_that_would_leave_nothing_of_a_part_splits_nothing(self):
        for places in ([3.0, 3.2], [0.0, 5.0], [5.0, LENGTH_S], []):
            at = [{"at_s": at_s} for at_s in places]
            self.assertTrue(self.of("POST", "/split", 422, json={"at": at, "follows": 0})["error"])
        self.assertEqual((self.sheet(), self.of("GET", "/edits")["number"]), (["book.wav"], 0))

    def test_head_and_tail_are_set_and_measured(self):
        before = self.readings()
        view = self.edit(what="ends", head_s=before["head_s"] + 0.5, tail_s=before["tail_s"] / 2)
        self.assertEqual(len(view["edits"]), 2)
        after = self.readings()
        self.assertAlmostEqual(after["head_s"], before["head_s"] + 0.5, delta=0.011)
        self.assertAlmostEqual(after["tail_s"], before["tail_s"] / 2, delta=0.011)
        self.assertIn("like that already", self.edit(409, what="ends", head_s=after["head_s"])["error"])
        said = self.edit(409, what="ends")["error"]
        self.assertIn("like that already", said)
        self.edit(422, what="ends", head_s=61)

    def test_where_nobody_speaks_there_is_no_head(self):
        self.recording = self.send("hush.wav", self.wav(signals.noise(4, rms_dbfs=-70, rate=RATE)))
        said = self.edit(422, what="ends", head_s=1.0)["error"]
        self.assertEqual(said, "Nobody speaks in “hush.wav”, so it has neither head nor tail. Nothing was changed.")

    def test_a_newer_file_gets_the_marks_of_the_older_where_it_says_the_same(self):
        for at_s, title in ((0.0, "A"), (4.0, "B"), (9.0, "C")):
            self.mark(at_s, title)
        room = signals.noise(1, rms_dbfs=-70, rate=RATE).reshape(-1)
        newer = np.concatenate((room, self.wave[: 8 * RATE] * 0.5, signals.noise(4, rms_dbfs=-40, rate=RATE).reshape(-1)))
        with placing():
            blob = self.application.store.put([self.wav(newer)], name="book.wav")
            newest = str(recordings.replace(UUID(self.recording), "book.wav", blob))
        self.work(newest)
        found = self.marks(newest)
        self.assertEqual([title for _, title in found], ["A", "B"])
        np.testing.assert_allclose([at_s for at_s, _ in found], [1.0, 5.0], atol=0.006)
        self.assertIn("Chapter marks carried over from the older file: 2 of 3.", self.record())
        # Taken away, they stay away however often it is measured.
        for one in self.of("GET", "/chapters", recording=newest):
            self.ask("DELETE", f"/chapters/{one['id']}", 204)
        known_as = self.of("GET", "", recording=newest)["known_as"]
        with transaction() as session:
            session.execute(delete(InspectionRecord).where(InspectionRecord.sha256 == known_as))
        self.of("POST", "/inspect", 202, recording=newest)
        self.work(newest)
        self.assertEqual(self.marks(newest), [])
