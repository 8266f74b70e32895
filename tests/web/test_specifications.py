"""Specifications over the routes: copied, changed, compared, taken out and brought in, and what that does to productions."""

import json
from uuid import UUID

import numpy as np
import soundfile
from fastapi.testclient import TestClient

from ispettore.core.spec.builtin import impostor, versions
from ispettore.core.spec.catalogue import schema, shipped
from ispettore.studio.catalogue import specifications
from ispettore.studio.database import transaction
from ispettore.studio.tables import Production, Work
from ispettore.studio.worker.doing import do
from ispettore.web.app import build
from tests import signals
from tests.support import ApplicationCase, work_for

RATE = 44_100


class Specifications(ApplicationCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.client = cls.enterClassContext(TestClient(build(), base_url="http://127.0.0.1"))
        path = cls.application.folder / "chapter.wav"
        soundfile.write(path, signals.voice_like(12, rms_dbfs=-22, rate=RATE, room_dbfs=-78), RATE, subtype="PCM_24")
        cls.content = path.read_bytes()

    def copy(self, name: str, of: str = "audiobook-retail") -> dict:
        made = self.client.post(f"/api/specifications/{of}/copy", json={"name": name})
        self.assertEqual(made.status_code, 201, made.text)
        return made.json()

    def keep(self, draft: dict, *, follows: int | None = None):
        return self.client.put(f"/api/specifications/{draft['id']}", json={"draft": draft, "follows": follows or draft["version"]})

    def view(self, identifier: str) -> dict:
        return self.client.get(f"/api/specifications/{identifier}").json()

    @staticmethod
    def changed(draft: dict, quantity: str, **more) -> dict:
        limits = [{**limit, **more} if limit["quantity"] == quantity else limit for limit in draft["limits"]]
        return {**draft, "limits": limits}

    def test_what_ships_is_listed_explained_and_stays_as_it_is(self):
        listed = self.client.get("/api/specifications").json()
        self.assertEqual([found["id"] for found in listed[: len(shipped())]], list(shipped()))
        retail = self.view("audiobook-retail")
        self.assertTrue(retail["ships"])
        self.assertEqual(retail["versions"], [{"version": each, "created_at": None, "certificates": 0} for each in (1, 2, 3)])
        changed = self.client.get("/api/specifications/audiobook-retail/changes?before=1&after=2").json()
        self.assertEqual(len(changed), 2)
        first = retail["sentences"][0]["pieces"]
        self.assertEqual([piece["part"] for piece in first], ["words", "low", "words", "high", "words"])
        refused = self.keep(retail["specification"])
        self.assertEqual(refused.status_code, 409)
        self.assertIn("Copy it to make changes", refused.json()["error"])
        self.assertEqual(self.client.get("/api/specifications/none").status_code, 404)
        self.assertEqual(self.client.get("/api/specifications/audiobook-retail/9").status_code, 404)
        self.assertEqual(self.client.get("/api/specification.schema.json").json(), json.loads(json.dumps(schema())))

    def test_productions_follow_what_ships_and_older_versions_stay_known(self):
        first, *_, newest = versions("audiobook-retail")
        self.assertEqual(impostor(first.id, first.name, first), "", "an older certificate's specification is no impostor")
        softer = first.model_copy(update={"limits": first.limits[1:]})
        self.assertIn("built in and asks for something else", impostor(first.id, first.name, softer))
        made = self.client.post("/api/productions", json={"name": "Years ago", "specification_id": first.id}).json()["id"]
        with transaction() as session:
            production = session.get(Production, UUID(made))
            production.specification = first.model_dump(mode="json")
            session.add(production)
        self.assertEqual(specifications.follow_shipped(), 1)
        self.assertEqual(self.client.get(f"/api/productions/{made}").json()["specification"], newest.model_dump(mode="json"))
        self.assertEqual(specifications.follow_shipped(), 0)

    def test_advice_has_a_column_once_a_recording_misses_it(self):
        made = self.client.post("/api/productions", json={"name": "Sides", "specification_id": "audiobook-retail"}).json()["id"]

        def columns() -> list[str]:
            return [limit["quantity"] for limit in self.client.get(f"/api/productions/{made}").json()["columns"]]

        def bring_in(name: str, content: bytes) -> None:
            put = self.client.put(f"/api/productions/{made}/recordings", params={"name": name}, content=content)
            do(work_for(put.json()["id"]).id, self.application.store)

        bring_in("mono.wav", self.content)
        self.assertEqual(columns()[:3], ["rms_dbfs", "sample_peak_dbfs", "noise_floor_dbfs"])
        self.assertNotIn("mono_loss_db", columns())
        path = self.application.folder / "inverted.wav"
        voice = signals.voice_like(12, rms_dbfs=-22, rate=RATE, room_dbfs=-78)
        soundfile.write(path, np.stack((voice, -voice), axis=1), RATE, subtype="PCM_24")
        bring_in("inverted.wav", path.read_bytes())
        self.assertIn("mono_loss_db", columns())
        self.assertIn("channel_correlation", columns())

    def test_a_changed_limit_judges_existing_readings_anew_and_measures_nothing(self):
        own = self.copy("House limits")
        self.assertEqual((own["id"], own["version"]), ("house-limits", 1))
        production = self.client.post("/api/productions", json={"name": "Almanac", "specification_id": own["id"]}).json()["id"]
        put = self.client.put(f"/api/productions/{production}/recordings", params={"name": "a.wav"}, content=self.content)
        do(work_for(put.json()["id"]).id, self.application.store)

        def rms() -> dict:
            [row] = self.client.get(f"/api/productions/{production}").json()["recordings"]
            return next(limit for limit in row["verdict"]["limits"] if limit["quantity"] == "rms_dbfs")

        def works() -> int:
            with transaction() as session:
                return session.query(Work).count()

        before, count = rms(), works()
        self.assertTrue(before["passes"])
        kept = self.keep(self.changed(own, "rms_dbfs", low=-20))
        self.assertEqual((kept.status_code, kept.json()["version"]), (200, 2))
        self.assertEqual((rms()["position"], rms()["reading"]), ("under", before["reading"]))
        self.assertEqual(works(), count)
        seen = self.view(own["id"])
        self.assertEqual([version["version"] for version in seen["versions"]], [1, 2])
        self.assertEqual(seen["productions"], ["Almanac"])
        self.assertEqual(self.client.get(f"/api/specifications/{own['id']}/1").json(), own)
        [difference] = self.client.get(f"/api/specifications/{own['id']}/changes?before=1&after=2").json()
        self.assertEqual(difference["before"], "RMS level between −23 and −18 dBFS over the whole file")
        self.assertEqual(difference["after"], "RMS level between −20 and −18 dBFS over the whole file")

        self.assertEqual(self.keep(kept.json()).json()["version"], 2, "what asks the same is not kept twice")
        back = self.keep({**own, "version": 2})
        self.assertEqual(back.json()["version"], 3)
        self.assertTrue(rms()["passes"])

    def test_a_certificate_keeps_the_version_it_was_made_by(self):
        own = self.copy("Certified by")
        production = self.client.post("/api/productions", json={"name": "Almanac", "specification_id": own["id"]}).json()["id"]
        put = self.client.put(f"/api/productions/{production}/recordings", params={"name": "a.wav"}, content=self.content)
        do(work_for(put.json()["id"]).id, self.application.store)
        asked = self.client.post(f"/api/recordings/{put.json()['id']}/conform", json={}).json()["id"]
        do(work_for(asked).id, self.application.store)
        self.keep(self.changed(own, "sample_peak_dbfs", high=-6))
        self.assertEqual([version["certificates"] for version in self.view(own["id"])["versions"]], [1, 0])
        certificate = self.client.get(f"/api/conformings/{asked}/certificate").json()
        self.assertEqual(certificate["certificate"]["specification"]["version"], 1)

    def test_a_draft_is_examined_while_it_is_written(self):
        own = self.copy("Drafted")
        fine = self.client.post("/api/specifications/examine", json=own).json()
        self.assertEqual((fine["objections"], len(fine["sentences"])), ([], len(own["limits"])))
        bad = self.changed(own, "rms_dbfs", low=-10)
        found = self.client.post("/api/specifications/examine", json=bad).json()
        self.assertEqual([objection["limits"] for objection in found["objections"]], [[0]])
        self.assertIsNone(found["sentences"][0])
        self.assertEqual(found["sentences"][1]["quantity"], "sample_peak_dbfs")
        refused = self.keep(bad)
        self.assertEqual(refused.status_code, 422)
        self.assertIn("minimum of RMS level", refused.json()["error"])
        self.assertEqual(self.view(own["id"])["versions"][-1]["version"], 1)
        for odd in ({}, {"limits": 3}, {"limits": [None, 3, []]}):
            self.assertEqual(self.client.post("/api/specifications/examine", json=odd).status_code, 200)

    def test_nobody_overwrites_what_somebody_else_kept_meanwhile(self):
        own = self.copy("Shared")
        self.keep(self.changed(own, "rms_dbfs", low=-22))
        late = self.keep(self.changed(own, "rms_dbfs", low=-21), follows=1)
        self.assertEqual(late.status_code, 409)
        self.assertIn("is now at version 2", late.json()["error"])

    def test_files_go_out_and_come_in(self):
        own = self.copy("Harbour, daily")
        answer = self.client.get(f"/api/specifications/{own['id']}/1/file")
        self.assertIn("harbour-daily.v1.json", answer.headers["content-disposition"])

        def bring(data: dict, name="mine.json"):
            return self.client.put("/api/specifications/file", params={"name": name}, content=json.dumps(data).encode())

        data = answer.json()
        self.assertEqual(data["$schema"], schema()["$id"])
        self.assertEqual((bring(data).json()["id"], bring(data).json()["version"]), (own["id"], 1))
        data["limits"][0]["low"] = -22
        self.assertEqual((bring(data).json()["id"], bring(data).json()["version"]), (own["id"], 2))
        elsewhere = {**data, "id": "from-elsewhere", "version": 7}
        self.assertEqual((bring(elsewhere).json()["id"], bring(elsewhere).json()["version"]), ("from-elsewhere", 7))
        retail = self.client.get("/api/specifications/audiobook-retail/1/file").json()
        self.assertEqual(bring(retail).json()["id"], "audiobook-retail")
        retail["limits"][0]["low"] = -22
        for changes in ({}, {"id": "mine"}):
            refused = bring({**retail, **changes})
            self.assertEqual(refused.status_code, 422)
            self.assertIn("is that of “Audiobook, retail”, which is built in", refused.json()["error"])
        passed_off = self.client.put(
            f"/api/specifications/{own['id']}", json={"follows": 2, "draft": {**data, "name": "Audiobook, retail"}}
        )
        self.assertIn("is that of “Audiobook, retail”", passed_off.json()["error"])
        many = {**data, "id": "many", "limits": data["limits"][:1] * 1_500}
        self.assertIn("It has 1500 limits; the most is 100", bring(many).json()["error"])
        self.assertEqual(len(self.client.post("/api/specifications/examine", json=many).json()["objections"]), 1)
        for content, words in ((b"{", "it is not JSON"), (b" " * 1_100_000, "larger than 1 MB")):
            refused = self.client.put("/api/specifications/file", params={"name": "mine.json"}, content=content)
            self.assertEqual(refused.status_code, 422)
            self.assertIn(words, refused.json()["error"])
            self.assertIn("“mine.json”", refused.json()["error"])

    def test_copies_with_the_same_name_stand_side_by_side(self):
        one, two = self.copy("Twice"), self.copy("Twice")
        self.assertEqual((one["id"], two["id"]), ("twice", "twice-2"))
        self.assertEqual(self.copy("Ü", of="twice")["id"], "specification")
        self.assertEqual(self.client.post("/api/specifications/none/copy", json={"name": "A"}).status_code, 404)
        self.assertEqual(self.client.post("/api/specifications/twice/copy", json={"name": "  "}).status_code, 422)
        self.assertIn(two, self.client.get("/api/specifications").json())
