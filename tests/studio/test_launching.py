"""The one command: starts everything, says where, and stops all it started and nothing else."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import unittest
import urllib.request
from pathlib import Path

from ispettore.studio.cluster import free_port, reachable_folder
from tests.support import answers, until


def descendants_marked(mark: str) -> set[int]:
    """Process ids whose environment carries the mark."""
    found = set()
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                if mark.encode() in (entry / "environ").read_bytes():
                    found.add(int(entry.name))
            except OSError:
                continue
    return found


class Launching(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory(prefix="ispettore-launch-")
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.folder.chmod(0o755)
        self.port = free_port()
        self.environment = {
            **{name: value for name, value in os.environ.items() if not name.startswith("ISPETTORE_") or name == "ISPETTORE_CACHE"},
            "ISPETTORE_STATE": str(self.folder),
            "ISPETTORE_STORE": str(self.folder / "store"),
            "ISPETTORE_KEYS": str(self.folder / "keys"),
            "ISPETTORE_PORT": str(self.port),
        }
        self.address = f"http://127.0.0.1:{self.port}/"

    def launch(self) -> subprocess.Popen[str]:
        with (self.folder / "out.log").open("a") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", "ispettore.cli", "demo"],
                env=self.environment,
                stdout=log,
                stderr=subprocess.STDOUT,
                text=True,
                start_new_session=True,
            )
        self.addCleanup(self.end, process)
        until(lambda: answers(f"{self.address}api/health"), what="the application to start", timeout_s=180)
        return process

    @staticmethod
    def end(process: subprocess.Popen[str]) -> None:
        if process.poll() is None:
            process.send_signal(signal.SIGINT)
            process.wait(60)

    def productions(self) -> list[dict]:
        with urllib.request.urlopen(f"{self.address}api/productions") as answer:
            return json.load(answer)

    def test_it_starts_seeds_once_and_stops_all_it_started_and_nothing_else(self):
        bystander = subprocess.Popen(["sleep", "600"], start_new_session=True)
        self.addCleanup(bystander.kill)
        process = self.launch()
        names = [row["name"] for row in self.productions()]
        self.assertEqual(names, ["Almanac of a Tidal Mill", "Museum guide", "Harbour bulletin"])
        self.assertEqual([row["recordings"] for row in self.productions()], [9, 1, 1])
        until(lambda: sum(row["pending"] for row in self.productions()) == 0, what="the demo to be measured", timeout_s=180)
        self.assertEqual([row["inside"] for row in self.productions()], [2, 0, 0])
        mark = f"ISPETTORE_STATE={self.folder}"
        self.assertGreaterEqual(len(descendants_marked(mark)), 3)

        self.end(process)
        self.assertEqual(process.returncode, 0)
        until(lambda: not descendants_marked(mark), what="everything started to be gone", timeout_s=20)
        self.assertFalse((self.folder / "postgres" / "data" / "postmaster.pid").exists())
        self.assertFalse(answers(f"{self.address}api/health"))
        self.assertIsNone(bystander.poll())
        said = (self.folder / "out.log").read_text()
        self.assertIn(f"Ispettore is at {self.address}", said)
        self.assertNotIn("Traceback", said)

        again = self.launch()
        self.assertEqual([row["recordings"] for row in self.productions()], [9, 1, 1])
        self.assertIn("already", (self.folder / "out.log").read_text())
        again.kill()
        again.wait()
        until(lambda: not answers(f"{self.address}api/health"), what="the web process to end with its launcher", timeout_s=20)
        self.end(self.launch())

    def test_a_folder_the_servers_user_cannot_reach_is_not_used(self):
        closed = self.folder / "closed"
        closed.mkdir(mode=0o700)
        chosen = reachable_folder(closed / "var" / "postgres", Path("/var/lib/ispettore/elsewhere"))
        if os.geteuid() == 0:
            self.assertEqual(chosen, Path("/var/lib/ispettore/elsewhere"))
        self.assertEqual(reachable_folder(self.folder / "var", Path("/elsewhere")), self.folder / "var")
