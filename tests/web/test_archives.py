"""The record of a production and its archive over the wire: made, sent, and imported on another installation."""

import hashlib
import io
import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
import warnings
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from uuid import UUID, uuid4

from fastapi.testclient import TestClient
from sqlmodel import SQLModel, select

from ispettore.core.archive import checking
from ispettore.core.certify import seal
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.deliver import manifest
from ispettore.core.errors import Cancelled
from ispettore.core.measure.methods_history import current
from ispettore.studio.archiving import importing, rows
from ispettore.studio.catalogue import certificates, naming, recordings
from ispettore.studio.catalogue.incoming import ARCHIVE, Incoming
from ispettore.studio.database import transaction
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import (
    ArchiveRecord,
    CertificateRecord,
    ChallengeRecord,
    DefaultsRecord,
    Importing,
    InspectionRecord,
    InvitationRecord,
    Listening,
    NoteRecord,
    PasskeyRecord,
    Person,
    Recording,
    SessionRecord,
    SignInTry,
    TokenRecord,
    TrailRecord,
    Verifying,
    WatchedFile,
    WatchedFolder,
    Webhook,
    WebhookMessage,
    WebhookStatus,
    Work,
    WorkerProcess,
    WorkState,
)
from ispettore.studio.worker.doing import do
from ispettore.web.app import build
from tests import signals
from tests.covers import picture
from tests.support import Application
from tests.web.wire import RATE, WireCase

PAGE = Path(__file__).parents[2] / "docs" / "ARCHIVE.md"
CANONICAL = f"""set -euo pipefail
canonical() {{ {sys.executable} -c 'import json, rfc8785, sys; sys.stdout.buffer.write(rfc8785.dumps(json.load(sys.stdin)))'; }}
"""
GOLDEN = Path(__file__).parents[1] / "core" / "golden"
OWN = {
    "name": "Chapters of tides",
    "limits": [
        {"quantity": "sample_peak_dbfs", "high": -3.0},
        {"quantity": "rms_dbfs", "low": -23.0, "high": -18.0},
        {"quantity": "container", "one_of": ["flac"], "applies_to": "deliverable"},
    ],
}


