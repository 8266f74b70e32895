"""Listening over the wire: the sound of every sort of file, what was heard, and notes."""

import io
from unittest import mock
from uuid import uuid4

import numpy as np
import soundfile
from mutagen.wave import WAVE

from ispettore.core.certify.report import Beside
from ispettore.core.certify.report import write as printed
from tests.web.wire import RATE, WireCase


class Listening(WireCase):
    def setUp(self):
        type(self).production = self.make(name="Almanac")
        self.recording = self.send("01 January.wav", self.voice(-29))
        self.path = f"/listen/recording/{self.recording}"

    def delivered(self) -> tuple[str, str]:
        """The attempt and the deliverable of the recording."""
        attempt = self.ask("POST", f"/recordings/{self.recording}/conform", 202, json={})["id"]
        self.work(attempt)
        made = self.ask("POST", f"/productions/{self.production}/delivery/make", 202, json={})["asked"][0]
        self.work(made)
        return attempt, made

    def told(
        self, of: str, subject: str, *spans: tuple[float, float, float], sitting: str | None = None, who: str = "A. Reed"
    ) -> str:
        sitting = sitting or str(uuid4())
        heard = [{"start_s": start, "end_s": end, "speed": speed} for start, end, speed in spans]
        self.ask("POST", "/listenings", 204, json={"id": sitting, "of": of, "subject": subject, "who": who, "spans": heard})
        return sitting

    def test_every_sort_of_file_is_heard_as_it_decodes(self):
        attempt, deliverable = self.delivered()
        for of, subject, file in (
            ("recording", self.recording, None),
            ("attempt", attempt, f"/conformings/{attempt}/file"),
            ("deliverable", deliverable, f"/deliverables/{deliverable}/file"),
        ):
            content = self.ask("GET", f"/listen/{of}/{subject}/sound.wav")
            samples, rate = soundfile.read(io.BytesIO(content))
            source = self.voice(-29) if file is None else self.ask("GET", file)
            expected, _ = soundfile.read(io.BytesIO(source))
            with self.subTest(of=of):
                self.assertEqual((rate, len(samples)), (RATE, len(expected)))
                np.testing.assert_allclose(samples, expected, atol=0.6 / 32_768)
            part = self.client.get(f"/api/listen/{of}/{subject}/sound.wav", headers={"range": "bytes=1000-1999"})
            self.assertEqual((part.status_code, part.content), (206, content[1_000:2_000]))

    def test_the_process_that_serves_pages_takes_no_sound_apart_itself(self):
        attempt, deliverable = self.delivered()
        of = f"/recordings/{self.recording}"
        with (
            mock.patch.object(soundfile.SoundFile, "read", side_effect=AssertionError("read here")),
            mock.patch.object(soundfile.SoundFile, "seek", side_effect=AssertionError("read here")),
        ):
            for path in (
                f"{of}/sound?start=1000&frames=500",
                f"/conformings/{attempt}/sound?start=1000&frames=500",
                f"/listen/recording/{self.recording}/sound.wav",
                f"/listen/attempt/{attempt}/sound.wav",
                f"/listen/deliverable/{deliverable}/sound.wav",
                f"{of}/span?start_s=1&end_s=3",
                f"{of}/spectrogram.png?start_s=1&end_s=3&columns=100&rows=100",
                f"{of}/room-tone?start_s=0.2&end_s=0.8",
            ):
                with self.subTest(path=path):
                    self.assertGreater(len(self.ask("GET", path)), 0)
            self.ask("POST", f"{of}/sample", 201, json={"start_s": 0, "end_s": 6, "fade_in_s": 1, "fade_out_s": 1})

    def test_what_was_really_heard_stands_beside_the_certificate(self):
        _, deliverable = self.delivered()
        view = self.ask("GET", f"/listen/deliverable/{deliverable}")
        self.assertEqual((view["title"], view["share"], view["listenings"]), ("delivered file", 0, []))
        self.assertEqual(
            [choice["title"] for choice in view["choices"]], ["delivered file", "version 1", "recording as it came in"]
        )
        length = view["duration_s"]
        sitting = self.told("deliverable", deliverable, (0, 4, 1.0), (4, 5, 2.0))
        self.told("deliverable", deliverable, (4, 5, 2.0), (3, 4, 1.0), sitting=sitting)
        view = self.ask("GET", f"/listen/deliverable/{deliverable}")
        self.assertAlmostEqual(view["share"], 5 / length, places=3)
        self.assertEqual(view["covered"], [{"start_s": 0, "end_s": 5}])
        self.assertEqual((view["listenings"][0]["who"], view["listenings"][0]["fastest"]), ("A. Reed", 2))
        self.assertEqual(self.ask("GET", f"/listen/recording/{self.recording}")["share"], 0, "another file was not heard by it")
        row = self.ask("GET", f"/productions/{self.production}/delivery")["rows"][0]
        self.assertRegex(row["listened"], r"^\d\d % heard by A\. Reed at up to 2 times its speed$")
        self.told("deliverable", deliverable, (5, 99, 3.0), sitting=sitting)
        row = self.ask("GET", f"/productions/{self.production}/delivery")["rows"][0]
        self.assertEqual(row["listened"], "heard completely by A. Reed at up to 3 times its speed")
        self.assertEqual(self.ask("GET", f"/deliverables/{deliverable}/certificate.pdf")[:5], b"%PDF-")
        sealed = self.ask("GET", f"/deliverables/{deliverable}/certificate")
        with_it, without = io.BytesIO(), io.BytesIO()
        printed(sealed, None, with_it, beside=Beside(listened=row["listened"]))
        printed(sealed, None, without)
        self.assertNotEqual(with_it.getvalue(), without.getvalue())

    def test_the_certificate_of_a_version_is_printed_with_what_was_heard_of_it(self):
        attempt, _ = self.delivered()
        before = self.ask("GET", f"/conformings/{attempt}/certificate.pdf")
        self.assertEqual(self.ask("GET", f"/conformings/{attempt}/certificate.pdf"), before)
        self.told("attempt", attempt, (0, 99, 1.0))
        self.assertNotEqual(self.ask("GET", f"/conformings/{attempt}/certificate.pdf"), before)

    def test_a_sitting_is_of_one_file_and_of_what_can_be_heard(self):
        attempt, _ = self.delivered()
        sitting = self.told("recording", self.recording, (0, 1, 1.0))
        body = {"id": sitting, "of": "attempt", "subject": attempt, "who": "", "spans": []}
        self.ask("POST", "/listenings", 404, json=body)
        for wrong in ({"start_s": 0, "end_s": 1, "speed": 9}, {"start_s": -1, "end_s": 1, "speed": 1}):
            self.ask("POST", "/listenings", 422, json={**body, "id": str(uuid4()), "spans": [wrong]})
        self.ask("GET", f"/listen/deliverable/{uuid4()}", 404)
        self.ask("GET", f"/listen/recording/{uuid4()}", 404)

    def test_notes_are_made_ticked_off_taken_away_and_exported(self):
        made = self.ask(
            "POST", f"{self.path}/notes", 201, json={"at_s": 2.5, "kind": "misread", "text": "says wier", "who": "A. Reed"}
        )
        self.ask("POST", f"{self.path}/notes", 201, json={"at_s": 500, "kind": "noise"})
        notes = self.ask("GET", self.path)["notes"]
        self.assertEqual(
            [(note["at_s"], note["kind"], note["this"]) for note in notes], [(2.5, "misread", True), (10, "noise", True)]
        )
        self.ask("PATCH", f"/notes/{made['id']}", 204, json={"done": True, "text": "says “wier”"})
        [first, _] = self.ask("GET", self.path)["notes"]
        self.assertTrue(first["done_at"] and first["text"] == "says “wier”")
        table = self.ask("GET", f"{self.path}/notes.csv").decode("utf-8-sig")
        self.assertIn("01 January.wav,0:02.50,2.500,Misread,says “wier”,A. Reed,recording as it came in,20", table)
        self.assertIn("01 January.wav", self.ask("GET", f"/productions/{self.production}/notes.csv").decode("utf-8-sig"))
        self.assertIn("00:00:02.500 --> ", self.ask("GET", f"{self.path}/notes.vtt").decode())
        marked = self.ask("GET", f"{self.path}/sound.wav?marks=true")
        self.assertIn("Misread: says “wier”".encode(), marked)
        self.assertEqual(WAVE(io.BytesIO(marked)).info.length, 10)
        for removed, count in ((True, 1), (False, 2)):
            self.ask("PATCH", f"/notes/{made['id']}", 204, json={"removed": removed})
            self.assertEqual(len(self.ask("GET", self.path)["notes"]), count)
        _, deliverable = self.delivered()
        notes = self.ask("GET", f"/listen/deliverable/{deliverable}")["notes"]
        self.assertEqual([(note["this"], note["title"]) for note in notes], [(False, "recording as it came in")] * 2)
        self.ask("PATCH", f"/notes/{uuid4()}", 404, json={"done": True})
        self.ask("POST", f"{self.path}/notes", 422, json={"at_s": 1, "kind": "misread", "text": "a\u0000b"})

    def test_neighbours_are_the_same_sort_of_file(self):
        second = self.send("02 February.wav", self.voice(-27))
        view = self.ask("GET", self.path)
        self.assertEqual((view["before"], view["after"]["id"]), (None, second))
        self.assertEqual(self.ask("GET", f"/listen/recording/{second}")["before"]["name"], "01 January.wav")
