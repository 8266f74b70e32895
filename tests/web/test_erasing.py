"""Erasing over the wire: what was removed leaves the disk, what anything else needs stays, and what is known of it can be told."""

from unittest import mock
from uuid import UUID

import numpy as np
from sqlmodel import select

from ispettore.core.progress import no_progress
from ispettore.studio.catalogue import erasing, naming, recordings
from ispettore.studio.database import transaction
from ispettore.studio.operating import scrubbing
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import Work, WorkState
from tests import signals
from tests.covers import picture
from tests.web.test_beds import music
from tests.web.test_retakes import sounding
from tests.web.wire import RATE, WireCase

WAVE = signals.voice_like(8, rms_dbfs=-24, rate=RATE, room_dbfs=-70)


class ErasingCase(WireCase):
    def setUp(self):
        self.application.empty()
        for sha256 in self.stored():
            self.application.store.remove(sha256)
        type(self).production = self.make("podcast-mono")
        self.path = f"/productions/{self.production}"

    def conformed(self, recording: str) -> str:
        attempt = self.ask("POST", f"/recordings/{recording}/conform", 202, json={})["id"]
        self.work(attempt)
        return attempt

    def delivered(self) -> list[dict]:
        self.ask("POST", f"{self.path}/delivery/make", 202, json={})
        while waiting := self.waiting():
            self.work(waiting[0])
        return self.ask("GET", f"{self.path}/delivery")["rows"]

    def waiting(self) -> list[str]:
        with transaction() as session:
            return [str(one) for one in session.exec(select(Work.subject_id).where(Work.state == WorkState.WAITING)).all()]

    def retake(self, recording: str) -> None:
        """Two seconds of it are read again."""
        content = sounding(signals.voice_like(5, rms_dbfs=-30, rate=RATE, room_dbfs=-80, seed=9))
        where = f"/recordings/{recording}/takes"
        self.work(self.ask("PUT", where, 202, params={"name": "again.wav", "start_s": 2.0, "end_s": 4.0}, content=content)["id"])
        self.work(recording)

    def archived(self) -> str:
        made = self.ask("POST", f"{self.path}/archive", 202)["id"]
        self.work(made)
        return made

    def remove(self, *chosen: str) -> None:
        self.ask("POST", "/recordings/remove", 204, json={"recordings": list(chosen)})

    def erase(self, kind: str, one: str, status: int = 200) -> dict:
        return self.ask("POST", "/removed/erase", status, json={"items": [{"kind": kind, "id": one}]})

    def stored(self) -> dict[str, int]:
        return dict(self.application.store.listed())

    def heard(self, recording: str) -> np.ndarray:
        where = f"/recordings/{recording}/sound"
        return np.frombuffer(self.ask("GET", where, params={"start": 0, "frames": 1_000_000}), dtype="<f4")

    def told(self, topic: str = "decision") -> list[str]:
        return [one["text"] for one in self.ask("GET", f"{self.path}/record", params={"topic": topic})["deeds"]]

    def whole(self) -> None:
        """Every file that is needed is there, and none that is not."""
        found = scrubbing.check(self.application.store, no_progress)
        self.assertEqual((found.wrong, found.unnamed), ([], 0))
        with transaction() as session:
            self.assertEqual(naming.every(session), set(self.stored()))


