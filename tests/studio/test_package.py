"""The wheel is a whole installation: in an empty virtual environment, beside Debian's PostgreSQL, it serves the page."""

import json
import os
import re
import signal
import subprocess
import sys
import tempfile
import unittest
import urllib.request
from pathlib import Path

from ispettore.studio.locations import ROOT
from ispettore.studio.running.cluster import free_port
from tests.support import until

QUIET = ("-q", "--disable-pip-version-check", "--root-user-action=ignore")


class Package(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.folder.chmod(0o755)  # the database's server looks in
        subprocess.run([sys.executable, ROOT / "tools" / "make_package.py", cls.folder], check=True)
        [wheel] = cls.folder.glob("*.whl")
        subprocess.run([sys.executable, "-m", "venv", cls.folder / "venv"], check=True)
        pip = [cls.folder / "venv" / "bin" / "pip", "install", *QUIET]
        subprocess.run([*pip, "--require-hashes", "-r", ROOT / "requirements" / "app.lock"], check=True)
        subprocess.run([*pip, "--no-deps", wheel], check=True)
        cls.command = cls.folder / "venv" / "bin" / "ispettore"
        cls.port = free_port()
        kept = {name: value for name, value in os.environ.items() if not name.startswith(("ISPETTORE_", "PYTHON"))}
        cls.environment = {**kept, "XDG_DATA_HOME": str(cls.folder / "data"), "ISPETTORE_PORT": str(cls.port)}

    def run_it(self, *words: str) -> str:
        done = subprocess.run(
            [self.command, *words], cwd=self.folder, env=self.environment, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout

    def get(self, path: str) -> bytes:
        shown = self.folder / "data" / "ispettore" / "start-token"
        headers = {"authorization": f"Bearer {shown.read_text()}"} if shown.exists() else {}
        asked = urllib.request.Request(f"http://127.0.0.1:{self.port}/{path}", headers=headers)
        with urllib.request.urlopen(asked, timeout=30) as answer:
            return answer.read()

    def up(self) -> bool:
        try:
            return json.loads(self.get("api/health"))["state"] == "up"
        except OSError:
            return False

    def test_it_names_specifications_and_serves_the_page_from_where_data_belong(self):
        self.assertIn("Podcast, mono", self.run_it("specs"))
        [bill] = self.folder.glob("*.cdx.json")
        self.assertEqual(json.loads(bill.read_text())["bomFormat"], "CycloneDX")
        serving = subprocess.Popen(
            [self.command, "serve"],
            cwd=self.folder,
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            start_new_session=True,
        )
        self.addCleanup(serving.communicate)
        self.addCleanup(serving.send_signal, signal.SIGTERM)
        until(self.up, what="the installed application to be up", timeout_s=120)
        page = self.get("").decode()
        for part in re.findall(r'(?:src|href)="/(assets/[^"]+)"', page):
            with self.subTest(part=part):
                self.assertGreater(len(self.get(part)), 100)
        self.assertEqual(json.loads(self.get("api/productions")), [])
        lying = {place["where"] for place in json.loads(self.get("api/settings"))["places"]}
        self.assertTrue(any(str(self.folder / "data" / "ispettore") in where for where in lying), lying)
