"""The answer to an act says what it changed, and the stream names the act, so that a page reads each change once."""

import json
import uuid

from ispettore.studio.events import Notice
from ispettore.web.telling import MOST_BYTES, written
from tests.web.wire import WireCase

ACT = {"ispettore-act": "an-act"}


class Telling(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make()

    def told(self, method: str, path: str, *, headers: dict[str, str] = ACT, **named) -> list[dict] | None:
        answer = self.client.request(method, f"/api{path}", headers=headers, **named)
        said = answer.headers.get("ispettore-changed")
        return None if said is None else json.loads(said)

    def test_an_act_is_answered_with_what_it_changed(self):
        path = f"/productions/{self.production}"
        about = {"about": "production", "id": self.production, "production": self.production}
        self.assertEqual(self.told("PATCH", path, json={"name": "Almanac of a tidal mill"}), [about])
        self.assertEqual(
            self.told("POST", "/specifications/audiobook-retail/copy", json={"name": "Ours"})[0]["about"], "specification"
        )

    def test_a_refused_act_and_one_that_changes_nothing_say_so(self):
        self.assertEqual(self.told("PATCH", f"/productions/{uuid.uuid4()}", json={"name": "Nobody's"}), [])
        self.assertEqual(self.told("POST", "/specifications/examine", json={}), [])

    def test_what_is_not_named_is_answered_as_ever(self):
        path = f"/productions/{self.production}"
        self.assertIsNone(self.told("PATCH", path, headers={}, json={"notes": "Frost"}))
        for bad in ("", "a" * 65, "an act", "act;\r\nx"):
            self.assertIsNone(self.told("PATCH", path, headers={"ispettore-act": bad.strip("\r\n")[:80]}, json={"notes": bad}), bad)

    def test_work_that_is_asked_for_is_named_with_its_recording(self):
        recording = self.send("One.wav", self.voice(-22))
        [one] = self.told("POST", f"/recordings/{recording}/plans")
        self.assertEqual((one["about"], one["recording"], one["production"]), ("plan", recording, self.production))
        self.assertNotIn("fraction", one)

    def test_letting_go_of_an_upload_is_told(self):
        self.assertEqual(self.told("DELETE", f"/uploads/set-aside/{'0' * 32}"), [{"about": "uploads"}])


class Headers(WireCase):
    def test_more_than_a_header_holds_asks_for_everything(self):
        many = [Notice(about="recording", id=str(uuid.uuid4()), production=uuid.uuid4()) for _ in range(100)]
        self.assertLess(len(written(many[:40])), MOST_BYTES)
        self.assertEqual(written(many), '[{"about":"everything"}]')

    def test_the_same_is_said_once_and_letters_are_written_as_a_header_may_hold_them(self):
        one = Notice(about="specification", id="märz", act="a")
        self.assertEqual(written([one, one]), r'[{"about":"specification","id":"m\u00e4rz"}]')
