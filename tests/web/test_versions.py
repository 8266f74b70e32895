"""Versions over the wire: two against one another, any made current again, disk use, and clearing what no certificate rests on."""

import hashlib
import threading
import time
from importlib import metadata
from uuid import UUID

from ispettore.studio.catalogue import disk_use, recordings
from ispettore.studio.database import transaction
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import Conforming
from tests.web.wire import WireCase


class Versions(WireCase):
    def setUp(self):
        type(self).production = self.make()
        self.recording = self.send("one.wav", self.voice(-29))

    def conformed(self, **how) -> str:
        made = self.ask("POST", f"/recordings/{self.recording}/conform", 202, json=how)["id"]
        self.work(made)
        return made

    def drafted(self, gain_db: float, container: str = "flac") -> str:
        """A run of a treatment of one's own."""
        view = self.ask("GET", f"/recordings/{self.recording}/draft")
        steps = [{"kind": "gain", "settings": {"gain_db": gain_db}}]
        view = self.ask("PUT", f"/recordings/{self.recording}/draft", json={"steps": steps, "follows": view["number"]})
        body = {"follows": view["number"], "container": container}
        made = self.ask("POST", f"/recordings/{self.recording}/draft/run", 202, json=body)["id"]
        self.work(made)
        return made

    def counts(self) -> tuple[str, str]:
        """Which attempt counts on the sheet, and where the recording stands."""
        [row] = self.ask("GET", f"/productions/{self.production}")["recordings"]
        [entry] = self.ask("GET", f"/productions/{self.production}/sheet")["entries"]
        return row["delivered"]["id"], entry["status"]

    def test_two_versions_say_what_was_asked_what_was_done_and_what_they_read(self):
        self.conformed()
        self.drafted(6)
        found = self.ask("GET", f"/recordings/{self.recording}/versions/1/2")
        self.assertEqual((found["one"]["number"], found["other"]["number"]), (1, 2))
        asked = {change["about"]: (change["before"], change["after"]) for change in found["asked"]}
        self.assertEqual(asked, {"Made by": ("balanced plan", "own treatment"), "Format": ("MP3", "FLAC")})
        self.assertIn(("changed", "Gain", "Change the level by 6 dB"), [(c["kind"], c["about"], c["after"]) for c in found["done"]])
        [level] = [pair for pair in found["readings"] if pair["quantity"] == "rms_dbfs"]
        self.assertAlmostEqual(level["other"], -23, delta=0.05)
        self.assertFalse(level["alike"])
        self.assertTrue(found["one"]["verdict"]["passes"] and found["one"]["certified"])
        self.assertEqual([line["kind"] for line in found["other"]["ledger"]], ["gain"])

        source = self.ask("GET", f"/recordings/{self.recording}/versions/0/2")
        self.assertEqual((source["asked"], source["one"]["id"]), ([], None))
        self.assertEqual([(change["kind"], change["about"]) for change in source["done"]], [("added", "Gain")])
        same = self.ask("GET", f"/recordings/{self.recording}/versions/2/2")
        self.assertTrue(all(pair["alike"] for pair in same["readings"]))
        self.assertEqual(same["asked"] + same["done"], [])
        self.ask("GET", f"/recordings/{self.recording}/versions/1/3", 404)

    def test_every_run_keeps_what_it_was_made_from(self):
        made = self.conformed(preference="light")
        [version] = self.ask("GET", f"/recordings/{self.recording}")["conformings"]
        self.assertEqual((version["id"], version["number"], version["preference"]), (made, 1, "light"))
        found = self.ask("GET", f"/recordings/{self.recording}/versions/0/1")["other"]
        self.assertEqual(found["made_for"], {"id": "audiobook-retail", "name": "Audiobook, retail", "version": 3})
        self.assertTrue(found["steps"] and found["ledger"] and found["touch"])
        with transaction() as session:
            kept = session.get_one(Conforming, UUID(made))
            self.assertEqual((kept.software, kept.room_tone), (metadata.version("ispettore"), ""))
            steps = kept.outcome["treatment"]["steps"]
            self.assertEqual([step["kind"] for step in steps if step["on"]], [step["kind"] for step in found["steps"]])
            self.assertTrue(all("learned" in step for step in steps))

    def test_any_version_is_made_current_again_until_another_is_made(self):
        first = self.conformed(preference="light")
        second = self.conformed(preference="even")
        self.assertEqual(self.counts(), (second, "certified"))
        self.ask("POST", f"/conformings/{first}/current", 204)
        self.assertEqual(self.counts(), (first, "certified"))
        self.drafted(2)
        self.assertEqual(self.counts(), (first, "certified"), "what misses its limits takes nothing from what is certified")
        master = self.conformed(container="wav")
        self.assertEqual(self.counts(), (first, "certified"), "nor does a master")
        self.ask("POST", f"/conformings/{master}/current", 204)
        self.assertEqual(self.counts(), (master, "conformed"), "but it counts where somebody says so")
        third = self.conformed()
        self.assertEqual(self.counts(), (third, "certified"))

    def test_what_brought_no_file_can_not_be_made_current(self):
        waiting = self.ask("POST", f"/recordings/{self.recording}/conform", 202, json={})["id"]
        said = self.ask("POST", f"/conformings/{waiting}/current", 422)
        self.assertIn("has no file. Choose another", said["error"])
        self.ask("GET", f"/recordings/{self.recording}/versions/0/1", 422)

    def test_an_earlier_certified_file_stays_when_a_later_attempt_fails(self):
        first = self.conformed()
        content = self.ask("GET", f"/conformings/{first}/file")
        self.client.patch(f"/api/productions/{self.production}", json={"specification_id": "audiobook-retail"})
        later = self.ask("POST", f"/recordings/{self.recording}/conform", 202, json={"preference": "even"})["id"]
        self.client.post("/api/recordings/cancel", json={"recordings": [self.recording]})
        self.assertEqual(self.counts(), (first, "certified"))
        [row] = self.ask("GET", f"/productions/{self.production}")["recordings"]
        self.assertEqual((row["conforming"]["id"], row["delivered"]["id"]), (later, first))
        self.assertEqual(self.ask("GET", f"/conformings/{first}/file"), content)

    def disk(self) -> dict[str, tuple[int, int]]:
        found = self.ask("GET", f"/productions/{self.production}/disk")
        self.assertEqual(found["size_bytes"], sum(part["size_bytes"] for part in found["parts"]))
        return {part["title"]: (part["files"], part["size_bytes"]) for part in found["parts"]}

    def test_masters_are_cleared_while_certificates_and_deliverables_stay_valid(self):
        master, certified = self.conformed(container="wav"), self.conformed()
        size = len(self.ask("GET", f"/conformings/{master}/file"))
        before = self.disk()
        self.assertEqual(before["masters and other files"], (1, size))
        self.assertEqual(before["certified files"][0], 1)
        self.assertGreater(before["pictures and levels"][1], 0)

        archive = self.ask("POST", f"/productions/{self.production}/archive", 202)["id"]
        self.work(archive)
        self.assertEqual(self.ask("GET", f"/productions/{self.production}/archive")["id"], archive)

        gone = self.ask("POST", f"/productions/{self.production}/clear")
        self.assertEqual((gone["files"], gone["size_bytes"]), (1, size))
        self.assertIsNone(self.ask("GET", f"/productions/{self.production}/archive")["id"], "it held what is gone")
        self.ask("GET", f"/archives/{archive}/file", 404)
        self.work(self.ask("POST", f"/productions/{self.production}/archive", 202)["id"])
        self.assertTrue(self.ask("GET", f"/productions/{self.production}/archive")["current"], "without it, it is whole")
        self.assertNotIn("masters and other files", self.disk())
        self.assertEqual(self.counts(), (certified, "certified"))
        for path in (f"/conformings/{master}/file", f"/conformings/{master}/sound?start=0&frames=100"):
            self.assertIn("was cleared to save disk space", self.ask("GET", path, 410)["error"])
        said = self.ask("POST", f"/conformings/{master}/current", 410)
        self.assertIn("conform again in the same way", said["error"])
        content, certificate = (self.ask("GET", f"/conformings/{certified}/{what}") for what in ("file", "certificate"))
        self.assertEqual(certificate["certificate"]["file"]["sha256"], hashlib.sha256(content).hexdigest())
        compared = self.ask("GET", f"/recordings/{self.recording}/versions/1/2")
        self.assertFalse(compared["one"]["there"], "what it read stays")
        self.assertEqual(self.ask("POST", f"/productions/{self.production}/clear")["files"], 0)

    def test_what_counts_or_is_named_elsewhere_is_never_cleared(self):
        master = self.conformed(container="wav")
        content = self.ask("GET", f"/conformings/{master}/file")
        self.assertEqual(self.ask("POST", f"/productions/{self.production}/clear")["files"], 0, "the only file of its recording")
        other = self.send("again.wav", content, measured=False)
        self.conformed()
        self.assertEqual(self.ask("POST", f"/productions/{self.production}/clear")["files"], 1)
        self.work(other)
        self.assertEqual(self.ask("GET", f"/recordings/{other}")["verdict"]["passes"], True, "its bytes are still there")

    def test_clearing_waits_for_what_is_just_being_put_away(self):
        self.conformed(container="wav")
        self.conformed()
        done = []

        def clear():
            done.append(disk_use.clear(UUID(self.production), self.application.store))

        with placing():
            thread = threading.Thread(target=clear)
            thread.start()
            time.sleep(0.3)
            self.assertEqual(done, [])
            # The very bytes come in again meanwhile, and are named before anything is cleared.
            [master] = [one for one in self.ask("GET", f"/recordings/{self.recording}")["conformings"] if one["container"] == "wav"]
            blob = self.application.store.put([self.ask("GET", f"/conformings/{master['id']}/file")], name="again.wav")
            recordings.add(UUID(self.production), "again.wav", blob)
        thread.join(30)
        self.assertEqual(done[0].files, 1)
        self.assertTrue(self.application.store.has(blob.sha256))
