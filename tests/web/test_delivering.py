"""Delivering over the wire: format, names, tags, cover; files that are made, measured and certified; packages handed over."""

import hashlib
import io
import json
import subprocess
import zipfile
from pathlib import Path
from uuid import UUID

from mutagen.id3 import ID3

from ispettore.core.certify import verification
from ispettore.core.certify.keys import KeyFolder
from ispettore.studio.catalogue import disk_use
from ispettore.studio.database import transaction
from ispettore.studio.delivering import handing_over
from ispettore.studio.settings import settings
from ispettore.studio.tables import Conforming, DeliverableRecord, WorkState
from tests import speakers
from tests.covers import picture
from tests.support import work_for
from tests.web.wire import RATE, WireCase


class Delivering(WireCase):
    def setUp(self):
        type(self).production = self.make(name="Almanac of a mill")
        self.first = self.send("01 January.wav", self.voice(-29))
        self.second = self.send("02 February.wav", self.voice(-27))
        self.path = f"/productions/{self.production}"

    def view(self) -> dict:
        return self.ask("GET", f"{self.path}/delivery")

    def rows(self) -> list[dict]:
        return self.view()["rows"]

    def change(self, **said) -> None:
        self.ask("PATCH", f"{self.path}/delivery", 204, json=said)

    def conformed(self, recording: str, **how) -> str:
        made = self.ask("POST", f"/recordings/{recording}/conform", 202, json=how)["id"]
        self.work(made)
        return made

    def made(self, **which) -> list[dict]:
        """Have files made, and do all that is asked for until they are."""
        told = self.ask("POST", f"{self.path}/delivery/make", 202, json=which)
        self.assertEqual(told["refused"], [])
        for deliverable in told["asked"]:
            with transaction() as session:
                attempt = session.get_one(DeliverableRecord, UUID(deliverable)).conforming_id
            if work_for(attempt).state in ("waiting", "running"):
                self.work(str(attempt))
            if work_for(UUID(deliverable)) is not None:
                self.work(deliverable)
        return self.rows()

    def file(self, row: dict) -> bytes:
        return self.ask("GET", f"/deliverables/{row['deliverable']}/file")

    def test_what_the_specification_asks_is_filled_in_and_file_names_tell_the_rest(self):
        found = self.view()
        self.assertEqual(found["form"], {"container": "mp3", "bit_depth": None, "bit_rate_kbps": 192})
        self.assertEqual([choice["title"] for choice in found["formats"]], ["MP3"])
        rates = [quality["form"]["bit_rate_kbps"] for quality in found["formats"][0]["qualities"]]
        self.assertEqual((rates[0], set(rates)), (192, {192, 224, 256, 320}))
        rows = [(row["entry"]["number"], row["entry"]["title"], row["file_name"], row["state"]) for row in found["rows"]]
        self.assertEqual(rows, [(1, "January", "01 January.mp3", "to make"), (2, "February", "02 February.mp3", "to make")])
        self.assertEqual(found["rows"][0]["reason"], "It will be conformed first.")

    def test_a_file_is_named_tagged_measured_and_certified_as_it_is_handed_over(self):
        content = picture()
        self.client.put(f"/api{self.path}/delivery/cover", params={"name": "cover.jpg"}, content=content)
        self.change(author="A. Reed", narrator="I. Weir", publisher="Mill", year="2026", language="English")
        entry = {"number": 1, "part": 2, "title": "Frost", "narrator": "M. Ebb"}
        self.ask("PUT", f"{self.path}/entries", 204, json={"entries": [{"recording": self.first, "entry": entry}]})
        row, _ = self.made(recordings=[self.first])
        self.assertEqual((row["state"], row["file_name"], row["certified"]), ("made", "01 Frost, part 2.mp3", True))
        file = self.file(row)
        path = self.application.folder / row["file_name"]
        path.write_bytes(file)
        told = ID3(path)
        self.assertEqual([str(told[key]) for key in ("TIT2", "TPE1", "TPE2", "TALB", "TRCK", "TLAN")],
                         ["Frost, part 2", "M. Ebb", "A. Reed", "Almanac of a mill", "1", "eng"])  # fmt: skip
        self.assertEqual(told["APIC:"].data, content)
        sealed = self.ask("GET", f"/deliverables/{row['deliverable']}/certificate")
        stated = sealed["certificate"]
        self.assertEqual((stated["file"]["name"], stated["file"]["sha256"]), (row["file_name"], hashlib.sha256(file).hexdigest()))
        self.assertEqual(stated["facts"]["tags"]["title"], ["Frost, part 2"])
        self.assertEqual(stated["origin"]["name"], "01 January.wav")
        found = verification.verify(verification.Paper(sealed), path, keys=KeyFolder(settings().keys))
        self.assertTrue(found.genuine, found.problems)

    def test_what_encoding_did_to_level_peak_noise_and_length_is_told(self):
        row = self.made(recordings=[self.first])[0]
        changes = {change["quantity"]: change for change in row["effect"]["changes"]}
        self.assertEqual(row["effect"]["longer_by"], 0)
        off = {name: change["after"] - change["before"] for name, change in changes.items()}
        self.assertAlmostEqual(off["rms_dbfs"], -0.265, delta=0.05)
        self.assertAlmostEqual(
            off["noise_floor_dbfs"], -0.65, delta=0.2, msg="white noise also loses what lies above the codec's band"
        )
        self.assertLess(abs(off["sample_peak_dbfs"]), 1)
        self.assertEqual(row["corrections"], [])

    def test_what_is_there_stays_and_what_changed_is_made_again(self):
        self.conformed(self.first)
        one, two = self.made()
        again = self.ask("POST", f"{self.path}/delivery/make", 202, json={})
        self.assertEqual((again["asked"], len(again["settled"])), ([], 2))
        self.change(year="2026")
        self.assertEqual(
            [(row["state"], row["reason"]) for row in self.rows()], [("to make again", "Its tags have changed since.")] * 2
        )
        attempts = len(self.ask("GET", f"/recordings/{self.first}")["conformings"])
        first, second = self.made()
        self.assertEqual((first["state"], second["state"]), ("made", "made"))
        self.assertNotEqual((first["sha256"], second["sha256"]), (one["sha256"], two["sha256"]))
        self.assertEqual(
            len(self.ask("GET", f"/recordings/{self.first}")["conformings"]), attempts, "other tags need no other sound"
        )
        self.change(naming="{title}")
        self.assertEqual(self.rows()[0]["reason"], "Its name has changed since: it is still 01 January.mp3.")
        self.change(naming="[{number} ]{title}[, part {part}]")
        self.conformed(self.first, preference="even")
        self.assertEqual([row["reason"] for row in self.rows()], ["It has been conformed again since.", ""])
        self.client.patch(f"/api{self.path}", json={"specification_id": "podcast-mono"})
        self.assertEqual(self.rows()[1]["reason"], "It was made for Audiobook, retail, version 3.")

    def test_another_quality_is_written_in_the_manner_of_what_counts(self):
        self.conformed(self.first, preference="light")
        self.change(form={"container": "mp3", "bit_rate_kbps": 320})
        self.assertEqual(self.rows()[0]["reason"], "It will be conformed again, as MP3, 320 kbit/s.")
        row = self.made(recordings=[self.first])[0]
        self.assertEqual((row["state"], row["format"]), ("made", "MP3, 320 kbit/s"))
        newest = self.ask("GET", f"/recordings/{self.first}")["conformings"][0]
        self.assertEqual((newest["preference"], newest["certified"]), ("light", True))
        stated = self.ask("GET", f"/deliverables/{row['deliverable']}/certificate")["certificate"]
        self.assertEqual(round(stated["facts"]["bit_rate_kbps"]), 320)
        said = self.ask("PATCH", f"{self.path}/delivery", 422, json={"form": {"container": "flac"}})["error"]
        self.assertIn("Audiobook, retail does not allow FLAC, 24 bit", said)
        self.client.patch(f"/api{self.path}", json={"specification_id": "podcast-mono"})
        self.change(form={"container": "flac"})
        self.client.patch(f"/api{self.path}", json={"specification_id": "audiobook-retail"})
        self.assertEqual(self.view()["form"]["container"], "mp3", "what meets the specification no more is not asked for")
        self.change(form="asked")
        self.assertEqual(self.view()["asked"]["form"], None)

    def test_every_format_can_be_delivered_and_played(self):
        self.client.patch(f"/api{self.path}", json={"specification_id": "podcast-mono"})
        formats = {choice["qualities"][0]["form"]["container"]: choice for choice in self.view()["formats"]}
        self.assertEqual(set(formats), {"mp3", "opus", "ogg", "wav", "flac", "aiff"})
        for container in ("ogg", "opus", "flac", "wav"):
            with self.subTest(container=container):
                self.change(form=formats[container]["qualities"][0]["form"])
                row = self.made(recordings=[self.first])[0]
                self.assertEqual((row["state"], row["certified"]), ("made", True), row["reason"])
                attempt = self.ask("GET", f"/recordings/{self.first}")["conformings"][0]
                piece = self.ask("GET", f"/conformings/{attempt['id']}/sound?start=44100&frames=4410")
                self.assertEqual(len(piece), 4_410 * 4)

    def test_a_limit_missed_only_after_encoding_is_corrected_and_said(self):
        self.client.patch(f"/api{self.path}", json={"specification_id": "video-streaming"})
        laid = speakers.laid("wren", rate=RATE, seconds=25)
        wave = laid.wave * 0.1 + speakers.room(len(laid.wave), rate=RATE, dbfs=-75)
        third = self.send("03 March.wav", self.wav(wave))
        opus = {"container": "opus", "bit_depth": None, "bit_rate_kbps": None}
        self.change(form=opus)
        row = self.made(recordings=[third])[2]
        self.assertEqual(row["state"], "made")
        self.assertRegex(row["corrections"][0], "^True peak was −0.* outside its limit; before encoding it was −1")
        stated = self.ask("GET", f"/deliverables/{row['deliverable']}/certificate")["certificate"]
        self.assertLessEqual(stated["readings"]["true_peak_dbtp"]["value"], -1)

    def test_names_are_shown_as_they_are_typed_and_refused_with_the_reason(self):
        found = self.ask("POST", f"{self.path}/delivery/names", json={"naming": "{production} {number}"})
        self.assertEqual([one["file_name"] for one in found["names"]], ["Almanac of a mill 01.mp3", "Almanac of a mill 02.mp3"])
        found = self.ask("POST", f"{self.path}/delivery/names", json={"naming": "{author}"})
        self.assertIn("There is no {author}", found["problem"])
        self.assertIn("There is no {author}", self.ask("PATCH", f"{self.path}/delivery", 422, json={"naming": "{author}"})["error"])
        for title, reason in (("Ebb/flow", "can't contain “/”"), ("x" * 200, ""), ("February", "The name is already used")):
            entry = {"number": 2, "part": None, "title": title, "narrator": ""}
            self.ask("PUT", f"{self.path}/entries", 204, json={"entries": [{"recording": self.first, "entry": entry}]})
            self.assertIn(reason, self.rows()[0]["problem"])
            if reason:
                said = self.ask("POST", f"{self.path}/delivery/make", 422, json={})["error"]
                self.assertIn("01 January.wav: ", said)
                self.assertIn(reason, said)
        self.ask("PUT", f"{self.path}/entries", 204, json={"entries": [{"recording": self.first, "entry": None}]})
        self.assertEqual((self.rows()[0]["file_name"], self.rows()[0]["from_name"]), ("01 January.mp3", True))

    def test_cells_are_changed_one_by_one_and_a_narrator_stays_where_titles_come_from_file_names(self):
        for entry in ({"title": "Frost"}, {"number": 7}, {"narrator": "M. Ebb"}, {"part": 2}, {"part": None}):
            self.ask("PUT", f"{self.path}/entries", 204, json={"entries": [{"recording": self.first, "entry": entry}]})
        self.assertEqual(
            self.rows()[0]["entry"], {"kind": "chapter", "number": 7, "part": None, "title": "Frost", "narrator": "M. Ebb"}
        )
        self.assertFalse(self.rows()[0]["from_name"])
        self.ask("PUT", f"{self.path}/entries", 204, json={"entries": [{"recording": self.first, "entry": None}]})
        self.assertEqual(
            self.rows()[0]["entry"], {"kind": "chapter", "number": 1, "part": None, "title": "January", "narrator": "M. Ebb"}
        )
        self.assertTrue(self.rows()[0]["from_name"])

    def test_titles_are_pasted_from_a_spreadsheet(self):
        self.assertEqual(self.ask("POST", f"{self.path}/entries/paste", json={"text": "1\tFrost\n2\tFebruary\n"})["count"], 1)
        self.assertEqual([row["entry"]["title"] for row in self.rows()], ["Frost", "February"])
        said = self.ask("POST", f"{self.path}/entries/paste", 422, json={"text": "Frost"})["error"]
        self.assertIn("it has 1 rows, and there are 2 recordings", said)

    def test_what_can_not_be_said_or_shown_is_refused(self):
        self.assertIn("“26” is no year", self.ask("PATCH", f"{self.path}/delivery", 422, json={"year": "26"})["error"])
        self.assertIn("ISO 639", self.ask("PATCH", f"{self.path}/delivery", 422, json={"language": "Millish"})["error"])
        said = self.ask("PUT", f"{self.path}/delivery/cover", 422, params={"name": "a.gif"}, content=picture(kind="GIF", mode="L"))
        self.assertIn("“a.gif” can't be the cover", said["error"])
        wide = picture(900, 600)
        self.ask("PUT", f"{self.path}/delivery/cover", 204, params={"name": "wide.jpg"}, content=wide)
        cover = self.view()["cover"]
        self.assertEqual((cover["width"], cover["sha256"]), (900, hashlib.sha256(wide).hexdigest()))
        self.assertIn("square pictures only", cover["advice"])
        self.assertEqual(self.ask("GET", f"{self.path}/delivery/cover"), wide)
        self.ask("DELETE", f"{self.path}/delivery/cover", 204)
        self.assertIsNone(self.view()["cover"])
        self.ask("GET", f"{self.path}/delivery/cover", 404)

    def test_a_zip_file_holds_files_certificates_and_hashes_and_resumes(self):
        self.ask("GET", f"{self.path}/package.zip", 409)
        rows = self.made()
        where = f"/api{self.path}/package.zip"
        answer = self.client.get(where)
        whole = answer.content
        self.assertEqual((answer.headers["content-type"], int(answer.headers["content-length"])), ("application/zip", len(whole)))
        with zipfile.ZipFile(io.BytesIO(whole)) as opened:
            self.assertIsNone(opened.testzip())
            names = [name.removeprefix("Almanac of a mill/") for name in opened.namelist()]
            opened.extractall(self.application.folder / "opened")
        files = [row["file_name"] for row in rows]
        self.assertEqual(names, [*files, *(f"certificates/{name}.certificate.json" for name in files), "SHA256SUMS"])
        folder = self.application.folder / "opened" / "Almanac of a mill"
        checked = subprocess.run(
            ("sha256sum", "-c", "--strict", "SHA256SUMS"), cwd=folder, capture_output=True, text=True, check=False
        )
        self.assertEqual((checked.returncode, checked.stdout.count(": OK")), (0, 4), checked.stdout)

        tag, middle = answer.headers["etag"], len(whole) // 3
        rest = self.client.get(where, headers={"range": f"bytes={middle}-", "if-range": tag})
        self.assertEqual((rest.status_code, rest.content), (206, whole[middle:]))
        self.assertEqual(rest.headers["content-range"], f"bytes {middle}-{len(whole) - 1}/{len(whole)}")
        some = self.client.get(where, headers={"range": "bytes=10-19"})
        self.assertEqual(some.content, whole[10:20])
        self.assertEqual(self.client.get(where, headers={"range": f"bytes={len(whole)}-"}).status_code, 416)
        one = self.client.get(where, params={"of": self.second}).content
        with zipfile.ZipFile(io.BytesIO(one)) as opened:
            self.assertEqual(len(opened.namelist()), 3)
        self.change(year="1999")
        self.made(recordings=[self.first])
        other = self.client.get(where, headers={"range": f"bytes={middle}-", "if-range": tag})
        self.assertEqual(other.status_code, 200, "what is no more the same is sent whole")
        single = self.client.get(f"/api/deliverables/{rows[1]['deliverable']}/file", headers={"range": "bytes=5-"})
        self.assertEqual((single.status_code, single.content), (206, self.file(rows[1])[5:]))

    def test_a_damaged_or_missing_file_is_never_sent_as_if_it_were_whole(self):
        row = self.made(recordings=[self.first])[0]
        path = self.application.store.local(row["sha256"])
        content = path.read_bytes()
        path.chmod(0o600)
        path.write_bytes(content[:-1] + bytes([content[-1] ^ 1]))
        said = self.ask("GET", f"/deliverables/{row['deliverable']}/file", 410)["error"]
        self.assertIn("01 January.mp3", said)
        path.unlink()
        self.assertIn("is missing from Ispettore's store", self.ask("GET", f"{self.path}/package.zip", 410)["error"])
        path.write_bytes(content)

    def folder(self, **which) -> tuple[str, Path]:
        """A package written into a folder: what notes it, and where."""
        made = self.ask("POST", f"{self.path}/deliver-to-folder", 202, json=which)["id"]
        self.work(made)
        return made, Path(self.view()["deliveries"][0]["place"])

    def test_a_folder_on_the_servers_side_is_written_whole_and_noted(self):
        self.made()
        _, folder = self.folder()
        self.assertEqual(folder.parent, settings().delivered)
        names = sorted(str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file())
        self.assertEqual((len(names), names[0]), (5, "01 January.mp3"))
        checked = subprocess.run(("sha256sum", "-c", "--strict", "SHA256SUMS"), cwd=folder, capture_output=True, check=False)
        self.assertEqual(checked.returncode, 0)
        note = self.view()["deliveries"][0]
        self.assertEqual((note["files"], note["work"]["state"]), (2, "done"))
        self.assertIsNotNone(note["done_at"])
        entries = self.ask("GET", f"{self.path}/sheet")["entries"]
        self.assertEqual([entry["status"] for entry in entries], ["delivered", "delivered"])
        _, other = self.folder(recordings=[self.first])
        self.assertNotEqual(other, folder)
        self.assertEqual(len(list(other.rglob("*.mp3"))), 1)

    def test_productions_that_are_called_alike_never_share_a_folder(self):
        self.made(recordings=[self.first])
        mine = self.ask("POST", f"{self.path}/deliver-to-folder", 202, json={})["id"]
        type(self).production = self.make(name="Almanac of a mill")
        self.path = f"/productions/{self.production}"
        self.first = self.send("01 January.wav", self.voice(-28))
        self.made(recordings=[self.first])
        other = self.ask("POST", f"{self.path}/deliver-to-folder", 202, json={})["id"]
        self.work(mine)
        self.work(other)
        note = self.view()["deliveries"][0]
        self.assertEqual(note["work"]["state"], "done")
        content = (Path(note["place"]) / "01 January.mp3").read_bytes()
        self.assertEqual(hashlib.sha256(content).hexdigest(), self.rows()[0]["sha256"])
        # Somebody put something of their own where it was to go: nothing is written over it.
        third = self.ask("POST", f"{self.path}/deliver-to-folder", 202, json={})["id"]
        place = Path(self.view()["deliveries"][0]["place"])
        place.mkdir()
        self.work(third)
        self.assertIn("There is already something else at", self.view()["deliveries"][0]["work"]["error"])
        self.assertEqual(list(place.iterdir()), [])

    def test_an_interrupted_delivery_leaves_nothing_half_behind(self):
        rows = self.made()
        path = self.application.store.local(rows[1]["sha256"])
        content = path.read_bytes()
        path.unlink()
        made = self.ask("POST", f"{self.path}/deliver-to-folder", 202, json={})["id"]
        self.work(made)
        note = self.view()["deliveries"][0]
        self.assertEqual((note["work"]["state"], note["done_at"]), ("failed", None))
        self.assertIn("is missing from Ispettore's store", note["work"]["error"])
        before = set(settings().delivered.iterdir())
        self.assertNotIn(settings().delivered / Path(note["place"]).name, before)
        self.assertFalse([one for one in before if one.name.startswith(".")])
        path.write_bytes(content)
        # One whose worker was killed in the middle is written anew, and one that nobody writes any more is let go of.
        stray, halfway = (
            settings().delivered / f".{UUID(int=7).hex}.part",
            self.ask("POST", f"{self.path}/deliver-to-folder", 202, json={})["id"],
        )
        mine = settings().delivered / f".{UUID(halfway).hex}.part"
        for folder in (stray, mine):
            folder.mkdir()
            (folder / "half.mp3").write_bytes(b"half")
        handing_over.sweep()
        self.assertEqual((stray.exists(), mine.exists()), (False, True))
        self.work(halfway)
        place = Path(self.view()["deliveries"][0]["place"])
        self.assertFalse(mine.exists() or (place / "half.mp3").exists())
        self.assertEqual(len(list(place.glob("*.mp3"))), 2)
        entries = self.ask("GET", f"{self.path}/sheet")["entries"]
        self.assertEqual([entry["status"] for entry in entries], ["delivered", "delivered"])

    def test_what_can_not_be_conformed_says_so_and_is_tried_again_when_asked(self):
        third = self.send("03 March.wav", self.voice(-24.5), measured=False)
        self.assertEqual([(row["state"], row["reason"]) for row in self.rows()][2], ("unmeasured", "It is not measured yet."))
        told = self.ask("POST", f"{self.path}/delivery/make", 202, json={"recordings": [third]})
        self.assertIn("has not been inspected yet", told["refused"][0]["reason"])
        told = self.ask("POST", f"{self.path}/delivery/make", 202, json={"recordings": [self.first]})
        self.assertEqual(self.rows()[0]["state"], "making")
        self.client.post("/api/recordings/cancel", json={"recordings": [self.first]})
        self.assertEqual((self.rows()[0]["state"], self.rows()[0]["reason"]), ("to make", "Cancelled."))
        self.assertEqual(self.made(recordings=[self.first])[0]["state"], "made")

    def test_a_deliverable_that_waits_goes_on_when_its_attempt_has_a_file(self):
        told = self.ask("POST", f"{self.path}/delivery/make", 202, json={"recordings": [self.first]})
        deliverable = UUID(told["asked"][0])
        self.assertIsNone(work_for(deliverable))
        with transaction() as session:
            attempt = session.get_one(DeliverableRecord, deliverable).conforming_id
        self.work(str(attempt))
        with transaction() as session:
            self.assertIsNotNone(session.get_one(Conforming, attempt).sha256)
        self.assertEqual(work_for(deliverable).state, WorkState.WAITING)
        self.work(str(deliverable))
        self.assertEqual(self.rows()[0]["state"], "made")

    def test_delivered_files_and_covers_are_never_cleared(self):
        self.conformed(self.first, container="wav")
        self.ask("PUT", f"{self.path}/delivery/cover", 204, params={"name": "c.jpg"}, content=picture())
        row = self.made(recordings=[self.first])[0]
        parts = {part["title"]: part["files"] for part in self.ask("GET", f"{self.path}/disk")["parts"]}
        self.assertEqual(parts["delivered files"], 1)
        disk_use.clear(UUID(self.production), self.application.store)
        self.assertEqual(hashlib.sha256(self.file(row)).hexdigest(), row["sha256"])
        self.assertTrue(self.ask("GET", f"{self.path}/delivery/cover"))

    def test_of_what_is_not_there_it_says_so(self):
        nobody = "00000000-0000-4000-8000-000000000000"
        self.ask("GET", f"/productions/{nobody}/delivery", 404)
        self.ask("GET", f"/deliverables/{nobody}/file", 404)
        self.ask("GET", f"/deliverables/{nobody}/certificate", 404)
        self.ask("GET", f"{self.path}/package.zip?of=what", 404)
        self.ask("POST", f"{self.path}/deliver-to-folder", 409, json={})
        self.ask("PUT", f"{self.path}/entries", 404, json={"entries": [{"recording": nobody, "entry": None}]})

    def test_certificates_in_a_package_are_those_given_out_alone(self):
        row = self.made(recordings=[self.first])[0]
        alone = self.ask("GET", f"/deliverables/{row['deliverable']}/certificate")
        with zipfile.ZipFile(io.BytesIO(self.client.get(f"/api{self.path}/package.zip").content)) as opened:
            inside = json.loads(opened.read(f"Almanac of a mill/certificates/{row['file_name']}.certificate.json"))
        self.assertEqual(inside, alone)
