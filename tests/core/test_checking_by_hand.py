"""docs/CERTIFICATES.md is followed to the letter with openssl, sha256sum and a canonicaliser of JSON, and with nothing of this
program."""

import json
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

from ispettore.core.audio import tagging
from ispettore.core.audio.tagging import Tags
from ispettore.core.certify import seal
from ispettore.core.certify.certificate import certify, hash_of
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.notices import Notice
from ispettore.core.spec.specification import Specification
from tests import signals

PAGE = Path(__file__).parents[2] / "docs" / "CERTIFICATES.md"
CANONICAL = f"""set -eu
canonical() {{ {sys.executable} -c 'import json, rfc8785, sys; sys.stdout.buffer.write(rfc8785.dumps(json.load(sys.stdin)))'; }}
"""
SPECIFICATION = Specification.model_validate(
    {"id": "by-hand", "name": "Hand “and” eye", "limits": [{"quantity": "sample_peak_dbfs", "high": -1.0, "purpose": 'a "seal":"'}]}
)


class ByHand(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.steps = re.findall(r"```sh\n(.*?)```", PAGE.read_text(encoding="utf-8"), re.DOTALL)
        cls.keys = KeyFolder(cls.folder / "keys")
        cls.file = signals.write(cls.folder / "a.wav", signals.voice_like(4, rms_dbfs=-23, rate=44_100), 44_100)
        tagging.write(cls.file, "wav", Tags(title="Ebb", narrator="I. Weir"), None, name="a.wav")
        certificate, _, _ = certify(cls.file, SPECIFICATION, issued=datetime(2026, 11, 27, tzinfo=UTC), issuer="Ispettore")
        cls.sealed = seal.seal(certificate.plain(), cls.keys.own())

    def follow(
        self, sealed: dict, file: Path, *, key: bytes | None = None, notice: dict | None = None
    ) -> subprocess.CompletedProcess:
        """The page's commands, one after the other, in a folder with what it asks for."""
        folder = Path(tempfile.mkdtemp(dir=self.folder))
        (folder / "certificate.json").write_text(json.dumps(sealed, indent=3), encoding="utf-8")  # any form will do
        shutil.copy(file, folder / "file")
        (folder / "public.pem").write_bytes(key or (self.keys.path / "seal-public.pem").read_bytes())
        if notice is not None:
            (folder / "notice.json").write_text(json.dumps(notice), encoding="utf-8")
        return subprocess.run(
            ["bash", "-c", CANONICAL + "\n".join(self.steps)], cwd=folder, capture_output=True, text=True, check=False
        )

    def test_the_page_has_every_step(self):
        self.assertEqual(len(self.steps), 7)

    def test_a_genuine_certificate_passes_every_step(self):
        done = self.follow(self.sealed, self.file)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("Signature Verified Successfully", done.stdout)
        for line in ("file: OK", "sound: OK", "specification.json: OK"):
            self.assertIn(line, done.stdout)

    def test_every_kind_of_tampering_stops_it(self):
        content = self.sealed["certificate"]
        digit = {**self.sealed, "certificate": {**content, "methods_version": content["methods_version"] + 1}}
        self.assertIn("Signature Verification Failure", self.follow(digit, self.file).stdout)
        other = KeyFolder(self.folder / "other")
        other.own()
        self.assertNotEqual(self.follow(self.sealed, self.file, key=other.listed()[0].pem).returncode, 0)
        changed = self.folder / "changed.wav"
        bits = bytearray(self.file.read_bytes())
        bits[len(bits) // 2] ^= 1
        changed.write_bytes(bits)
        self.assertIn("file: FAILED", self.follow(self.sealed, changed).stdout)
        laxer = json.loads(json.dumps(content))
        laxer["specification"]["limits"][0]["high"] = 0.0
        done = self.follow(seal.seal(laxer, self.keys.own()), self.file)
        self.assertIn("specification.json: FAILED", done.stdout)
        self.assertNotEqual(done.returncode, 0)

    def test_a_notice_is_checked_in_the_same_way(self):
        notice = Notice(
            certificate=hash_of(self.sealed["certificate"]), ending="withdrawn", when=datetime(2026, 11, 27, tzinfo=UTC),
            reason="A misread word", issuer="Ispettore",
        )  # fmt: skip
        sealed = seal.seal(notice.model_dump(mode="json"), self.keys.own(), what="notice")
        done = self.follow(self.sealed, self.file, notice=sealed)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn('"ending":"withdrawn"', done.stdout)
        self.assertIn("A misread word", done.stdout)
        sealed["notice"]["reason"] = "Nothing"
        self.assertNotEqual(self.follow(self.sealed, self.file, notice=sealed).returncode, 0)
