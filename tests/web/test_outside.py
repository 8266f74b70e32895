"""Watched folders and webhooks over the wire: set, shown, stopped; what is refused says why."""

import tempfile
import unittest
from pathlib import Path

from ispettore.studio.attending import messages
from ispettore.studio.attending.watching import Watcher
from tests.studio.test_watching import sound
from tests.studio.test_webhooks import Receiver
from tests.web.wire import WireCase


class OverTheWire(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make()

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.path = Path(held.name) / "in"
        self.path.mkdir()

    def watched(self) -> str:
        asked = {"path": str(self.path), "production_id": self.production, "conform": True, "results": f"{self.path}/done"}
        return self.ask("POST", "/outside/folders", 201, json=asked)["id"]

    def test_a_folder_is_watched_shown_and_stopped(self):
        folder = self.watched()
        sound(self.path / "01 Tide.wav")
        watcher = Watcher(folder, self.application.store)
        watcher.look(0.0)
        watcher.look(5.0)
        (shown,) = self.ask("GET", "/outside")["folders"]
        self.assertEqual((shown["path"], shown["production_name"], shown["conform"]), (str(self.path), "Almanac", True))
        self.assertEqual((shown["count"], shown["files"][0]["name"]), (1, "01 Tide.wav"))
        entries = self.ask("GET", f"/productions/{self.production}/sheet")["entries"]
        self.assertIn(shown["files"][0]["recording_id"], [entry["id"] for entry in entries])
        self.ask("DELETE", f"/outside/folders/{folder}", 204)
        self.ask("DELETE", f"/outside/folders/{folder}", 404)
        self.assertEqual(self.ask("GET", "/outside")["folders"], [])

    def test_what_cannot_be_watched_says_why(self):
        for asked, status, said in (
            ({"path": "relative"}, 422, "whole path"),
            ({"path": f"{self.path}/gone"}, 422, "it is not there"),
            ({"path": "\u202e/in"}, 422, "U+202E"),
            ({"path": "/" + "x" * 5000}, 422, "path: "),
            ({"production_id": "00000000-0000-0000-0000-000000000000"}, 404, "production"),
        ):
            body = {"path": str(self.path), "production_id": self.production, **asked}
            with self.subTest(asked=asked):
                self.assertIn(said, self.ask("POST", "/outside/folders", status, json=body)["error"])
        folder = self.watched()
        again = self.ask("POST", "/outside/folders", 409, json={"path": str(self.path), "production_id": self.production})
        self.assertIn("is watched already", again["error"])
        self.ask("DELETE", f"/outside/folders/{folder}", 204)

    def test_a_webhook_is_added_with_its_secret_shown_without_it_tried_and_removed(self):
        receiver = Receiver()
        self.addCleanup(receiver.close)
        made = self.ask("POST", "/outside/webhooks", 201, json={"url": receiver.url, "production_id": self.production})
        self.assertTrue(made["secret"].startswith("whsec_"))
        (shown,) = self.ask("GET", "/outside")["webhooks"]
        self.assertEqual((shown["url"], shown["production_name"], "secret" in shown), (receiver.url, "Almanac", False))
        self.ask("POST", f"/outside/webhooks/{made['id']}/again", 202)
        self.assertEqual(self.ask("GET", "/outside")["webhooks"][0]["waiting"], 1)
        self.send("told.wav", self.voice(-24), measured=False)
        self.assertGreaterEqual(messages.write(), 1)
        self.ask("DELETE", f"/outside/webhooks/{made['id']}", 204)
        self.ask("POST", f"/outside/webhooks/{made['id']}/again", 404)
        refused = self.ask("POST", "/outside/webhooks", 422, json={"url": "ftp://example.test"})
        self.assertIn("https://", refused["error"])


if __name__ == "__main__":
    unittest.main()
