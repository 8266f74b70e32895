"""Changes reach open pages as they happen, and again after the database was away."""

import json
import os
import queue
import signal
import threading
import unittest
import urllib.request

from ispettore.studio.catalogue import productions
from ispettore.studio.database import engine
from tests.support import Application, until


class Live(unittest.TestCase):
    def setUp(self):
        self.application = Application().start()
        self.addCleanup(self.application.stop)
        self.application.web()
        self.messages: queue.Queue[dict] = queue.Queue()
        threading.Thread(target=self.listen, daemon=True).start()

    def listen(self) -> None:
        with urllib.request.urlopen(f"{self.application.address}api/events", timeout=60) as stream:
            self.messages.put({"about": "open"})
            for line in stream:
                if line.startswith(b"data:"):
                    self.messages.put(json.loads(line[5:]))

    def heard(self, wanted: str) -> dict:
        while True:
            message = self.messages.get(timeout=30)
            if message["about"] == wanted:
                return message

    def test_a_change_is_told_at_once_and_everything_after_a_gap(self):
        self.heard("open")
        self.heard("everything")  # what came before the page listened
        until(lambda: self.told_of_a_production(), what="the page to hear of a production", timeout_s=30)
        os.kill(self.application.cluster.server_pid(), signal.SIGQUIT)
        until(lambda: not self.application.cluster.running(), what="the database to be gone")
        self.application.cluster.start()
        engine().dispose()
        self.heard("everything")

    def test_what_comes_of_a_named_act_bears_its_name(self):
        self.heard("everything")
        body = json.dumps({"name": "Almanac", "specification_id": "audiobook-retail"}).encode()
        headers = {"content-type": "application/json", "ispettore-act": "mine"}
        asked = urllib.request.Request(f"{self.application.address}api/productions", body, headers)
        with urllib.request.urlopen(asked, timeout=30) as answer:
            self.assertEqual(json.loads(answer.headers["ispettore-changed"])[0]["about"], "production")
        self.assertEqual(self.heard("production")["act"], "mine")

    def told_of_a_production(self) -> bool:
        made = str(productions.create("Almanac", "audiobook-retail"))
        try:
            while self.messages.get(timeout=2).get("id") != made:
                pass
        except queue.Empty:
            return False
        return True
