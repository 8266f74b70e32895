"""The documents say what is so: the example runs, what they name is there, and the guide calls things what the page calls them."""

import json
import os
import re
import subprocess
import sys
import unittest

import soundfile

from ispettore.studio.locations import ROOT
from tests import signals
from tests.support import Application

DOCUMENTS = (*(ROOT / "docs").glob("*.md"), ROOT / "README.md", ROOT / "CONTRIBUTING.md", ROOT / "CHANGELOG.md")
METHODS = "GET|POST|PUT|PATCH|DELETE"


class Documents(unittest.TestCase):
    def test_what_they_link_to_is_there(self):
        for document in DOCUMENTS:
            for link in re.findall(r"\]\(([^)#\s]+)\)", document.read_text()):
                with self.subTest(document=document.name, link=link):
                    self.assertTrue(link.startswith("https://") or (document.parent / link).exists())

    def test_every_route_that_is_named_exists(self):
        described = json.loads((ROOT / "docs" / "openapi.json").read_text())["paths"]
        named = re.findall(rf"`({METHODS}) (/[^`?\s]+)`", (ROOT / "docs" / "API.md").read_text())
        self.assertGreater(len(named), 12)
        for method, path in named:
            with self.subTest(route=f"{method} {path}"):
                self.assertIn(method.lower(), described.get(f"/api{path}", {}))

    def test_the_guide_calls_things_what_the_page_calls_them(self):
        guide = (ROOT / "docs" / "GUIDE.md").read_text().split("## When something")[0]
        sources = [*(ROOT / "frontend" / "src").rglob("*.svelte"), *(ROOT / "frontend" / "src" / "lib").glob("*.ts")]
        said = re.sub(r"\s+", " ", " ".join(path.read_text() for path in sources))
        for words in set(re.findall(r"\*\*([^*]+)\*\*", guide)):
            with self.subTest(words=words):
                self.assertTrue(words in said, f"the page says nothing of “{words}”")


class Example(unittest.TestCase):
    def test_the_example_of_the_interface_runs_as_it_stands(self):
        application = Application().start()
        self.addCleanup(application.stop)
        application.web()
        application.worker()
        soundfile.write(
            application.folder / "chapter.wav", signals.voice_like(10, rms_dbfs=-30, rate=44_100), 44_100, subtype="PCM_24"
        )
        [example] = re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "API.md").read_text(), re.S)
        done = subprocess.run(
            [sys.executable, "-c", example],
            cwd=application.folder,
            env={**os.environ, "ISPETTORE": application.address.rstrip("/")},
            capture_output=True,
            text=True,
            timeout=300,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("RMS level", done.stdout)
        self.assertEqual(done.stdout.splitlines()[-1], "Audiobook, retail")
        self.assertEqual(len(list(application.folder.glob("chapter*.mp3"))), 1)