class ErasingRecordings(ErasingCase):
    def test_all_its_files_leave_the_disk_and_what_is_known_of_it_stays(self):
        recording = self.send("01 Tide.wav", self.wav(WAVE))
        self.retake(recording)
        self.conformed(recording)
        [row] = self.delivered()
        certificate = self.ask("GET", f"/certificates/{row['certificate']}/sealed.json")
        made, before = self.told("file"), self.stored()
        self.whole()
        self.remove(recording)
        [listed] = self.ask("GET", "/removed")
        self.assertGreater(listed["size_bytes"], 0.6 * sum(before.values()), "pictures and copies apart, that is all there is")
        archive = self.archived()
        taken = self.erase("recording", recording)
        self.assertEqual((taken["items"], self.stored(), self.ask("GET", "/removed")), (1, {}, []))
        self.assertGreaterEqual(taken["size_bytes"], sum(before.values()))
        self.whole()
        self.ask("GET", f"/archives/{archive}/file", 404)
        self.assertEqual(self.ask("GET", f"{self.path}/disk")["parts"], [])
        # It can't come back, and what it was can be told and checked.
        said = self.ask("POST", "/recordings/restore", 410, json={"recordings": [recording]})["error"]
        self.assertEqual(said, "“01 Tide.wav” was erased and can't be restored. Bring its files in again, or import its archive.")
        self.assertIn("was erased", self.erase("recording", recording, 410)["error"])
        self.assertEqual(self.told()[:2], ["Erased, with every file made of it.", "Removed from the production."])
        self.assertLessEqual(set(made), set(self.told("file")))
        self.assertEqual(self.ask("GET", f"/certificates/{row['certificate']}/sealed.json"), certificate)
        self.assertIn("was erased", self.ask("GET", f"/deliverables/{row['deliverable']}/file", 410)["error"])
        again = {"reason": "The name", "by": "Ilse Weir"}
        self.assertIn("was erased", self.ask("POST", f"/certificates/{row['certificate']}/issue-again", 410, json=again)["error"])
        withdrawn = {"reason": "The sound is gone", "by": "Ilse Weir"}
        self.ask("POST", f"/certificates/{row['certificate']}/withdraw", 204, json=withdrawn)
        # What is left of the production is archived whole.
        self.archived()
        self.whole()

    def test_the_same_file_comes_in_again_and_is_measured_anew(self):
        content = self.wav(WAVE)
        recording = self.send("01 Tide.wav", content)
        self.remove(recording)
        self.erase("recording", recording)
        again = self.send("01 Tide.wav", content)
        self.assertNotEqual(again, recording)
        self.assertEqual(len(self.heard(again)), 8 * RATE)
        self.ask("GET", f"/recordings/{again}/tiles")
        self.whole()

    def test_what_anything_else_needs_stays(self):
        content = self.wav(WAVE)
        one, other = self.send("01 Tide.wav", content), self.send("02 The same.wav", content)
        kept, copy = self.conformed(one), self.conformed(other)
        file = self.ask("GET", f"/conformings/{copy}/file")
        self.remove(one)
        self.erase("recording", one)
        self.assertEqual(len(self.heard(other)), 8 * RATE)
        self.ask("GET", f"/recordings/{other}/tiles")
        self.assertEqual(self.ask("GET", f"/conformings/{copy}/file"), file)
        self.assertIn("cleared", self.ask("GET", f"/conformings/{kept}/file", 410)["error"])
        self.whole()

    def test_one_that_was_joined_to_another_is_still_heard_there(self):
        one, two = self.send("01 Tide.wav", self.wav(WAVE)), self.send("02 Ebb.wav", self.wav(0.9 * WAVE))
        self.retake(two)
        length = len(self.heard(two))
        self.ask("POST", f"/recordings/{one}/join", json={"follows": 0})
        self.work(one)
        before = self.heard(one)
        self.assertEqual(len(before), 8 * RATE + length)
        self.erase("recording", two)
        np.testing.assert_array_equal(self.heard(one), before)
        self.ask("GET", f"/recordings/{one}/tiles")
        self.whole()
        self.remove(one)
        self.erase("recording", one)
        self.assertEqual(self.stored(), {}, "what it was joined with goes with it")

    def test_those_whose_place_it_took_go_with_it(self):
        first = self.send("01 Tide.wav", self.wav(WAVE))
        with placing():
            blob = self.application.store.put([self.wav(0.8 * WAVE)], name="01 Tide.wav")
            newer = str(recordings.replace(UUID(first), "01 Tide.wav", blob))
        self.work(newer)
        self.remove(newer)
        self.erase("recording", newer)
        self.assertEqual(self.stored(), {})
        self.whole()

    def test_nothing_is_erased_that_was_not_removed_or_is_still_being_worked_on(self):
        recording = self.send("01 Tide.wav", self.wav(WAVE))
        self.assertIn("“01 Tide.wav” was restored meanwhile", self.erase("recording", recording, 409)["error"])
        self.assertIn("recording was not found", self.erase("recording", self.production, 404)["error"])
        self.ask("POST", "/removed/erase", 422, json={"items": []})
        self.ask("POST", f"/recordings/{recording}/inspect", 202)
        self.remove(recording)
        with transaction() as session:
            [work] = session.exec(select(Work).where(Work.state == WorkState.WAITING)).all()
            work.state = WorkState.RUNNING
            session.add(work)
        with mock.patch.object(erasing, "PATIENCE_S", 0.1):
            said = self.erase("recording", recording, 409)["error"]
        self.assertEqual(said, "“01 Tide.wav” is still being worked on. Wait until that is done, then try again.")
        with transaction() as session:
            running = session.get_one(Work, work.id)
            self.assertTrue(running.cancel_asked)
            running.state = WorkState.WAITING
            session.add(running)
        self.assertEqual(len(self.ask("GET", "/removed")), 1)
        self.erase("recording", recording)
        with transaction() as session:
            self.assertEqual(session.get_one(Work, work.id).state, WorkState.CANCELLED, "what waits is cancelled at once")
        self.assertEqual(self.stored(), {})


