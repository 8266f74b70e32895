"""Kept treatments over the wire: saved from a draft, in versions, applied to many, where used, and their files."""

import json
import unittest

import jsonschema
import soundfile
from fastapi.testclient import TestClient

from ispettore.core.treat import keeping
from ispettore.studio.worker.doing import do
from ispettore.web.app import build
from tests import signals
from tests.support import ApplicationCase, work_for

RATE = 44_100
COMPRESSOR = {"kind": "compressor", "settings": {"threshold_dbfs": -18, "ratio": 2}}
SPOT = {"kind": "spot-gain", "settings": {"spots": [{"start_s": 1, "end_s": 2, "gain_db": -2}]}}
GAIN = {"kind": "gain", "settings": {"gain_db": 4}}


class Keeping(ApplicationCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.client = cls.enterClassContext(TestClient(build(), base_url="http://127.0.0.1"))
        cls.production = cls.client.post(
            "/api/productions", json={"name": "Almanac", "specification_id": "audiobook-retail"}
        ).json()["id"]
        cls.recordings = [cls.bring_in(f"{number:02}.wav", rms_dbfs=level) for number, level in ((1, -29), (2, -23), (3, -34))]

    @classmethod
    def bring_in(cls, name: str, *, rms_dbfs: float, measured: bool = True) -> str:
        path = cls.application.folder / name
        soundfile.write(path, signals.voice_like(10, rms_dbfs=rms_dbfs, rate=RATE, room_dbfs=rms_dbfs - 52), RATE, subtype="PCM_24")
        put = cls.client.put(f"/api/productions/{cls.production}/recordings", params={"name": name}, content=path.read_bytes())
        if measured:
            do(work_for(put.json()["id"]).id, cls.application.store)
        return put.json()["id"]

    def ask(self, method: str, path: str, status: int = 200, **named):
        answer = self.client.request(method, f"/api{path}", **named)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json() if answer.content else None

    def drafted(self, recording: str, *steps: dict) -> dict:
        view = self.ask("GET", f"/recordings/{recording}/draft")
        return self.ask("PUT", f"/recordings/{recording}/draft", json={"steps": list(steps), "follows": view["number"]})

    def saved(self, name: str, *, recording: str | None = None, status: int = 201, **more) -> dict:
        body = {"name": name, "finish": "planned", "reference": True, **more}
        return self.ask("POST", f"/recordings/{recording or self.recordings[0]}/draft/save", status, json=body)

    def conformed(self, attempts: list[str]) -> None:
        for attempt in attempts:
            do(work_for(attempt).id, self.application.store)

    def attempt(self, recording: str) -> dict:
        return self.ask("GET", f"/recordings/{recording}")["conformings"][0]

    def test_a_draft_is_saved_without_what_belongs_to_its_recording(self):
        first = self.recordings[0]
        self.drafted(first, COMPRESSOR, SPOT, GAIN)
        found = self.ask("GET", f"/recordings/{first}/draft/general", params={"finish": "planned"})
        self.assertEqual((found["spots"], found["finished"], found["reference"]), (["Spot gain"], ["Gain"], 0))
        self.assertEqual([step["kind"] for step in found["steps"]], ["compressor"])
        given = self.ask("GET", f"/recordings/{first}/draft/general", params={"finish": "given"})
        self.assertEqual([step["kind"] for step in given["steps"]], ["compressor", "gain"])
        kept = self.saved("The mill", description="Its reading room.\nNear the wheel.")
        self.assertEqual((kept["id"], kept["revision"], kept["finish"]), ("the-mill", 1, "planned"))
        reference, compressor = kept["steps"]
        self.assertEqual(compressor["settings"], COMPRESSOR["settings"])
        self.assertAlmostEqual(reference["settings"]["target_db"], found["voice_dbfs"], delta=0.06)
        own = self.saved("The mill, as it comes", reference=False)
        self.assertEqual([step["kind"] for step in own["steps"]], ["compressor"])
        self.assertAlmostEqual(own["voice_dbfs"], found["voice_dbfs"], delta=0.06)
        view = self.ask("GET", f"/treatments/{own['id']}")
        self.assertEqual((view["reference"], view["ready"], view["ships"]), (0, True, False))

    def test_what_can_not_be_saved_says_why(self):
        self.drafted(self.recordings[0], COMPRESSOR)
        self.saved("Once")
        for body, status, words in (
            ({"name": "  "}, 422, "It needs a name."),
            ({"name": "once"}, 422, "There is one called “once” already."),
            ({"name": "A quiet room"}, 422, "There is one called “A quiet room” already."),
            ({"name": "Mine", "identifier": "quiet-room", "follows": 1}, 409, "Copy it to make changes."),
            (
                {"name": "Once", "identifier": "once", "follows": 7},
                409,
                "“Once” was changed by someone else and is now at version 1",
            ),
            ({"name": "Mine", "identifier": "nowhere"}, 404, "This treatment was not found."),
        ):
            with self.subTest(body=body):
                said = self.saved(**body, status=status)["error"]
                self.assertIn(words, said)
        other = self.recordings[1]
        self.drafted(other, {"kind": "compressor", "settings": {"threshold_dbfs": 9}})
        self.assertIn("can't run", self.saved("Broken", recording=other, status=422)["error"])
        self.drafted(other, SPOT)
        self.assertIn(
            "no steps that hold for other recordings", self.saved("Spots", recording=other, finish="given", status=422)["error"]
        )

    def test_versions_are_added_compared_and_never_changed(self):
        first = self.recordings[0]
        self.drafted(first, COMPRESSOR)
        kept = self.saved("Versions")
        again = self.saved("Versions", identifier=kept["id"], follows=1)
        self.assertEqual(again["revision"], 1, "what does the same is not kept twice")
        self.drafted(first, {"kind": "rumble-filter"}, COMPRESSOR)
        second = self.saved("Versions", identifier=kept["id"], follows=1, description="With less rumble.")
        self.assertEqual(second["revision"], 2)
        found = self.ask("GET", f"/treatments/{kept['id']}/changes", params={"before": 1, "after": 2})
        self.assertEqual(
            [(change["kind"], change["about"]) for change in found], [("changed", "Description"), ("added", "Rumble filter")]
        )
        view = self.ask("GET", f"/treatments/{kept['id']}")
        steps = [{key: step[key] for key in ("id", "kind", "settings", "on", "reason")} for step in view["steps"]]
        body = {"name": "Renamed", "description": "", "finish": "given", "follows": 2}
        third = self.ask("PUT", f"/treatments/{kept['id']}", json={**body, "steps": steps[:1]})
        self.assertEqual((third["revision"], third["name"], third["finish"]), (3, "Renamed", "given"))
        view = self.ask("GET", f"/treatments/{kept['id']}")
        self.assertEqual([each["version"] for each in view["versions"]], [1, 2, 3])
        self.assertIn("Renamed", [one["name"] for one in self.ask("GET", "/treatments")])
        self.ask("POST", f"/treatments/{kept['id']}/remove", 204)
        self.assertNotIn("Renamed", [one["name"] for one in self.ask("GET", "/treatments")])
        self.assertTrue(self.ask("GET", f"/treatments/{kept['id']}")["removed"])
        self.ask("POST", f"/treatments/{kept['id']}/restore", 204)
        self.assertFalse(self.ask("GET", f"/treatments/{kept['id']}")["removed"])
        self.assertIn("Copy it", self.ask("POST", "/treatments/quiet-room/remove", 409)["error"])
        copied = self.ask("POST", "/treatments/quiet-room/copy", 201, json={"name": "My quiet room"})
        self.assertEqual((copied["id"], copied["revision"], len(copied["steps"])), ("my-quiet-room", 1, 3))

    def test_files_go_out_and_come_in_by_the_published_schema(self):
        self.drafted(self.recordings[0], COMPRESSOR)
        kept = self.saved("Travelling")
        content = self.client.get(f"/api/treatments/{kept['id']}/1/file").content
        jsonschema.validate(json.loads(content), self.ask("GET", "/treatment.schema.json"))

        def bring_in(data: bytes, name: str = "t.json", status: int = 201) -> dict:
            return self.ask("PUT", "/treatments/file", status, params={"name": name}, content=data)

        self.assertEqual(bring_in(content), kept)
        changed = {**json.loads(content), "description": "From elsewhere."}
        self.assertEqual(bring_in(json.dumps(changed).encode())["revision"], 2)
        self.assertEqual(bring_in(content)["revision"], 1, "an older version is known")
        bare = bring_in(b'{"steps": [{"kind": "rumble-filter"}]}', name="Lower floor.json")
        self.assertEqual((bare["name"], bare["id"], bare["finish"]), ("Lower floor", "lower-floor", "given"))
        quiet = self.client.get("/api/treatments/quiet-room/1/file").content
        self.assertEqual(bring_in(quiet)["id"], "quiet-room")
        false = {**json.loads(quiet), "steps": []}
        self.assertIn("is built in and does something else", bring_in(json.dumps(false).encode(), status=422)["error"])
        self.assertIn("there is no step “harp”", bring_in(b'{"steps": [{"kind": "harp"}]}', status=422)["error"])

    def test_applied_to_many_it_conforms_each_and_tells_where_it_was_used(self):
        kept = self.ask("POST", "/treatments/quiet-room/copy", 201, json={"name": "For all"})
        waiting = self.bring_in("09.wav", rms_dbfs=-25, measured=False)
        body = {"recordings": [*self.recordings, waiting], "container": "flac"}
        asked = self.ask("POST", "/recordings/conform", 202, json={**body, "treatment": kept["id"]})
        self.assertEqual((len(asked["asked"]), asked["settled"]), (3, []))
        [refused] = asked["refused"]
        self.assertEqual(refused["id"], waiting)
        self.assertIn("“09.wav” has not been inspected yet", refused["reason"])
        twice = self.ask("POST", "/recordings/conform", 202, json={**body, "treatment": kept["id"]})
        self.assertEqual((twice["asked"], twice["settled"]), ([], asked["asked"]), "what is under way is not begun twice")
        self.conformed(asked["asked"])
        levels = []
        for recording in self.recordings:
            attempt = self.attempt(recording)
            self.assertTrue(attempt["passes"], attempt["obstacles"])
            self.assertEqual(attempt["kept"], {"id": kept["id"], "version": 1, "changed": False, "name": "For all"})
            self.assertFalse(attempt["own"])
            levels.append(attempt["result"]["readings"]["active_speech_level_dbfs"]["value"])
        self.assertLess(max(levels) - min(levels), 0.5, "one level before, one level after")
        settled = self.ask("POST", "/recordings/conform", 202, json={**body, "treatment": kept["id"]})
        self.assertEqual((settled["asked"], len(settled["settled"])), ([], 3), "a run again does only what changed")
        view = self.ask("GET", f"/treatments/{kept['id']}")
        self.assertEqual({use["recording"] for use in view["uses"]}, {"01.wav", "02.wav", "03.wav"})
        self.assertEqual((view["versions"][0]["runs"], view["uses"][0]["production"]), (3, "Almanac"))
        steps = [{key: step[key] for key in ("id", "kind", "settings", "on", "reason")} for step in view["steps"]]
        body2 = {"name": "For all", "finish": "planned", "follows": 1, "steps": steps[:2]}
        self.ask("PUT", f"/treatments/{kept['id']}", json=body2)
        again = self.ask("POST", "/recordings/conform", 202, json={**body, "treatment": kept["id"]})
        self.assertEqual(len(again["asked"]), 3, "another version is another treatment")
        self.conformed(again["asked"])
        self.assertEqual({use["version"] for use in self.ask("GET", f"/treatments/{kept['id']}")["uses"]}, {1, 2})

    def test_without_a_reference_level_one_is_put_in_where_it_is_asked_for(self):
        self.drafted(self.recordings[0], COMPRESSOR)
        kept = self.saved("No reference", reference=False, finish="given")
        for reference, first in ((False, "compressor"), (True, "reference-level")):
            body = {"recordings": [self.recordings[2]], "reference": reference, "container": "wav"}
            asked = self.ask("POST", "/recordings/conform", 202, json={**body, "treatment": kept["id"]})
            self.conformed(asked["asked"])
            attempt = self.attempt(self.recordings[2])
            self.assertEqual(attempt["steps"][0]["kind"], first)
        self.assertAlmostEqual(attempt["steps"][0]["settings"]["target_db"], kept["voice_dbfs"], delta=0.01)

    def test_on_the_bench_it_is_planned_used_changed_and_told(self):
        recording = self.bring_in("bench.wav", rms_dbfs=-31)
        asked = self.ask("POST", f"/recordings/{recording}/plans/kept/lively-room", 202)["id"]
        self.assertEqual(self.ask("POST", f"/recordings/{recording}/plans/kept/lively-room", 202)["id"], asked)
        said = self.ask("POST", f"/recordings/{recording}/draft/kept/lively-room", 409, params={"follows": 0})["error"]
        self.assertIn("has no plan with “A lively room” yet", said)
        do(work_for(asked).id, self.application.store)
        detail = self.ask("GET", f"/recordings/{recording}")
        self.assertIsNone(detail["planning"], "plans without it were not asked for")
        [planning] = detail["kept_plans"]
        self.assertEqual((planning["kept"]["name"], planning["kept"]["version"], len(planning["plans"])), ("A lively room", 1, 1))
        view = self.ask("POST", f"/recordings/{recording}/draft/kept/lively-room", params={"follows": 0})
        self.assertEqual((view["undo"], view["plan"], view["kept"]["name"]), ("use “A lively room”", None, "A lively room"))
        kinds = [step["kind"] for step in view["steps"]]
        self.assertEqual(kinds[:2] + kinds[3:5], ["rumble-filter", "noise-reduction", "reference-level", "compressor"])
        ran = self.ask("POST", f"/recordings/{recording}/draft/run", 202, json={})["id"]
        do(work_for(ran).id, self.application.store)
        attempt = self.attempt(recording)
        self.assertEqual((attempt["certified"], attempt["kept"]["changed"], attempt["own"]), (True, False, False))
        certificate = self.client.get(f"/api/conformings/{ran}/certificate").json()["certificate"]
        self.assertEqual(certificate["origin"]["treatment"]["name"], "A lively room, version 1")
        steps = [{key: step[key] for key in ("id", "kind", "settings", "on", "reason")} for step in view["steps"]]
        steps[1]["settings"]["amount_db"] = 4.0
        changed = self.ask("PUT", f"/recordings/{recording}/draft", json={"steps": steps, "follows": view["number"]})
        self.assertEqual((changed["kept"]["changed"], changed["differs"]), (True, ["noise reduction: amount 4 dB"]))
        ran = self.ask("POST", f"/recordings/{recording}/draft/run", 202, json={})["id"]
        do(work_for(ran).id, self.application.store)
        attempt = self.attempt(recording)
        self.assertEqual((attempt["kept"]["changed"], attempt["own"]), (True, True))
        self.assertEqual(attempt["kept"]["name"], "A lively room, version 1, changed")
        uses = self.ask("GET", "/treatments/lively-room")["uses"]
        self.assertEqual([(use["recording"], use["changed"]) for use in uses], [("bench.wav", True)], "the newest of it")

    def test_what_ships_is_listed_with_its_steps(self):
        listed = {one["id"]: one for one in self.ask("GET", "/treatments")}
        self.assertEqual(list(listed)[-3:], list(keeping.shipped()))
        self.assertTrue(all(listed[of]["ships"] and listed[of]["description"] for of in keeping.shipped()))
        self.assertEqual(listed["quiet-room"]["steps"][0], "Filter rumble below 60 Hz")
        self.ask("GET", "/treatments/none", 404)
        self.ask("GET", "/treatments/quiet-room/9/file", 404)


if __name__ == "__main__":
    unittest.main()