class Archives(WireCase):
    """One production with everything that can be done to one; its archive, changed in many ways, comes in elsewhere."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        text = json.dumps({"id": "tides", **OWN})
        specification = cls.client.put("/api/specifications/file", params={"name": "tides.json"}, content=text).json()
        cls.production = cls.make(specification["id"], name="Almanac: a mill")
        cls.path = f"/productions/{cls.production}"
        cls.recordings = [cls.send(f"0{number} Tide.wav", cls.short(-20 - number / 10)) for number in (1, 2)]
        cls.work_on_it()
        cls.content = cls.archived()

    @classmethod
    def short(cls, rms_dbfs: float) -> bytes:
        """A few seconds of a made-up voice: what an archive holds is the same for an hour."""
        return cls.wav(signals.voice_like(5, rms_dbfs=rms_dbfs, rate=RATE, room_dbfs=rms_dbfs - 52))

    @classmethod
    def said(cls, method: str, path: str, **named):
        answer = cls.client.request(method, f"/api{path}", **named)
        assert answer.status_code < 300, answer.text
        return answer.json() if answer.content and "json" in answer.headers.get("content-type", "") else answer.content

    @classmethod
    def do_all(cls, *kinds: str) -> None:
        for kind in kinds:
            with transaction() as session:
                waiting = session.exec(select(Work.id).where(Work.kind == kind, Work.state == "waiting")).all()
            for work in waiting:
                do(work, Store(settings().store))

    @classmethod
    def work_on_it(cls) -> None:
        """Everything that leaves something behind: attempts, versions, certificates, notices, deliveries, listening, notes."""
        one, two = cls.recordings
        finding = {"kind": "click", "start_s": 1.0, "end_s": 1.1}
        cls.said("PUT", f"/recordings/{one}/accepted", json={"findings": [finding], "reason": "The latch"})
        cls.said("PUT", f"{cls.path}/delivery/cover", params={"name": "mill.jpg"}, content=picture(600, 600))
        cls.said("PATCH", f"{cls.path}/delivery", json={"certified_by": "Ilse Weir"})
        for _ in range(2):
            cls.said("POST", f"{cls.path}/delivery/make", json={})
            cls.do_all("conform", "deliver")
            cls.said("PATCH", f"{cls.path}/delivery", json={"publisher": "Weir and Reed"})
        rows = cls.said("GET", f"{cls.path}/delivery")["rows"]
        spans = [{"start_s": 0, "end_s": 60, "speed": 1}]
        heard = {"id": str(uuid4()), "of": "deliverable", "subject": rows[0]["deliverable"], "who": "Morten Ebb", "spans": spans}
        cls.said("POST", "/listenings", json=heard)
        note = {"at_s": 1.5, "kind": "misread", "text": "a word", "who": "Morten Ebb"}
        cls.said("POST", f"/listen/recording/{two}/notes", json=note)
        cls.said("POST", f"/certificates/{rows[1]['certificate']}/withdraw", json={"reason": "The wrong take", "by": "Ilse Weir"})
        cls.said("POST", f"{cls.path}/deliver-to-folder", json={"recordings": [one]})
        cls.do_all("hand-over")
        with placing():
            newer = recordings.replace(UUID(two), "02 Tide.wav", cls.application.store.put([cls.short(-24)], name="02 Tide.wav"))
        cls.work(newer)
        cls.edited = str(newer)
        cut = {"what": "cut", "start_s": 1.0, "end_s": 1.25}
        cls.said("POST", f"/recordings/{newer}/edits", json={"wish": cut, "follows": 0})
        cls.work(newer)

    @classmethod
    def archived(cls) -> bytes:
        made = cls.said("POST", f"{cls.path}/archive")["id"]
        cls.work(made)
        return cls.said("GET", f"/archives/{made}/file")

    def members(self, content: bytes | None = None) -> dict[str, bytes]:
        """The files of the archive, by their names in it."""
        with zipfile.ZipFile(io.BytesIO(content or self.content)) as zipped:
            return {info.filename.split("/", 1)[1]: zipped.read(info) for info in zipped.infolist()}

    def zipped(self, members: dict[str, bytes], *twice: str) -> bytes:
        """An archive of these files, as any program would write it."""
        written = io.BytesIO()
        with zipfile.ZipFile(written, "w", zipfile.ZIP_DEFLATED) as file, warnings.catch_warnings():
            warnings.simplefilter("ignore")
            for name in (*members, *twice):
                file.writestr(name, members[name])
        return written.getvalue()

    def resealed(self, members: dict[str, bytes], key=None, **head) -> dict[str, bytes]:
        """The same with a list and a head that fit, sealed anew."""
        rest = {name: content for name, content in members.items() if name not in ("archive.json", manifest.NAME)}
        sums = manifest.text((hashlib.sha256(content).hexdigest(), name) for name, content in sorted(rest.items())).encode()
        content = json.loads(members["archive.json"])["archive"] | {"sums": hashlib.sha256(sums).hexdigest()} | head
        sealed = seal.seal(content, key or certificates.keys().own(), what="archive")
        return {"archive.json": json.dumps(sealed).encode(), manifest.NAME: sums, **rest}

    @contextmanager
    def elsewhere(self, *, trusting: bool = True) -> Iterator["Archives"]:
        """Another installation: a database, a store and keys of its own; `trusting` the key of the first."""
        own = certificates.keys().own().as_pem(private=False)
        other = Application().start()
        try:
            with TestClient(build(), base_url="http://127.0.0.1") as client:
                if trusting:
                    client.post("/api/keys", params={"name": "mill"}, content=own)
                before, type(self).client = type(self).client, client
                try:
                    yield self
                finally:
                    type(self).client = before
        finally:
            other.stop()

    def brought(self, content: bytes, name: str = "mill.zip") -> dict:
        """An archive brought in, and what came of it."""
        came = self.ask("PUT", "/imports", 202, params={"name": name}, content=content)["id"]
        self.do_all("import")
        return next(one for one in self.ask("GET", "/imports") if one["id"] == came)

    def refusal(self, content: bytes) -> str:
        """Why an archive is refused; nothing of it is here then."""
        found = self.brought(content)
        self.assertEqual((found["work"]["state"], found["outcome"]), ("failed", None), found)
        self.assertEqual(self.ask("GET", "/productions"), [])
        self.ask("DELETE", f"/imports/{found['id']}", 204)
        return found["work"]["error"]

    def seen(self) -> dict:
        """All that the pages show of the production, and the files they give out by their hashes."""
        whole = ("", "/sheet", "/delivery", "/certificate", "/disk", "/record", "/consistency")
        paths = [f"{self.path}{rest}" for rest in whole] + [f"/certificates?production={self.production}"]
        found = {path: self.ask("GET", path) for path in paths}
        for delivery in found[f"{self.path}/delivery"]["deliveries"]:
            delivery["place"] = Path(delivery["place"]).name  # where the folder lies is each installation's own
        for one in self.recordings:
            paths = (
                f"/recordings/{one}",
                f"/listen/recording/{one}",
                f"/recordings/{one}/tiles",
                f"/recordings/{one}/versions/0/1",
            )
            found |= {path: self.ask("GET", path) for path in paths}
            found[f"sound of {one}"] = hashlib.sha256(self.ask("GET", f"/recordings/{one}/sound?start=0&frames=200000")).hexdigest()
        for path in (f"/recordings/{self.edited}", f"/recordings/{self.edited}/edits", f"/recordings/{self.edited}/tiles"):
            found[path] = self.ask("GET", path)
        cut = self.ask("GET", f"/recordings/{self.edited}/sound?start=0&frames=400000")
        found["sound that is edited"] = (len(cut) // 4, hashlib.sha256(cut).hexdigest())
        for row in found[f"/certificates?production={self.production}"]["rows"]:
            for form in ("sealed.json", "notice.json") if row["stands"] != "stands" else ("sealed.json",):
                path = f"/certificates/{row['id']}/{form}"
                found[path] = self.ask("GET", path)
        for row in found[f"{self.path}/delivery"]["rows"]:
            if row["deliverable"]:
                file = self.ask("GET", f"/deliverables/{row['deliverable']}/file")
                found[f"file {row['deliverable']}"] = hashlib.sha256(file).hexdigest()
        return found

    def test_the_record_tells_what_was_done_when_and_can_be_chosen_from(self):
        found = self.ask("GET", f"{self.path}/record", params={"count": 500})
        told = [deed["text"] for deed in reversed(found["deeds"])]
        for said in (
            "Production created with Chapters of tides, version 1.",
            "Added as “01 Tide.wav”, 661,544 bytes.",
            "Accepted click from 0:01.0 to 0:01.1: The latch",
            "Conformed for Chapters of tides, version 1, by balanced plan: “01 Tide.flac”.",
            "Named and tagged to be delivered: “01 Tide.flac”.",
            "“01 Tide.flac” was certified for Chapters of tides, version 1.",
            "The certificate of “02 Tide.flac” was withdrawn: The wrong take",
            "Heard completely by Morten Ebb.",
            "Noted by Morten Ebb: Misread at 0:01.5: a word",
            "Replaced by a newer file: “02 Tide.wav”.",
        ):
            with self.subTest(said=said):
                self.assertIn(said, told)
        times = [datetime.fromisoformat(deed["at"]) for deed in found["deeds"]]
        self.assertEqual((times, found["total"]), (sorted(times, reverse=True), len(told)))
        for made in ("Conformed for", "Named and tagged"):
            first = next(place for place, text in enumerate(told) if text.startswith(made))
            self.assertLess(first, next(place for place, text in enumerate(told) if place > first and "was certified for" in text))

        chosen = self.ask(
            "GET", f"{self.path}/record", params={"recording": self.recordings[0], "topic": "certificate", "count": 2}
        )
        self.assertEqual({deed["name"] for deed in chosen["deeds"]}, {"01 Tide.wav"})
        self.assertEqual((len(chosen["deeds"]), chosen["total"]), (2, 4))

        record = self.ask("GET", f"{self.path}/record.json")
        self.assertEqual((record["format"], record["production"]), ("ispettore-record", "Almanac: a mill"))
        self.assertEqual([deed["text"] for deed in record["deeds"]], told)
        source = next(deed for deed in record["deeds"] if deed["topic"] == "recording")
        self.assertEqual(source["sha256"], self.ask("GET", f"/recordings/{self.recordings[0]}")["sha256"])
        text = self.client.get(f"/api{self.path}/record.txt").text
        for said in told:
            self.assertIn(said, text)

    def test_what_came_to_nothing_is_told_with_the_reason(self):
        limits = [{"quantity": "sample_peak_dbfs", "high": -14.0}, {"quantity": "rms_dbfs", "low": -15.0}]
        text = json.dumps({"id": "never", "name": "Never met", "limits": limits})
        never = self.ask("PUT", "/specifications/file", 201, params={"name": "never.json"}, content=text)["id"]
        production = self.make(never, name="Ebb")
        came = self.client.put(
            f"/api/productions/{production}/recordings", params={"name": "a.wav"}, content=self.short(-22)
        ).json()["id"]
        self.work(came)
        self.work(self.ask("POST", f"/recordings/{came}/conform", 202, json={"container": "wav"})["id"])
        attempt = self.ask("POST", f"/recordings/{came}/conform", 202, json={"container": "flac"})["id"]
        with transaction() as session:
            work = session.exec(select(Work).where(Work.subject_id == UUID(attempt))).one()
        self.ask("POST", f"/works/{work.id}/cancel", 202)
        attempt = self.ask("POST", f"/recordings/{came}/conform", 202, json={"container": "mp3"})["id"]
        where = self.application.store.local(self.ask("GET", f"/recordings/{came}")["sha256"])
        whole = where.read_bytes()
        where.chmod(0o600)
        where.write_bytes(whole[:-1] + b"x")
        os.utime(where, (1, 1))
        with transaction() as session:
            session.get_one(Recording, UUID(came)).created_at = datetime(2026, 1, 1, tzinfo=UTC)
        self.work(attempt)
        deeds = self.ask("GET", f"/productions/{production}/record", params={"topic": "file"})["deeds"]
        told = {deed["text"]: deed.get("details", []) for deed in deeds}
        by = "for Never met, version 1, by balanced plan"
        [against] = told[f"Not conformed {by}: no file met its limits."]
        self.assertRegex(against, r"^(RMS level and Peak|Peak and RMS level) \(\d+\.\d dB short\): ")
        self.assertIn(f"Conforming {by}, was cancelled.", told)
        damaged = "“a.wav” is damaged: its bytes no longer match its SHA-256. Add the same file again to repair it."
        self.assertIn(f"Conforming {by}, failed: {damaged}", told)

    def test_what_is_decided_is_noted_as_it_is_done(self):
        name = "Harbour"
        production, wave = self.make(name=name), self.short(-22)
        other = f"/productions/{production}"
        came = self.client.put(f"/api{other}/recordings", params={"name": "one.wav"}, content=wave).json()["id"]
        self.work(came)
        finding = {"kind": "click", "start_s": 2.0, "end_s": 2.0}
        steps = (
            (
                "PATCH",
                other,
                {"name": "Harbour bulletin"},
                "Production renamed from “Harbour” to “Harbour bulletin”.",
            ),
            ("PATCH", other, {"specification_id": "tides"}, "Specification changed to Chapters of tides, version 1."),
            ("PATCH", other, {"archived": True}, "Production hidden."),
            ("PATCH", other, {"archived": False}, "Production restored."),
            (
                "PUT",
                f"/recordings/{came}/accepted",
                {"findings": [finding], "reason": "A latch"},
                "Accepted click at 0:02.0: A latch",
            ),
            ("POST", f"/recordings/{came}/accepted/take-back", {"findings": [finding]}, "Acceptance undone: click at 0:02.0."),
            ("PUT", f"/recordings/{came}/room-tone", {"start_s": 0.0, "end_s": 0.6}, "Room tone set manually: 0:00.0 to 0:00.6."),
            (
                "PUT",
                f"/recordings/{came}/turns",
                {"turns": [{"start_s": 0, "end_s": 5, "voice": 1}]},
                "Voices set manually.",
            ),
            ("POST", "/recordings/remove", {"recordings": [came]}, "Removed from the production."),
            ("POST", "/recordings/restore", {"recordings": [came]}, "Restored to the production."),
        )
        for method, path, body, said in steps:
            with self.subTest(said=said):
                answer = self.client.request(method, f"/api{path}", json=body)
                self.assertLess(answer.status_code, 300, answer.text)
                deeds = self.ask("GET", f"{other}/record", params={"topic": "decision"})["deeds"]
                self.assertEqual(deeds[0]["text"], said)
        count = self.ask("GET", f"{other}/record", params={"topic": "decision"})["total"]
        self.ask("PATCH", other, 204, json={"name": "Harbour bulletin", "archived": False, "specification_id": "tides"})
        self.assertEqual(self.ask("GET", f"{other}/record", params={"topic": "decision"})["total"], count, "Nothing was changed")

    def test_the_archive_is_checked_by_standard_tools_and_sent_from_any_byte_on(self):
        with tempfile.TemporaryDirectory() as held:
            with zipfile.ZipFile(io.BytesIO(self.content)) as zipped:
                self.assertIsNone(zipped.testzip())
                zipped.extractall(held)
            folder = Path(held) / "Almanac a mill"
            there = {path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()}
            (folder.parent / "public.pem").write_bytes(certificates.keys().own().as_pem(private=False))
            steps = "\n".join(re.findall(r"```sh\n(.*?)```", PAGE.read_text(encoding="utf-8"), re.DOTALL))
            by_hand = f"{CANONICAL}cd '{folder}'\n{steps.replace('public.pem', '../public.pem')}"
            checked = subprocess.run(["bash", "-c", by_hand], capture_output=True, text=True)
            self.assertEqual(checked.returncode, 0, checked.stdout + checked.stderr)
            self.assertIn("Signature Verified Successfully", checked.stdout)
            (folder / "record.txt").write_text("Nothing was done.")
            self.assertNotEqual(subprocess.run(["bash", "-c", by_hand], capture_output=True).returncode, 0)
        for name in ("sources/01 Tide.wav", "sources/earlier/02 Tide.wav", "masters/01 Tide.flac", "deliverables/01 Tide.flac",
                     "deliverables/01 Tide (2).flac", "certificates/01 Tide (2).flac.certificate.json", "cover/mill.jpg",
                     "certificates/02 Tide.flac.notice.json", "specifications/tides.v1.json", "record.txt"):  # fmt: skip
            self.assertIn(name, there)
        found = self.ask("GET", f"{self.path}/archive")
        self.assertEqual((found["size_bytes"], found["current"]), (len(self.content), True))
        path = f"/api/archives/{found['id']}/file"
        for start, end in ((0, 9), (2_000_000, 2_000_999), (len(self.content) - 40, len(self.content) - 1)):
            part = self.client.get(path, headers={"range": f"bytes={start}-{end}"})
            self.assertEqual((part.status_code, part.content), (206, self.content[start : end + 1]))

    def test_on_another_installation_everything_is_as_it_was_down_to_the_hashes(self):
        here = self.seen()
        sums = self.members()[manifest.NAME]
        with self.elsewhere():
            found = self.brought(self.content)
            self.assertEqual(found["outcome"], {
                "production": self.production, "name": "Almanac: a mill", "recordings": 2, "files": 20, "before": False,
                "unknown": [],
            })  # fmt: skip
            again = self.archived()
            there = self.seen()
            for what, shown in here.items():
                with self.subTest(what=what):
                    self.assertEqual(there[what], shown)
            self.assertEqual(self.members(again)[manifest.NAME], sums, "the archive made there lists the same files")
            # Work goes on there.
            self.assertEqual(self.ask("GET", "/imports")[0]["outcome"]["production"], self.production)
            self.ask("POST", f"{self.path}/delivery/make", 202, json={})
            self.do_all("conform", "deliver")
            rows = self.ask("GET", f"{self.path}/delivery")["rows"]
            self.assertEqual([row["state"] for row in rows], ["made", "made"])

            # Once more it changes nothing, and puts back what is missing.
            lost = self.members()["sources/01 Tide.wav"]
            Store(settings().store).remove(hashlib.sha256(lost).hexdigest())
            again = self.brought(self.content)["outcome"]
            self.assertEqual((again["before"], again["files"]), (True, 1))
            self.assertTrue(Store(settings().store).has(hashlib.sha256(lost).hexdigest()))
            self.assertEqual(self.ask("GET", f"{self.path}/delivery")["rows"], rows)

    def test_where_its_production_was_erased_it_never_takes_the_place_of_anything_else(self):
        members = self.members()
        with self.elsewhere():
            self.brought(self.content)
            mine, type(self).production = self.production, self.make("podcast-mono", "Harbour")
            other = self.send("Evening.wav", self.short(-24))
            type(self).production = mine
            shown = self.ask("GET", f"/recordings/{other}")
            self.ask("POST", f"{self.path}/remove", 204)
            self.ask("POST", "/removed/erase", json={"items": [{"kind": "production", "id": mine}]})
            first = members["rows/recording.jsonl"].splitlines(keepends=True)[0]
            claimed = json.dumps(json.loads(first) | {"id": other}).encode() + b"\n"
            content = self.zipped(self.resealed(members | {"rows/recording.jsonl": members["rows/recording.jsonl"] + claimed}))
            found = self.brought(content, "claims.zip")
            self.assertIn("“rows/recording.jsonl” speaks of another production", found["work"]["error"])
            self.assertEqual(self.ask("GET", f"/recordings/{other}"), shown)
            self.assertTrue(self.ask("GET", f"{self.path}/sheet")["erased"])
            self.assertEqual(self.brought(self.content)["work"]["state"], "done")
            self.assertFalse(self.ask("GET", f"{self.path}/sheet")["erased"])

    def test_a_key_that_is_not_trusted_is_shown_to_be_compared_before_anything_is_imported(self):
        own = certificates.keys().own().thumbprint()
        with self.elsewhere(trusting=False):
            found = self.brought(self.content)
            unknown = [{"fingerprint": own, "certificates": 6, "sealed_archive": True}]
            self.assertEqual((found["outcome"]["unknown"], found["outcome"]["production"]), (unknown, None))
            self.assertEqual(self.ask("GET", "/productions"), [])
            path = f"/imports/{found['id']}/trust"
            self.ask("POST", path, 404, json={"keys": ["A" * 43]})
            self.ask("POST", path, 204, json={"keys": [own]})
            self.do_all("import")
            self.assertEqual([one["id"] for one in self.ask("GET", "/productions")], [self.production])
            paper = self.members()["certificates/01 Tide.flac.certificate.json"].decode()
            check = self.ask("POST", "/verifyings", 201, json={"certificate_name": "a", "certificate": paper})["id"]
            self.work(check)
            self.assertTrue(self.ask("GET", f"/verifyings/{check}")["report"]["genuine"])
            self.ask("DELETE", f"/imports/{found['id']}", 204)
            self.assertEqual(self.ask("GET", "/imports"), [])

    def test_an_archive_that_was_changed_is_refused_by_name(self):
        members = self.members()
        source, rows = "sources/01 Tide.wav", "rows/certificate.jsonl"
        sample = bytearray(members[source])
        sample[-1] ^= 1
        stranger = KeyFolder(self.folder / "stranger").own()

        def without(name: str) -> dict[str, bytes]:
            return {one: content for one, content in members.items() if one != name}

        def edited(name: str, before: str, after: str) -> dict[str, bytes]:
            text = members[name].decode()
            self.assertIn(before, text)
            return members | {name: text.replace(before, after, 1).encode()}

        lines = members[rows].splitlines(keepends=True)
        cases = {
            "a sample": (members | {source: bytes(sample)}, f"“{source}” is not what its list says."),
            "a file gone": (without(source), f"“{source}” is missing."),
            "a file more": (members | {"sources/03.wav": b"x"}, "“sources/03.wav” is in it, but not in its list."),
            "a word in a row": (edited("rows/note.jsonl", "a word", "no word"), "“rows/note.jsonl” is not what its list says."),
            "its list": (edited(manifest.NAME, "record.txt", "record.doc"), f"its list, “{manifest.NAME}”, is missing or another."),
            "no list": (without(manifest.NAME), f"its list, “{manifest.NAME}”, is missing or another."),
            "its head": (edited("archive.json", "Almanac", "Yearbook"), "“archive.json” is not what was sealed."),
            "a certificate, all else sealed anew": (
                self.resealed(edited(rows, '"rms_dbfs"', '"rms_dbfz"')),
                "is not what was sealed.",
            ),
            "what is noted of one": (
                self.resealed(edited(rows, '"name":"01 Tide.flac"', '"name":"01 Tide.flac","x":1')), "was made by a newer version",
            ),
            "an ending without a notice": (
                self.resealed(members | {rows: b"".join(_ended(line) for line in lines)}), "is not what it says (ending)",
            ),
            "a file that a row names": (
                self.resealed(without(source)), f"the file with SHA-256 {hashlib.sha256(members[source]).hexdigest()} is missing",
            ),
            "another production": (
                self.resealed(members, id=str(uuid4())), "it holds another production than its head says.",
            ),
            "a recording of none": (
                self.resealed(edited("rows/note.jsonl", self.recordings[1], str(uuid4()))),
                "“rows/note.jsonl” speaks of another production.",
            ),
            "no row": (
                self.resealed(members | {"rows/deed.jsonl": b"[1]\n"}), "line 1 of “rows/deed.jsonl” can't be used: it is no row.",
            ),
            "no JSON": (
                self.resealed(members | {"rows/deed.jsonl": b"{}\n" + b"[" * 100_000 + b"\n"}),
                "line 1 of “rows/deed.jsonl” can't be used: it has no “id”.",
            ),
            "JSON without an end": (self.resealed(members | {"rows/deed.jsonl": b"[" * 100_000}), "it is no JSON."),
            "a certificate without content": (
                self.resealed(edited(rows, '"sealed":{"certificate":', '"sealed":{"paper":')), "can't be used: it can't be read.",
            ),
            "a number for a text": (
                self.resealed(edited("rows/note.jsonl", '"text":"a word"', '"text":7')), "its “text” can't be used.",
            ),
            "newer methods": (
                self.resealed(edited("rows/inspection.jsonl", f'"methods_version":{current()},"pyr', '"methods_version":99,"pyr')),
                "it was measured by methods of version 99",
            ),
            "a newer form": (self.resealed(members, version=2), "its form is version 2"),
            "no head": (without("archive.json"), "there is no “archive.json” in it"),
            "a head of another kind": (members | {"archive.json": b"{}"}, "it has no “archive” and “seal”"),
        }  # fmt: skip
        with self.elsewhere():
            own = certificates.keys().own().thumbprint()
            for what, (changed, said) in cases.items():
                with self.subTest(what=what):
                    self.assertIn(said, self.refusal(self.zipped(changed)))
            with self.subTest(what="a file twice"):
                self.assertIn("is in it twice", self.refusal(self.zipped(members, source)))
            with self.subTest(what="cut off"):
                self.assertIn("can't be read as a ZIP file", self.refusal(self.content[:-1000]))
            with self.subTest(what="not a ZIP"):
                self.assertIn("can't be read as a ZIP file", self.refusal(b"RIFF" + bytes(1000)))
            with self.subTest(what="sealed anew by a stranger"):
                found = self.brought(self.zipped(self.resealed(edited("rows/note.jsonl", "a word", "no word"), stranger)))
                unknown = [one["fingerprint"] for one in found["outcome"]["unknown"]]
                self.assertEqual((unknown, self.ask("GET", "/productions")), ([stranger.thumbprint()], []))
            store = Path(settings().store)
            left = [path for path in store.rglob("*") if path.is_file()]
            kept = [sha256 for sha256, _ in Store(str(store)).listed()]
            self.assertEqual(len(left), 2, "a file and its checksums")
            self.assertEqual(len(kept), 1, "nothing is left of what was refused, but for the archive that waits for a key")
            self.assertNotEqual(own, stranger.thumbprint())
            with self.subTest(what="packed again by another program"):
                self.assertEqual(self.brought(self.zipped(members))["outcome"]["production"], self.production)

    def test_given_up_at_any_moment_nothing_is_there_and_another_try_does_it_all(self):
        path = self.folder / "mill.zip"
        path.write_bytes(self.content)
        with self.elsewhere():
            for most in (0, 5, 20, 40, 60):
                asked = 0

                def told(_stage: str, _fraction: float, most: int = most) -> bool:
                    nonlocal asked
                    asked += 1
                    return asked > most

                with (
                    self.subTest(most=most),
                    self.assertRaises(Cancelled),
                    checking.archive(path, name="mill.zip") as archive,
                ):
                    importing.brought_in(archive, Store(settings().store), told)
            self.assertEqual(self.ask("GET", "/productions"), [])
            self.assertEqual(self.brought(self.content)["outcome"]["files"], 20)

    def test_an_archive_of_the_first_form_is_imported_for_good(self):
        with self.elsewhere(trusting=False):
            found = self.brought((GOLDEN / "archive-1.zip").read_bytes())
            keys = [one["fingerprint"] for one in found["outcome"]["unknown"]]
            self.ask("POST", f"/imports/{found['id']}/trust", 204, json={"keys": keys})
            self.do_all("import")
            outcome = self.ask("GET", "/imports")[0]["outcome"]
            self.assertEqual((outcome["name"], outcome["recordings"]), ("Almanac: a mill", 2))
            path = f"/productions/{outcome['production']}"
            for rest in ("", "/sheet", "/delivery", "/disk"):
                self.ask("GET", f"{path}{rest}")
            rows = self.ask("GET", f"/certificates?production={outcome['production']}")["rows"]
            self.assertEqual(sorted(row["stands"] for row in rows), ["stands"] * 3 + ["superseded"] * 2 + ["withdrawn"])
            file = self.ask("GET", f"{path}/delivery")["rows"][0]
            stored = self.ask("GET", f"/deliverables/{file['deliverable']}/file")
            self.assertEqual(hashlib.sha256(stored).hexdigest(), file["sha256"])
            told = [deed["text"] for deed in self.ask("GET", f"{path}/record", params={"count": 500})["deeds"]]
            self.assertIn("The certificate of “02 Tide.flac” was withdrawn: The wrong take", told)

    def test_what_is_written_here_under_the_same_name_is_never_replaced(self):
        with self.elsewhere():
            limits = [*OWN["limits"][1:], {"quantity": "sample_peak_dbfs", "high": -1.0}]
            self.ask(
                "PUT",
                "/specifications/file",
                201,
                params={"name": "a"},
                content=json.dumps({"id": "tides", **OWN, "limits": limits}),
            )
            said = self.refusal(self.content)
            self.assertIn("the specification “Chapters of tides”, version 1, is different here", said)

    def test_an_archive_comes_in_piece_by_piece_and_can_be_cancelled(self):
        with self.elsewhere():
            incoming = Incoming(settings().incoming)
            uid, metadata = "a" * 32, {"filename": "mill.zip", ARCHIVE: "1"}
            incoming.allow(metadata, len(self.content))
            incoming.create(uid)
            incoming.note(uid, {"size": len(self.content), "offset": 0, "metadata": metadata})
            self.assertEqual([one["name"] for one in self.ask("GET", "/imports/uploads")], ["mill.zip"])
            incoming.path(uid).write_bytes(self.content)
            came = incoming.finish(uid, Store(settings().store))
            with transaction() as session:
                work = session.exec(select(Work).where(Work.subject_id == came)).one()
            self.ask("POST", f"/works/{work.id}/cancel", 202)
            self.do_all("import")
            found = self.ask("GET", "/imports")[0]
            self.assertEqual((found["work"]["state"], found["outcome"]), (WorkState.CANCELLED, None))
            self.ask("POST", f"/imports/{came}/again", 204)
            self.ask("DELETE", f"/imports/{came}", 409)
            self.do_all("import")
            self.assertEqual(self.ask("GET", "/imports")[0]["outcome"]["production"], self.production)

    def test_an_archive_waits_for_what_is_under_way_and_goes_with_what_it_was_made_of(self):
        name = "Bulletin"
        production = type(self).make("tides", name=name)
        path = f"/productions/{production}"
        came = self.client.put(f"/api{path}/recordings", params={"name": "one.wav"}, content=self.short(-21)).json()["id"]
        self.assertIn("has work under way", self.ask("POST", f"{path}/archive", 409)["error"])
        self.work(came)
        made = self.ask("POST", f"{path}/archive", 202)["id"]
        self.assertEqual(self.ask("POST", f"{path}/archive", 202)["id"], made, "it is not begun twice")
        self.assertEqual(self.ask("GET", f"{path}/archive")["work"]["state"], "waiting")
        self.ask("GET", f"/archives/{made}/file", 404)
        self.work(made)
        self.assertTrue(self.ask("GET", f"{path}/archive")["current"])
        self.ask("PATCH", path, 204, json={"notes": "x", "name": "Bulletin of tides"})
        self.assertFalse(self.ask("GET", f"{path}/archive")["current"], "something was done since")
        later = self.ask("POST", f"{path}/archive", 202)["id"]
        self.work(later)
        self.ask("GET", f"/archives/{made}/file", 404)
        self.assertEqual(self.ask("GET", f"{path}/archive")["id"], later)
        sha256 = self.ask("GET", f"/recordings/{came}")["sha256"]
        where = self.application.store.local(sha256)
        whole = where.read_bytes()
        where.chmod(0o600)
        where.write_bytes(whole[:-1] + b"x")
        broken = self.ask("POST", f"{path}/archive", 202)["id"]
        self.work(broken)
        work = self.ask("GET", f"{path}/archive")["work"]
        self.assertEqual(work["state"], "failed")
        self.assertIn("“sources/one.wav” is damaged", work["error"])
        where.unlink()
        self.assertIn("is missing from Ispettore's store", self.ask("GET", f"/archives/{later}/file", 410)["error"])


class WhatIsArchived(unittest.TestCase):
    def test_every_table_is_archived_or_left_out_for_a_reason(self):
        own = {Verifying, ArchiveRecord, Importing}  # checks of papers from anywhere, and archives themselves
        own |= {DefaultsRecord}  # what new work begins with on one installation
        own |= {Person, InvitationRecord, SessionRecord, PasskeyRecord, ChallengeRecord, TokenRecord, SignInTry}  # and who uses it
        own |= {TrailRecord}  # of the installation: exported by itself
        own |= {WorkerProcess}  # who works for it just now
        own |= {WatchedFolder, WatchedFile, Webhook, WebhookStatus, WebhookMessage}  # what comes in and is told by itself
        tables = {mapper.class_ for mapper in SQLModel._sa_registry.mappers}
        self.assertEqual(tables - set(rows.TABLES), own)

    def test_every_hash_of_a_stored_file_is_looked_for_in_an_archive(self):
        named = {(model, column) for model, columns in naming.NAMING.items() for column in columns}
        others = {(CertificateRecord, name) for name in ("sha256", "file_sha256", "successor_sha256")}
        others |= {(Listening, "sha256"), (NoteRecord, "sha256")}  # they say which bytes, and hold none
        others |= {(InspectionRecord, "sha256")}  # what a sound is known by: that of a recording, or of it with its edits
        found = {
            (model, column.name) for model in rows.TABLES for column in rows.table(model).columns if column.name.endswith("sha256")
        }
        self.assertEqual(found, named | others)


def _ended(line: bytes) -> bytes:
    """The row of a certificate, said to be withdrawn without a notice."""
    return line.replace(b'"ending":null', b'"ending":"withdrawn"')
