"""Plans and drafts over the wire: chosen, changed, undone, kept over a restart, run and proven."""

import soundfile
from fastapi.testclient import TestClient

from ispettore.studio.worker.doing import do
from ispettore.web.app import build
from tests import signals
from tests.support import ApplicationCase, work_for

RATE = 44_100


class Drafting(ApplicationCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.client = cls.enterClassContext(TestClient(build(), base_url="http://127.0.0.1"))
        path = cls.application.folder / "chapter.wav"
        soundfile.write(path, signals.voice_like(12, rms_dbfs=-29, rate=RATE, room_dbfs=-78), RATE, subtype="PCM_24")
        made = cls.client.post("/api/productions", json={"name": "Almanac", "specification_id": "audiobook-retail"}).json()["id"]
        cls.production = made
        cls.content = path.read_bytes()
        cls.recording = cls.bring_in("01 January.wav")

    @classmethod
    def bring_in(cls, name: str) -> str:
        put = cls.client.put(f"/api/productions/{cls.production}/recordings", params={"name": name}, content=cls.content)
        do(work_for(put.json()["id"]).id, cls.application.store)
        return put.json()["id"]

    def ask(self, method: str, path: str, status: int = 200, recording: str | None = None, **named):
        answer = self.client.request(method, f"/api/recordings/{recording or self.recording}{path}", **named)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def change(self, recording: str, view: dict, steps: list[dict], status: int = 200) -> dict:
        body = {"steps": steps, "follows": view["number"]}
        return self.ask("PUT", "/draft", status, recording, json=body)

    def plain(self, view: dict) -> list[dict]:
        return [{key: step[key] for key in ("id", "kind", "settings", "on", "reason")} for step in view["steps"]]

    def planned(self, recording: str) -> dict:
        asked = self.ask("POST", "/plans", 202, recording)["id"]
        do(work_for(asked).id, self.application.store)
        return self.ask("GET", "", recording=recording)["planning"]

    def test_plans_are_made_once_and_say_what_closes_it(self):
        recording = self.bring_in("Planned.wav")
        self.assertRegex(self.ask("GET", "", recording=recording)["stands"], r"^One limit is not met: RMS level is .* too low\.$")
        first = self.ask("POST", "/plans", 202, recording)["id"]
        self.assertIn("Plans are being made.", self.ask("GET", "", recording=recording)["stands"])
        self.assertEqual(self.ask("POST", "/plans", 202, recording)["id"], first)
        do(work_for(first).id, self.application.store)
        detail = self.ask("GET", "", recording=recording)
        self.assertEqual(self.ask("POST", "/plans", 202, recording)["id"], first)
        self.assertEqual(detail["planning"]["work"]["state"], "done")
        light = detail["planning"]["plans"][0]
        self.assertEqual(light["preference"], "light")
        self.assertRegex(detail["stands"], r"The light plan fixes it\.$")
        self.assertTrue(all(step["reason"] and step["reading"]["pieces"] for step in light["steps"]))
        judged = {limit["quantity"]: limit["passes"] for limit in light["limits"]}
        self.assertEqual({name for name, passes in judged.items() if not passes}, set())
        wanted = {limit["quantity"] for limit in detail["specification"]["limits"] if limit["applies_to"] == "recording"}
        self.assertEqual(wanted - set(judged), {"channels"}, "the file is written with as many as are asked for")

    def test_other_limits_ask_for_other_plans(self):
        recording = self.bring_in("Moved.wav")
        self.planned(recording)
        known = [one["id"] for one in self.client.get("/api/specifications").json()]
        change = {"specification_id": next(one for one in known if one != "audiobook-retail")}
        self.addCleanup(self.client.patch, f"/api/productions/{self.production}", json={"specification_id": "audiobook-retail"})
        self.assertEqual(self.client.patch(f"/api/productions/{self.production}", json=change).status_code, 204)
        self.assertIsNone(self.ask("GET", "", recording=recording)["planning"])

    def test_every_change_is_undone_and_done_again_also_after_a_restart(self):
        recording = self.bring_in("Undone.wav")
        view = self.ask("GET", "/draft", recording=recording)
        self.assertEqual((view["number"], view["steps"], view["undo"], view["redo"]), (0, [], "", ""))
        offered = {step["kind"]: step for group in self.ask("GET", "/steps", recording=recording) for step in group["steps"]}
        gain = {"kind": "gain", "settings": offered["gain"]["settings"]}
        view = self.change(recording, view, [gain])
        self.assertEqual((view["number"], view["undo"], view["redo"]), (1, "add gain", ""))
        [step] = self.plain(view)
        view = self.change(recording, view, [{**step, "settings": {"gain_db": 4.5}}])
        self.assertEqual(view["undo"], "gain 4.5 dB")
        view = self.ask("POST", "/draft/undo", recording=recording, params={"follows": 2})
        self.assertEqual((view["redo"], view["steps"][0]["settings"]), ("gain 4.5 dB", gain["settings"]))
        with TestClient(build(), base_url="http://127.0.0.1") as again:
            self.assertEqual(again.get(f"/api/recordings/{recording}/draft").json(), view)
        view = self.ask("POST", "/draft/redo", recording=recording, params={"follows": 1})
        self.assertEqual(view["steps"][0]["settings"], {"gain_db": 4.5})
        said = self.ask("POST", "/draft/redo", 409, recording, params={"follows": 2})["error"]
        self.assertEqual(said, "There is nothing to redo in the treatment of “Undone.wav”.")
        view = self.ask("POST", "/draft/undo", recording=recording, params={"follows": 2})
        view = self.change(recording, view, [])
        self.assertEqual((view["number"], view["undo"], view["redo"]), (2, "remove gain", ""))

    def test_a_change_of_what_is_not_newest_is_refused_and_loses_nothing(self):
        recording = self.bring_in("Twice.wav")
        view = self.ask("GET", "/draft", recording=recording)
        self.change(recording, view, [{"kind": "gain", "settings": {"gain_db": 1}}])
        said = self.change(recording, view, [{"kind": "de-esser"}], 409)["error"]
        self.assertIn("“Twice.wav” was changed in another window", said)
        self.assertEqual([step["kind"] for step in self.ask("GET", "/draft", recording=recording)["steps"]], ["gain"])

    def test_what_is_wrong_stays_and_is_said_beside_its_step(self):
        recording = self.bring_in("Wrong.wav")
        view = self.ask("GET", "/draft", recording=recording)
        steps = [{"kind": "compressor", "settings": {"threshold_dbfs": 12}}, {"kind": "harp"}, {"kind": "rumble-filter"}]
        view = self.change(recording, view, steps)
        compressor, harp, rumble = view["steps"]
        self.assertFalse(view["ready"])
        self.assertIn("enter −80 to 0 dBFS", compressor["reading"]["settings"]["threshold_dbfs"]["problem"])
        self.assertIn("does not know the step “harp”", harp["problems"][0])
        self.assertRegex(rumble["order"], "^Rumble filter comes after compressor")
        said = self.ask("POST", "/draft/run", 422, recording, json={})["error"]
        self.assertEqual(said, "Step 1, compressor, can't run: Threshold: enter −80 to 0 dBFS.")
        for settings in ({"a": "\0"}, {"a": [[[[[[[[[[1]]]]]]]]]]}):
            self.change(recording, view, [{"kind": "gain", "settings": settings}], 422)
        self.change(recording, view, [{"kind": "gain"}] * 65, 422)

    def test_a_plan_becomes_the_draft_and_what_differs_is_said(self):
        recording = self.bring_in("Chosen.wav")
        self.assertIn("has no light plan yet", self.ask("POST", "/draft/plan/light?follows=0", 409, recording)["error"])
        planning = self.planned(recording)
        view = self.ask("POST", "/draft/plan/light?follows=0", recording=recording)
        self.assertEqual((view["plan"], view["differs"], view["undo"]), ("light", [], "choose the light plan"))
        self.assertEqual([step["settings"] for step in view["steps"]], [step["settings"] for step in planning["plans"][0]["steps"]])
        steps = self.plain(view)
        [gain] = [step for step in steps if step["kind"] == "gain"]
        louder = {"gain_db": gain["settings"]["gain_db"] + 1}
        changed = [{**step, "settings": louder} if step is gain else step for step in steps]
        view = self.change(recording, view, [*changed, {"kind": "de-esser"}])
        self.assertEqual(view["differs"][-1], "with de-esser")
        self.assertRegex(view["differs"][0], r"^gain \d")

    def run_draft(self, recording: str) -> dict:
        asked = self.ask("POST", "/draft/run", 202, recording, json={})["id"]
        do(work_for(asked).id, self.application.store)
        return self.ask("GET", "", recording=recording)

    def test_a_draft_runs_to_a_certified_file_or_says_what_closes_it(self):
        recording = self.bring_in("Run.wav")
        view = self.ask("GET", "/draft", recording=recording)
        self.change(recording, view, [{"kind": "gain", "settings": {"gain_db": 2}}])
        detail = self.run_draft(recording)
        made = detail["conformings"][0]
        self.assertEqual((made["own"], made["certified"], made["sha256"]), (True, False, None))
        self.assertRegex(made["obstacles"][0]["advice"], "^RMS level in the finished file is .* outside its limit")
        self.assertRegex(made["closing"]["said"], "^Raise the last gain by .* dB")
        body = {"treatment": made["closing"]["treatment"], "follows": 1}
        view = self.ask("POST", "/draft/take", recording=recording, json=body)
        kept = [step["id"] for step in view["steps"] if step["kind"] == "gain"]
        self.assertEqual(len(kept), 1)
        detail = self.run_draft(recording)
        made = detail["conformings"][0]
        self.assertTrue(made["own"] and made["certified"], made["obstacles"])
        self.assertRegex(detail["stands"], "^“Run.mp3” meets .* and is certified")

    def test_a_plan_that_was_not_changed_runs_as_a_plan(self):
        recording = self.bring_in("Unchanged.wav")
        self.planned(recording)
        self.ask("POST", "/draft/plan/light?follows=0", recording=recording)
        detail = self.run_draft(recording)
        self.assertEqual((detail["conformings"][0]["own"], detail["conformings"][0]["certified"]), (False, True))

    def test_what_was_made_is_where_a_draft_begins(self):
        recording = self.bring_in("Made.wav")
        asked = self.ask("POST", "/conform", 202, recording, json={})["id"]
        do(work_for(asked).id, self.application.store)
        view = self.ask("GET", "/draft", recording=recording)
        made = self.ask("GET", "", recording=recording)["conformings"][0]["steps"]
        self.assertEqual([step["kind"] for step in view["steps"]], [step["kind"] for step in made])
        self.assertTrue(view["ready"])