class ErasingProductions(ErasingCase):
    def setUp(self):
        super().setUp()
        self.recording = self.send("01 Tide.wav", self.wav(WAVE))
        where = f"{self.path}/bed-sounds"
        self.sound = self.ask("PUT", where, 202, params={"name": "Sluice.flac"}, content=music())["id"]
        self.work(self.sound)
        self.ask("PUT", f"{self.path}/delivery/cover", 204, params={"name": "mill.jpg"}, content=picture(600, 600))
        self.retake(self.recording)
        [self.row] = self.delivered()

    def gone(self) -> None:
        self.ask("POST", f"{self.path}/remove", 204)
        self.erase("production", self.production)

    def test_everything_in_it_goes_and_its_record_and_certificates_stay(self):
        made = self.told("file")
        self.gone()
        self.assertEqual((self.stored(), self.ask("GET", "/removed"), self.ask("GET", "/productions")), ({}, [], []))
        self.whole()
        sheet = self.ask("GET", f"{self.path}/sheet")
        self.assertEqual((sheet["removed"], sheet["erased"], sheet["entries"]), (True, True, []))
        self.assertIn("was erased", self.ask("POST", f"{self.path}/restore", 410)["error"])
        new = {"params": {"name": "02 Ebb.wav"}, "content": b"RIFF"}
        self.assertIn("was erased", self.ask("PUT", f"{self.path}/recordings", 410, **new)["error"])
        self.assertEqual(self.told()[:2], ["Production erased.", "Production removed."])
        self.assertLessEqual(set(made), set(self.told("file")))
        [certificate] = [one for one in self.certificates() if one["id"] == self.row["certificate"]]
        self.assertEqual(certificate["stands"], "stands")

    def certificates(self) -> list[dict]:
        return self.ask("GET", "/certificates", params={"production": self.production})["rows"]

    def test_its_archive_brings_it_back_as_it_was_and_what_was_withdrawn_since_stays_so(self):
        paths = (self.path, f"{self.path}/sheet", f"/recordings/{self.recording}", f"/recordings/{self.recording}/edits")
        heard, archive = self.heard(self.recording), self.ask("GET", f"/archives/{self.archived()}/file")
        both = {one["id"] for one in self.certificates()}
        self.assertEqual((len(both), self.ask("GET", f"{self.path}/sheet")["certified"]), (2, 1), "of the attempt, and delivered")
        for one in both:
            said = {"reason": "The wrong take", "by": "Ilse Weir"}
            self.ask("POST", f"/certificates/{one}/withdraw", 204, json=said)
        before = {path: self.ask("GET", path) for path in paths}
        self.assertEqual(before[f"{self.path}/sheet"]["certified"], 0)
        later = self.send("02 Ebb.wav", self.wav(0.5 * WAVE))
        self.ask("POST", f"/recordings/{self.recording}/edits/undo", json={"follows": 1})
        self.gone()
        self.assertEqual(self.stored(), {})
        came = self.ask("PUT", "/imports", 202, params={"name": "mill.zip"}, content=archive)["id"]
        self.work(came)
        [found] = self.ask("GET", "/imports")
        self.assertEqual((found["work"]["state"], found["outcome"]["before"]), ("done", False), found)
        for path, shown in before.items():
            with self.subTest(path=path):
                self.assertEqual(self.ask("GET", path), shown)
        np.testing.assert_array_equal(self.heard(self.recording), heard)
        self.ask("GET", f"/deliverables/{self.row['deliverable']}/file")
        self.assertEqual({one["id"]: one["stands"] for one in self.certificates()}, dict.fromkeys(both, "withdrawn"))
        self.assertEqual([row["certificate"] for row in self.ask("GET", f"{self.path}/delivery")["rows"]], [None])
        self.assertIn("was erased", self.ask("POST", "/recordings/restore", 410, json={"recordings": [later]})["error"])
        self.whole()

    def test_an_archive_does_not_put_back_what_was_erased_of_a_production_that_is_here(self):
        archive = self.ask("GET", f"/archives/{self.archived()}/file")
        self.remove(self.recording)
        self.erase("recording", self.recording)
        came = self.ask("PUT", "/imports", 202, params={"name": "mill.zip"}, content=archive)["id"]
        self.work(came)
        [found] = self.ask("GET", "/imports")
        self.assertEqual((found["outcome"]["before"], found["outcome"]["files"]), (True, 0))
        self.whole()
