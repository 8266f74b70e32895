"""How the installation itself is: told part by part, as figures, and with failed work to be asked for once more."""

import shutil
import sys
import time
import unittest
from collections import namedtuple
from pathlib import Path
from unittest import mock

from prometheus_client.openmetrics.parser import text_string_to_metric_families
from sqlalchemy import text
from sqlalchemy.exc import OperationalError
from sqlmodel import select

from ispettore.studio.database import transaction
from ispettore.studio.operating import standing
from ispettore.studio.running import launching
from ispettore.studio.running.launching import Supervisor, pause_s
from ispettore.studio.settings import settings
from ispettore.studio.tables import TrailRecord, WorkState
from tests.support import until, work_for
from tests.web.wire import WireCase


class Operation(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make()

    def heard(self, seconds_ago: float) -> None:
        """A worker that was last heard of so long ago."""
        with transaction() as session:
            session.execute(text("DELETE FROM queue.procrastinate_workers"))
            told = "INSERT INTO queue.procrastinate_workers (last_heartbeat) VALUES (now() - make_interval(secs => :ago))"
            session.execute(text(told), {"ago": seconds_ago})

    def parts(self, status: int) -> dict[str, tuple[bool, str]]:
        return {part["name"]: (part["fine"], part["told"]) for part in self.ask("GET", "/ready", status)["parts"]}

    def test_it_is_ready_where_everything_is_there_and_says_what_is_not(self):
        self.heard(0)
        fine = self.parts(200)
        self.assertEqual(list(fine), ["Database", "Versions", "Queue", "Workers", "Store", "Disk"])
        self.assertEqual({told[0] for told in fine.values()}, {True})
        self.heard(3_600)
        self.assertEqual(self.parts(503)["Workers"], (False, "None is at work: nothing is measured or conformed."))
        self.heard(0)
        with mock.patch.object(shutil, "disk_usage", lambda _: namedtuple("Usage", "free")(10**8)):
            self.assertEqual(self.parts(503)["Disk"], (False, "100 MB free: too little for much. Make room."))
        incoming = Path(settings().store) / "incoming"
        with mock.patch.object(standing.tempfile, "TemporaryFile", side_effect=OSError(30, "Read-only file system", str(incoming))):
            self.assertFalse(self.parts(503)["Store"][0])
        with transaction() as session:
            session.execute(text("UPDATE alembic_version SET version_num = '0001'"))
        self.assertIn("this software needs", self.parts(503)["Versions"][1])
        with transaction() as session:
            session.execute(text("UPDATE alembic_version SET version_num = :head"), {"head": "0022"})
        gone = OperationalError("SELECT 1", {}, Exception("gone"))
        with mock.patch.object(standing, "transaction", side_effect=gone):
            self.assertEqual(self.parts(503)["Database"], (False, "It does not answer."))
            self.assertEqual(self.ask("GET", "/operation")["queue"], [])

    def test_figures_are_in_an_open_format_that_others_read(self):
        recording = self.send("one.wav", self.voice(-24))
        self.send("two.wav", self.voice(-25), measured=False)
        self.heard(0)
        answer = self.client.get("/api/metrics")
        self.assertIn("application/openmetrics-text", answer.headers["content-type"])
        families = {family.name: family for family in text_string_to_metric_families(answer.text)}
        work = {(one.labels["kind"], one.labels["state"]): one.value for one in families["ispettore_work"].samples}
        self.assertGreaterEqual(work["inspect", "done"], 1)
        self.assertGreaterEqual(work["inspect", "waiting"], 1)
        self.assertEqual({one.value for one in families["ispettore_ready"].samples}, {1.0})
        self.assertEqual(families["ispettore_workers"].samples[0].value, 1)
        asked = [one for one in families["ispettore_request_seconds"].samples if one.labels.get("operation") == "createProduction"]
        self.assertTrue(any(one.labels["status"] == "201" for one in asked))
        self.assertNotIn(recording, answer.text)

    def test_what_failed_is_listed_with_its_sentence_until_it_is_asked_for_again(self):
        broken = self.send("broken.wav", b"RIFF", measured=False)
        self.work(broken)
        failed = work_for(broken)
        self.assertEqual(failed.state, WorkState.FAILED)
        [line] = [one for one in self.ask("GET", "/operation")["failures"] if one["recording"] == broken]
        self.assertEqual((line["kind"], line["recording_name"], line["production_name"]), ("inspect", "broken.wav", "Almanac"))
        self.assertIn("“broken.wav”", line["error"])
        self.ask("POST", f"/works/{failed.id}/again", 202)
        again = work_for(broken)
        self.assertEqual((again.state, again.recording_id, again.kind), (WorkState.WAITING, failed.recording_id, "inspect"))
        self.assertEqual([one for one in self.ask("GET", "/operation")["failures"] if one["recording"] == broken], [])
        waiting = {one["kind"]: one["waiting"] for one in self.ask("GET", "/operation")["queue"]}
        self.assertGreaterEqual(waiting["inspect"], 1)
        for work_id, status in ((failed.id, 409), (again.id, 409), ("00000000-0000-4000-8000-000000000000", 404)):
            self.assertTrue(self.ask("POST", f"/works/{work_id}/again", status)["error"])
        with transaction() as session:
            acts = session.exec(select(TrailRecord.act)).all()
        self.assertIn("workAgain", acts)


class Supervising(unittest.TestCase):
    def test_what_ends_again_and_again_is_started_ever_later_and_the_log_says_so(self):
        self.assertEqual([pause_s(falls) for falls in (0, 1, 2, 3, 20)], [0, 0, 1, 2, 30])
        supervisor = Supervisor()
        self.addCleanup(supervisor.stop)
        supervisor.keep("falling", [sys.executable, "-c", "raise SystemExit(3)"])
        with mock.patch.object(launching, "log") as log:
            for falls in (1, 2):
                until(lambda: supervisor._running["falling"].poll() is not None, what="it to end")
                supervisor._again("falling", 3)
                self.assertEqual(supervisor._falls["falling"], falls)
            self.assertIn("falling", supervisor._due, "the second time it waits")
            self.assertGreater(supervisor._due["falling"], time.monotonic())
        told = [call.kwargs for call in log.warning.call_args_list]
        self.assertEqual([(one["process"], one["status"], one["in_s"]) for one in told], [("falling", 3, 0.0), ("falling", 3, 1.0)])


if __name__ == "__main__":
    unittest.main()
