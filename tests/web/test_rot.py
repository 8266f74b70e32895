"""Files that rot or vanish in the store: noticed before they are played, delivered or certified, named, and in nobody's way."""

import os
from unittest import mock
from uuid import UUID

from sqlmodel import select

from ispettore.commands import checking_store
from ispettore.core.progress import no_progress
from ispettore.studio.database import transaction
from ispettore.studio.jobs import isolation
from ispettore.studio.operating import scrubbing, standing
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import BedSound, Conforming, InspectionRecord, Recording, TakeRecord
from tests.support import work_for
from tests.web.wire import RATE, WireCase


class Rot(WireCase):
    def setUp(self):
        type(self).production = self.make("podcast-mono", "Harbour")
        self.path = f"/productions/{self.production}"
        self.sounds = {name: self.voice(level) for name, level in (("01 Ebb.wav", -27), ("02 Flood.wav", -25.5))}
        self.ebb, self.flood = (self.send(name, content) for name, content in self.sounds.items())
        self.addCleanup(self.application.empty)

    def rot(self, sha256: str, at: int = 600_000) -> None:
        """One bit of it turns, as on a disk: no date tells."""
        path = self.application.store.local(sha256)
        before = path.stat()
        content = bytearray(path.read_bytes())
        content[min(at, len(content) // 2)] ^= 4
        path.write_bytes(content)
        os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns))

    def sha256(self, recording: str) -> str:
        return self.ask("GET", f"/recordings/{recording}")["sha256"]

    def said(self, method: str, path: str, status: int = 410, **named) -> str:
        return self.ask(method, path, status, **named)["error"]

    def worked(self, subject: str) -> tuple[str, str]:
        self.work(subject)
        found = work_for(UUID(subject))
        return found.state, found.error or ""

    def conformed(self, recording: str) -> str:
        made = self.ask("POST", f"/recordings/{recording}/conform", 202, json={})["id"]
        self.assertEqual(self.worked(made), ("done", ""))
        return made

    def test_a_damaged_recording_is_not_played_planned_or_conformed_and_the_others_are(self):
        self.rot(self.sha256(self.ebb))
        part = {"start": 4 * RATE, "frames": RATE}  # 24 bit, one channel: the bit lies at 4.5 s
        self.assertIn("“01 Ebb.wav” is damaged", self.said("GET", f"/recordings/{self.ebb}/sound", params=part))
        self.ask("GET", f"/recordings/{self.ebb}/sound", params={"start": 8 * RATE, "frames": RATE})  # a part that is whole
        whole = f"/listen/recording/{self.ebb}/sound.wav"
        size = int(self.client.get(f"/api{whole}", headers={"range": "bytes=0-9"}).headers["content-range"].rpartition("/")[2])
        self.assertIn(
            "“01 Ebb.wav” is damaged", self.said("GET", whole, headers={"range": f"bytes={size * 44 // 100}-{size * 47 // 100}"})
        )
        for kind in ("conform", "plans"):
            asked = self.ask("POST", f"/recordings/{self.ebb}/{kind}", 202, json={})["id"]
            state, error = self.worked(asked)
            self.assertEqual(state, "failed")
            self.assertIn("“01 Ebb.wav” is damaged: its bytes no longer match its SHA-256.", error)
        self.conformed(self.flood)
        self.ask("GET", f"/recordings/{self.flood}/sound", params=part)
        self.send("01 Ebb again.wav", self.sounds["01 Ebb.wav"], measured=False)
        self.ask("GET", f"/recordings/{self.ebb}/sound", params=part)
        self.conformed(self.ebb)

    def test_what_rots_or_vanishes_while_it_is_worked_on_comes_to_nothing(self):
        computed = isolation.run
        sha256 = self.sha256(self.ebb)
        path = self.application.store.local(sha256)
        content = path.read_bytes()
        for happens in (lambda: self.rot(sha256), lambda: self.rot(sha256, at=len(content) - 1), path.unlink):

            def run(*asked, happens=happens, **named):
                found = computed(*asked, **named)
                happens()
                return found

            made = self.ask("POST", f"/recordings/{self.ebb}/conform", 202, json={})["id"]
            with mock.patch.object(isolation, "run", run):
                state, error = self.worked(made)
            self.assertEqual((state, "“01 Ebb.wav” is damaged" in error), ("failed", True), error)
            self.assertEqual(self.ask("GET", "/certificates")["total"], 0)
            path.write_bytes(content)
        self.conformed(self.ebb)
        self.assertEqual(self.ask("GET", "/certificates")["total"], 1)

    def test_a_damaged_file_is_not_delivered_certified_again_or_certified_as_a_whole(self):
        made = [self.conformed(one) for one in (self.ebb, self.flood)]
        for asked in self.ask("POST", f"{self.path}/delivery/make", 202, json={})["asked"]:
            self.work(asked)
        rows = self.ask("GET", f"{self.path}/delivery")["rows"]
        self.assertEqual([row["state"] for row in rows], ["made", "made"])
        [certificate] = [one for one in self.ask("GET", "/certificates")["rows"] if one["name"] == rows[0]["file_name"]][:1]
        self.rot(rows[0]["sha256"])
        name = f"“{rows[0]['file_name']}” is damaged"
        self.assertIn(name, self.said("POST", f"{self.path}/certificate", json={}))
        self.assertIn(name, self.said("POST", f"/certificates/{certificate['id']}/issue-again", json={"reason": "x"}))
        self.assertIn("is damaged", self.said("GET", f"/deliverables/{rows[0]['deliverable']}/file"))
        self.assertEqual(self.client.get(f"/api/deliverables/{rows[1]['deliverable']}/file").status_code, 200)
        self.assertEqual(self.client.get(f"/api/conformings/{made[1]}/file").status_code, 200)

    def test_a_picture_that_is_lost_or_damaged_is_drawn_once_more(self):
        with transaction() as session:
            recording = session.get_one(Recording, UUID(self.ebb))
            record = session.exec(select(InspectionRecord).where(InspectionRecord.sha256 == recording.sha256)).one()
        tile = f"/recordings/{self.ebb}/tiles/0/0"
        shown = self.client.get(f"/api{tile}").content
        for spoil in (lambda one: self.rot(one, 1 << 30), lambda one: self.application.store.local(one).unlink()):
            for kept, path in (
                (record.pyramid_sha256, tile),
                (record.levels_sha256, f"/recordings/{self.ebb}/span?start_s=1&end_s=3"),
            ):
                spoil(kept)
                with self.subTest(path=path):
                    self.assertIn("“01 Ebb.wav” is measured once more", self.said("GET", path, 409))
                    self.assertEqual(self.worked(self.ebb), ("done", ""))
                    self.ask("GET", path)
        self.assertEqual(self.client.get(f"/api{tile}").content, shown)

    def test_the_whole_store_is_checked_and_each_wrong_file_named(self):
        store, told = self.application.store, []
        scrubbing.check(store, no_progress, tidy=True)  # what other tests left
        found = scrubbing.check(store, lambda stage, fraction: told.append((stage, fraction)))
        self.assertEqual((found.wrong, found.unnamed), ([], 0))
        self.assertEqual(told[0], (f"file 1 of {found.files}", 0.0))
        self.assertEqual([fraction for _, fraction in told], sorted(fraction for _, fraction in told))
        made = self.conformed(self.flood)
        with transaction() as session:
            recording = session.get_one(Recording, UUID(self.ebb))
            record = session.exec(select(InspectionRecord).where(InspectionRecord.sha256 == recording.sha256)).one()
        self.rot(self.sha256(self.ebb))
        store.remove(self.made_file(made))
        self.rot(record.pyramid_sha256)
        stray = store.put([b"named by nothing"], name="stray")
        found = scrubbing.check(store, no_progress)
        self.assertEqual(
            {(wrong.what, *wrong.of, wrong.mended) for wrong in found.wrong},
            {
                ("damaged", "“01 Ebb.wav” of Harbour", False),
                ("damaged", "the picture and levels of “01 Ebb.wav” of Harbour", True),
                ("missing", "“02 Flood.mp3”, made of “02 Flood.wav” of Harbour", False),
            },
        )
        self.assertEqual((found.unnamed, found.unnamed_bytes, found.removed), (1, 16, 0))
        [files] = [part for part in standing.operation().parts if part.name == "Files"]
        self.assertFalse(files.fine)
        self.assertIn("2 files are damaged or missing", files.told)
        self.assertIn("of Harbour among them", files.told)
        self.assertNotIn("Files", [part.name for part in standing.ready().parts], "whatever needs none of them goes on")
        self.assertTrue(store.has(stray.sha256))
        self.send("01 Ebb again.wav", self.sounds["01 Ebb.wav"], measured=False)
        self.assertEqual(self.worked(self.ebb), ("done", ""))
        found = scrubbing.check(store, no_progress, tidy=True)
        self.assertEqual(([wrong.what for wrong in found.wrong], found.removed), (["missing"], 1))
        self.assertFalse(store.has(stray.sha256))

    def test_retakes_sounds_for_beds_and_what_was_removed_are_checked_too(self):
        store = self.application.store
        unnamed = scrubbing.check(store, no_progress).unnamed
        with placing():
            blobs = [store.put([content], name="kept") for content in (b"a retake", b"as it was made to fit", b"a sound")]
        taken = {"name": "again.wav", "sha256": blobs[0].sha256, "prepared_sha256": blobs[1].sha256, "start_s": 1.0, "end_s": 2.0}
        with transaction() as session:
            session.add(TakeRecord(recording_id=UUID(self.ebb), size_bytes=8, **taken))
            session.add(BedSound(production_id=UUID(self.production), name="Sluice.flac", sha256=blobs[2].sha256, size_bytes=7))
            record = session.exec(select(InspectionRecord).where(InspectionRecord.sha256 == self.sha256(self.flood))).one()
        self.assertEqual(scrubbing.check(store, no_progress).unnamed, unnamed)
        for blob in blobs:
            store.remove(blob.sha256)
        self.rot(record.pyramid_sha256)
        self.ask("POST", "/recordings/remove", 204, json={"recordings": [self.flood]})
        found = scrubbing.check(store, no_progress)
        self.assertEqual(
            sorted((wrong.what, *wrong.of, wrong.mended) for wrong in found.wrong),
            [
                ("damaged", "the picture and levels of “02 Flood.wav” of Harbour", False),
                ("missing", "“Sluice.flac”, a sound for the beds of Harbour", False),
                ("missing", "“again.wav”, a retake for “01 Ebb.wav” of Harbour", False),
                ("missing", "“again.wav”, a retake for “01 Ebb.wav” of Harbour", False),
            ],
        )

    def made_file(self, conforming: str) -> str:
        with transaction() as session:
            return session.get_one(Conforming, UUID(conforming)).sha256

    def test_the_command_says_it_and_ends_accordingly(self):
        self.assertEqual(checking_store.run(tidy=False, as_json=False, quiet=True), 0)
        self.rot(self.sha256(self.ebb))
        self.assertEqual(checking_store.run(tidy=False, as_json=True, quiet=True), 1)
