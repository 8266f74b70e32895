"""Certificates over the wire: listed, printed, withdrawn, issued again; of whole productions; the keys; and checks of all."""

import base64
import io
import json
import zipfile
from datetime import UTC, datetime
from uuid import uuid4

from sqlmodel import select

from ispettore.core.certify import seal, verification
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.notices import Notice
from ispettore.core.certify.package_check import verify_package
from ispettore.core.certify.verification import Paper
from ispettore.studio.catalogue import certificates
from ispettore.studio.database import transaction
from ispettore.studio.settings import settings
from ispettore.studio.tables import Work
from ispettore.studio.worker.doing import do
from tests.web.wire import WireCase

OWN = {
    "name": "Chapters of tides",
    "limits": [
        {"quantity": "sample_peak_dbfs", "high": -3.0},
        {"quantity": "rms_dbfs", "low": -23.0, "high": -18.0},
        {"quantity": "container", "one_of": ["flac"], "applies_to": "deliverable"},
        {"quantity": "numbers_missing", "high": 0, "applies_to": "production"},
        {"quantity": "opening_credits", "low": 1, "applies_to": "production", "severity": "advice"},
    ],
}


class Certificates(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        text = json.dumps({"id": "tides", **OWN})
        made = cls.client.put("/api/specifications/file", params={"name": "tides.json"}, content=text).json()
        cls.specification = made["id"]

    def setUp(self):
        type(self).production = self.make(self.specification, name=f"Almanac {self.id().rsplit('.', 1)[1][:40]}")
        self.path = f"/productions/{self.production}"
        self.recordings = [self.send(f"0{number} Tide.wav", self.voice(-20 - number / 10)) for number in (1, 2)]

    def made(self) -> list[dict]:
        """Have all files made; their rows."""
        self.ask("POST", f"{self.path}/delivery/make", 202, json={})
        for kind in ("conform", "deliver"):
            with transaction() as session:
                waiting = session.exec(select(Work.id).where(Work.kind == kind, Work.state == "waiting")).all()
            for work in waiting:
                do(work, self.application.store)
        return self.rows()

    def rows(self) -> list[dict]:
        return self.ask("GET", f"{self.path}/delivery")["rows"]

    def listed(self, **wanted) -> list[dict]:
        return self.ask("GET", "/certificates", params={"production": self.production, **wanted})["rows"]

    def check(self, paper: bytes, file: bytes | None, name: str = "x.flac", notices=()) -> dict:
        text = paper.decode() if paper.startswith(b"{") else "data:application/pdf;base64," + base64.b64encode(paper).decode()
        body = {"certificate_name": "paper", "certificate": text, "notices": list(notices)}
        if file is not None:
            body["file_name"] = name
        check = self.ask("POST", "/verifyings", 201, json=body)["id"]
        if file is not None:
            self.ask("PUT", f"/verifyings/{check}/file", 202, content=file)
        self.work(check)
        return self.ask("GET", f"/verifyings/{check}")["report"]

    def fetch(self, path: str) -> bytes:
        answer = self.client.get(f"/api{path}")
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.content

    def test_who_answers_accepted_findings_and_listening_are_in_it(self):
        self.ask("PATCH", f"{self.path}/delivery", 204, json={"certified_by": " Ilse Weir "})
        finding = {"kind": "click", "start_s": 1.0, "end_s": 1.1}
        self.ask("PUT", f"/recordings/{self.recordings[0]}/accepted", 204, json={"findings": [finding], "reason": "The latch"})
        row = self.made()[0]
        stated = self.ask("GET", f"/certificates/{row['certificate']}")
        self.assertEqual(stated["row"]["certified_by"], "Ilse Weir")
        self.assertEqual(stated["accepted"], ["0:01.0 Click: The latch"])
        lines = {line["name"]: line["text"] for line in stated["lines"]}
        self.assertEqual((lines["Certified by"], lines["Listening"]), ("Ilse Weir", "Not recorded"))
        self.assertEqual(stated["key_role"], "own")
        self.assertIsNotNone(stated["ribbon"])

        spans = [{"start_s": 0, "end_s": 60, "speed": 1}]
        heard = {"id": str(uuid4()), "of": "deliverable", "subject": row["deliverable"], "who": "Morten Ebb", "spans": spans}
        self.ask("POST", "/listenings", 204, json=heard)
        told = {line["name"]: line["text"] for line in self.ask("GET", f"/certificates/{row['certificate']}")["lines"]}
        self.assertEqual(told["Listening"], "Heard completely by Morten Ebb since (not part of the seal)")

        again = self.ask("POST", f"/certificates/{row['certificate']}/issue-again", 201, json={"reason": "Listened through"})["id"]
        newer, older = self.ask("GET", f"/certificates/{again}"), self.ask("GET", f"/certificates/{row['certificate']}")
        self.assertEqual({line["name"]: line["text"] for line in newer["lines"]}["Listening"], "Heard completely by Morten Ebb")
        self.assertEqual(
            (newer["replaces"], older["row"]["successor"], older["row"]["stands"]), (row["certificate"], again, "superseded")
        )
        file = self.fetch(f"/deliverables/{row['deliverable']}/file")
        for of, ending in ((again, None), (row["certificate"], "superseded")):
            report = self.check(self.fetch(f"/certificates/{of}/sealed.json"), file)
            with self.subTest(ending=ending):
                self.assertEqual((report["genuine"], report["ending"]), (True, ending))
        self.assertIn("Listened through. Its replacement is", report["ended"])
        self.ask("POST", f"/certificates/{row['certificate']}/issue-again", 422, json={"reason": "Again"})
        self.ask("POST", f"/certificates/{again}/issue-again", 422, json={"reason": " "})
        self.assertEqual([one["stands"] for one in self.listed(search="01 Tide", of="deliverable")], ["stands", "superseded"])

    def test_withdrawn_it_counts_nowhere_and_verification_says_why(self):
        row = self.made()[0]
        paper, file = (
            self.fetch(path)
            for path in (f"/certificates/{row['certificate']}/sealed.json", f"/deliverables/{row['deliverable']}/file")
        )
        self.ask("POST", f"/certificates/{row['certificate']}/withdraw", 422, json={"reason": ""})
        self.ask("POST", f"/certificates/{row['certificate']}/withdraw", 204, json={"reason": "A misread word", "by": "Ilse Weir"})
        self.ask("POST", f"/certificates/{row['certificate']}/withdraw", 422, json={"reason": "Again"})
        report = self.check(paper, file)
        self.assertEqual((report["genuine"], report["intact"], report["ending"]), (False, True, "withdrawn"))
        self.assertIn("by Ilse Weir: A misread word.", report["ended"])
        now = self.rows()[0]
        self.assertEqual(
            (now["state"], now["reason"], now["certified"]), ("to make again", "Its certificate was withdrawn.", False)
        )
        notice = self.fetch(f"/certificates/{row['certificate']}/notice.json")
        self.assertEqual(json.loads(notice)["notice"]["certificate"], hash_of(json.loads(paper)["certificate"]))
        # On a machine that knows nothing of it the notice tells; so does the folder of keys to the command line of this one.
        keys = KeyFolder(settings().keys)
        self.assertIn(json.loads(notice), keys.notices())
        printed = self.fetch(f"/certificates/{row['certificate']}/printed.pdf")
        self.assertEqual(verification.read(printed, name="p").sealed, json.loads(paper))
        # Made again, it has a new one.
        again = self.made()[0]
        self.assertEqual((again["state"], again["certified"]), ("made", True))
        self.assertNotEqual(again["certificate"], row["certificate"])

    def test_a_withdrawn_attempt_is_certified_no_more(self):
        attempt = self.ask("POST", f"/recordings/{self.recordings[0]}/conform", 202, json={})["id"]
        self.work(attempt)
        status = lambda: self.ask("GET", f"{self.path}/sheet")["entries"][0]["status"]  # noqa: E731
        self.assertEqual(status(), "certified")
        certificate = self.ask("GET", f"/recordings/{self.recordings[0]}")["conformings"][0]["certificate"]
        self.ask("POST", f"/certificates/{certificate}/withdraw", 204, json={"reason": "The wrong take"})
        self.assertEqual(status(), "conformed")
        self.ask("GET", f"/conformings/{attempt}/certificate", 404)
        self.assertEqual(self.ask("GET", f"/certificates/{certificate}")["row"]["stands"], "withdrawn")

    def test_made_again_with_other_tags_the_earlier_is_superseded(self):
        row = self.made()[0]
        self.ask("PATCH", f"{self.path}/delivery", 204, json={"narrator": "Morten Ebb"})
        newer = self.made()[0]
        older = self.ask("GET", f"/certificates/{row['certificate']}")["row"]
        self.assertEqual((older["stands"], older["successor"]), ("superseded", newer["certificate"]))
        self.assertEqual(older["reason"], "It was made again with other tags")
        papers = [json.loads(self.fetch(f"/certificates/{one['certificate']}/sealed.json"))["certificate"] for one in (row, newer)]
        self.assertNotEqual(papers[0]["file"]["sha256"], papers[1]["file"]["sha256"])
        self.assertEqual(papers[0]["file"]["sound_sha256"], papers[1]["file"]["sound_sha256"])
        report = self.check(json.dumps(json.loads(self.fetch(f"/certificates/{row['certificate']}/sealed.json"))).encode(),
                            self.fetch(f"/deliverables/{newer['deliverable']}/file"))  # fmt: skip
        self.assertIn("was only re-tagged", report["problems"][0])

    def test_the_pdf_alone_and_with_its_file(self):
        row = self.made()[0]
        printed = self.fetch(f"/deliverables/{row['deliverable']}/certificate.pdf")
        self.assertEqual(printed, self.fetch(f"/certificates/{row['certificate']}/printed.pdf"))
        alone = self.check(printed, None)
        self.assertEqual((alone["genuine"], alone["given"], alone["problems"]), (True, False, []))
        self.assertIn("Only the certificate was checked", alone["said"])
        whole = self.check(printed, self.fetch(f"/deliverables/{row['deliverable']}/file"))
        self.assertEqual((whole["genuine"], whole["given"]), (True, True))
        self.assertEqual(whole["stated"]["name"], "01 Tide.flac")
        for text in ("data:application/pdf;base64,!!", "data:application/pdf;base64,aGVsbG8="):
            body = {"certificate_name": "paper.pdf", "certificate": text}
            self.assertIn("it is no PDF", self.ask("POST", "/verifyings", 422, json=body)["error"])

    def test_a_production_is_certified_and_its_package_stands_by_itself(self):
        state = self.ask("GET", f"{self.path}/certificate")
        self.assertEqual(
            (state["certificate"], state["problem"]), (None, "2 of 2 files are not made yet: 01 Tide.flac, 02 Tide.flac.")
        )
        said = self.ask("POST", f"{self.path}/certificate", 422, json={})["error"]
        self.assertIn("2 of 2 files are not made yet", said)
        rows = self.made()
        self.ask("PATCH", f"{self.path}/delivery", 204, json={"certified_by": "Ilse Weir"})
        first = self.ask("POST", f"{self.path}/certificate", 201, json={})["id"]
        self.assertEqual(self.ask("POST", f"{self.path}/certificate", 201, json={})["id"], first, "asked twice, issued once")
        view = self.ask("GET", f"/certificates/{first}")
        self.assertEqual(view["row"]["certified_by"], "Ilse Weir")
        self.assertEqual([one["certificate"] for one in view["files"]], [row["certificate"] for row in rows])
        judged = {limit["quantity"]: limit["passes"] for limit in view["limits"]}
        self.assertEqual(judged, {"numbers_missing": True, "opening_credits": False}, "advice may be missed")
        self.assertEqual(
            self.ask("GET", f"{self.path}/certificate"), {"certificate": first, "current": True, "more": False, "problem": ""}
        )

        package = self.fetch(f"{self.path}/package.zip")
        inside = zipfile.ZipFile(io.BytesIO(package))
        [paper] = [inside.read(name) for name in inside.namelist() if name.endswith("/certificates/production.certificate.json")]
        self.assertEqual(paper, self.fetch(f"/certificates/{first}/sealed.json"))
        report = self.check(paper, package, "package.zip")
        self.assertEqual((report["genuine"], report["problems"], len(report["stated"]["parts"])), (True, [], 2))
        # A part of it is not the production.
        part = zipfile.ZipFile(io.BytesIO(self.fetch(f"{self.path}/package.zip?of={self.recordings[0]}")))
        self.assertFalse(any("production.certificate" in name for name in part.namelist()))
        # Anybody's own machine says the same, with the public key alone.
        elsewhere = KeyFolder(self.application.folder / "elsewhere")
        elsewhere.own()
        elsewhere.trust(self.fetch(f"/keys/{view['row']['key']}.pem"), name="Mill house")
        zipped = self.application.folder / "package.zip"
        zipped.write_bytes(package)
        self.assertEqual(verify_package(Paper(json.loads(paper)), zipped, keys=elsewhere).exit_code, 0)

        # More is known by now: another may take its place, this one is still of the files there are.
        self.ask("PATCH", f"{self.path}/delivery", 204, json={"certified_by": "Morten Ebb"})
        state = self.ask("GET", f"{self.path}/certificate")
        self.assertEqual((state["current"], state["more"]), (True, True))
        self.ask("PATCH", f"{self.path}/delivery", 204, json={"certified_by": "Ilse Weir"})
        self.assertFalse(self.ask("GET", f"{self.path}/certificate")["more"])

        # A file made again ends it, and says so.
        self.ask("PATCH", f"{self.path}/delivery", 204, json={"album": "Other"})
        self.made()
        self.assertFalse(self.ask("GET", f"{self.path}/certificate")["current"])
        self.assertEqual([one["stands"] for one in self.ask("GET", f"/certificates/{first}")["files"]], ["superseded"] * 2)
        self.assertFalse(
            any(
                "production.certificate" in name
                for name in zipfile.ZipFile(io.BytesIO(self.fetch(f"{self.path}/package.zip"))).namelist()
            )
        )
        second = self.ask("POST", f"{self.path}/certificate", 201, json={})["id"]
        older = self.ask("GET", f"/certificates/{first}")["row"]
        self.assertEqual((older["stands"], older["successor"]), ("superseded", second))
        self.assertEqual(older["reason"], "Files changed since: 01 Tide.flac, 02 Tide.flac.")
        self.assertIn("superseded", self.check(paper, package, "package.zip")["ended"])

    def test_a_production_that_misses_a_limit_is_not_certified(self):
        entry = {"recording": self.recordings[1], "entry": {"number": 3}}
        self.ask("PUT", f"{self.path}/entries", 204, json={"entries": [entry]})
        self.made()
        self.assertEqual(self.ask("GET", f"{self.path}/certificate")["problem"], "It misses Missing numbers.")
        self.assertIn("It misses Missing numbers.", self.ask("POST", f"{self.path}/certificate", 422, json={})["error"])

    def test_keys_are_shown_handed_out_trusted_and_rolled_over(self):
        row = self.made()[0]
        keys = self.ask("GET", "/keys")
        own = keys["keys"][0]
        self.assertEqual((own["role"], keys["problems"]), ("own", []))
        self.assertGreaterEqual(own["certificates"], 2)
        pem = self.fetch(f"/keys/{own['fingerprint']}.pem")
        self.assertTrue(pem.startswith(b"-----BEGIN PUBLIC KEY-----"))
        rolled = self.ask("POST", "/keys/roll", 201)["fingerprint"]
        self.assertEqual(
            [(one["role"], one["fingerprint"]) for one in self.ask("GET", "/keys")["keys"]][:2],
            [("own", rolled), ("retired", own["fingerprint"])],
        )
        report = self.check(
            self.fetch(f"/certificates/{row['certificate']}/sealed.json"), self.fetch(f"/deliverables/{row['deliverable']}/file")
        )
        self.assertEqual((report["genuine"], report["key"], report["key_id"]), (True, "known", own["fingerprint"]))
        self.assertEqual(self.ask("GET", f"/certificates/{row['certificate']}")["key_role"], "retired")
        # Withdrawn with the new key, it counts as well.
        self.ask("POST", f"/certificates/{row['certificate']}/withdraw", 204, json={"reason": "Rolled over"})
        self.assertEqual(self.check(self.fetch(f"/certificates/{row['certificate']}/sealed.json"), None)["ending"], "withdrawn")

        friend = KeyFolder(self.application.folder / "friend")
        friend.own()
        public = friend.listed()[0]
        told = self.ask("POST", "/keys", 201, params={"name": "Mill house"}, content=public.pem)
        self.assertEqual(told["fingerprint"], public.fingerprint)
        self.assertIn("counts already", self.ask("POST", "/keys", 422, params={"name": "x"}, content=public.pem)["error"])
        private = friend.own().as_pem(private=True)
        self.assertIn("private key", self.ask("POST", "/keys", 422, params={"name": "x"}, content=private)["error"])
        self.ask("DELETE", f"/keys/{public.fingerprint}", 204)
        self.ask("DELETE", f"/keys/{rolled}", 404)

    def test_a_strangers_certificate_and_notice(self):
        row = self.made()[0]
        file = self.fetch(f"/deliverables/{row['deliverable']}/file")
        content = json.loads(self.fetch(f"/certificates/{row['certificate']}/sealed.json"))["certificate"]
        stranger = KeyFolder(self.application.folder / "stranger")
        paper = json.dumps(seal.seal(content, stranger.own())).encode()
        self.assertEqual((self.check(paper, file)["genuine"], self.check(paper, file)["intact"]), (False, True))
        notice = Notice(
            certificate=hash_of(content), ending="withdrawn", when=datetime(2026, 11, 27, tzinfo=UTC), reason="No", issuer="x"
        )
        told = json.dumps(seal.seal(notice.model_dump(mode="json"), stranger.own(), what="notice"))
        self.assertEqual(self.check(paper, file, notices=[told])["ending"], "withdrawn", "by the very key of the certificate")
        mine = json.dumps(seal.seal(content, certificates.keys().own())).encode()
        report = self.check(mine, file, notices=[told])
        self.assertEqual((report["genuine"], report["ending"]), (True, None))
        self.assertIn("It does not count", " ".join(report["notes"]))
        self.assertIn(
            "no “notice” and “seal”",
            self.ask("POST", "/verifyings", 422, json={"certificate_name": "c", "certificate": mine.decode(), "notices": ["{}"]})[
                "error"
            ],
        )

    def test_what_is_not_there_is_said(self):
        nobody = "00000000-0000-0000-0000-000000000000"
        for path in ("", "/sealed.json", "/printed.pdf", "/notice.json"):
            self.ask("GET", f"/certificates/{nobody}{path}", 404)
        self.ask("POST", f"/certificates/{nobody}/withdraw", 404, json={"reason": "x"})
        self.ask("GET", f"/productions/{nobody}/certificate", 404)
        self.ask("GET", "/keys/nobody.pem", 404)
        row = self.made()[0]
        self.ask("GET", f"/certificates/{row['certificate']}/notice.json", 404)
        self.assertEqual(self.listed(search="no such name"), [])
        self.assertEqual(len(self.listed(search=row_hash(self, row))), 1)
        self.assertEqual(
            self.ask("GET", "/certificates", params={"production": self.production, "count": 1})["total"], len(self.listed())
        )


def row_hash(case: Certificates, row: dict) -> str:
    return case.ask("GET", f"/certificates/{row['certificate']}")["row"]["sha256"][:20]
