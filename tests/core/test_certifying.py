"""Certificates: what passes is sealed; one changed bit, digit or key is refused and named."""

import copy
import io
import json
import re
import stat
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

from ispettore.core import errors
from ispettore.core.certify import report, seal
from ispettore.core.certify.certificate import certify
from ispettore.core.certify.keys import KeyFolder, load_public
from ispettore.core.certify.verification import verify
from ispettore.core.measure import ribbon
from ispettore.core.measure.inspection import inspect
from ispettore.core.plan.conform import conform
from ispettore.core.spec import catalogue
from tests import signals

AUDIOBOOK = catalogue.shipped()["audiobook-retail"]
RATE = 44_100


class Certifying(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        source = signals.write(cls.folder / "in.wav", signals.voice_like(14, rms_dbfs=-27, rate=RATE, room_dbfs=-75), RATE)
        cls.file = cls.folder / "out.mp3"
        conform(source, AUDIOBOOK, cls.file)
        cls.keys = KeyFolder(cls.folder / "keys")
        certificate, _, _ = certify(cls.file, AUDIOBOOK, issued=datetime(2026, 11, 25, tzinfo=UTC), issuer="Ispettore test")
        cls.sealed = seal.seal(certificate.plain(), cls.keys.own())

    def check(self, sealed=None, file=None, **more):
        return verify(sealed or self.sealed, file or self.file, keys=more.pop("keys", self.keys), **more)

    def test_genuine_by_its_own_key(self):
        report = self.check()
        self.assertEqual((report.genuine, report.key, report.exit_code, report.problems), (True, "known", 0, ()))

    def test_it_survives_writing_and_reading(self):
        path = self.folder / "c.json"
        seal.write(self.sealed, path)
        self.assertTrue(self.check(seal.parse(path.read_bytes(), name="c.json")).genuine)

    def test_one_changed_bit_of_audio(self):
        content = bytearray(self.file.read_bytes())
        content[len(content) // 2] ^= 1
        changed = self.folder / "changed.mp3"
        changed.write_bytes(content)
        report = self.check(file=changed)
        self.assertEqual(report.exit_code, 1)
        self.assertIn("SHA-256 differs", report.problems[0])

    def test_one_changed_digit_anywhere_in_the_certificate(self):
        text = json.dumps(self.sealed["certificate"])
        places = [index for index, letter in enumerate(text) if letter.isdigit()]
        for index in places[:: max(1, len(places) // 25)]:
            digit = str((int(text[index]) + 1) % 10)
            changed = text[:index] + digit + text[index + 1 :]
            try:
                content = json.loads(changed)
            except ValueError:
                continue  # a leading zero is no JSON
            if content == self.sealed["certificate"]:
                continue  # a digit past what a float holds
            report = self.check({"certificate": content, "seal": self.sealed["seal"]})
            with self.subTest(index=index):
                self.assertEqual(report.exit_code, 1)
                self.assertIn("changed after it was sealed", report.problems[0])

    def test_another_key(self):
        other = KeyFolder(self.folder / "other-keys")
        resealed = seal.seal(self.sealed["certificate"], other.own())
        report = self.check(resealed)
        self.assertEqual((report.genuine, report.key, report.exit_code), (True, "unknown", 3))
        given = load_public(other.path / "seal-public.pem")
        self.assertEqual(self.check(resealed, given=given).exit_code, 0)
        report = self.check(self.sealed, given=given)
        self.assertEqual(report.exit_code, 1)
        self.assertIn("another key", report.problems[0])

    def test_a_seal_that_names_a_key_it_was_not_made_with(self):
        other = KeyFolder(self.folder / "third-keys")
        head = seal.seal(self.sealed["certificate"], other.own())["seal"].split(".")[0]
        forged = f"{head}..{self.sealed['seal'].split('.')[2]}"
        self.assertEqual(self.check({"certificate": self.sealed["certificate"], "seal": forged}).exit_code, 1)

    def test_a_trusted_key_can_be_added_as_a_file(self):
        other = KeyFolder(self.folder / "fourth-keys")
        resealed = seal.seal(self.sealed["certificate"], other.own())
        mine = KeyFolder(self.folder / "fifth-keys")
        mine.own()
        (mine.path / "known" / "friend.pem").write_bytes((other.path / "seal-public.pem").read_bytes())
        self.assertEqual(self.check(resealed, keys=mine).key, "known")

    def test_readings_that_the_file_does_not_have_are_named_even_under_a_good_seal(self):
        content = copy.deepcopy(self.sealed["certificate"])
        content["readings"]["rms_dbfs"]["value"] += 0.2
        report = self.check(seal.seal(content, self.keys.own()))
        self.assertEqual(report.exit_code, 1)
        self.assertIn("RMS level is certified as", report.problems[0])

    def test_what_misses_a_must_limit_is_not_certified(self):
        loud = signals.write(self.folder / "loud.wav", signals.voice_like(8, rms_dbfs=-22, rate=RATE), RATE)
        certificate, _, verdict = certify(loud, AUDIOBOOK, issued=datetime.now(UTC), issuer="test")
        self.assertIsNone(certificate)
        self.assertIn("container", [limit.quantity for limit in verdict.missed])

    def test_an_unmeasured_must_limit_never_certifies(self):
        speechless = self.folder / "noise.mp3"
        noise = signals.write(self.folder / "noise.wav", signals.noise(4, rms_dbfs=-65, rate=RATE), RATE)
        self.assertFalse(conform(noise, AUDIOBOOK, speechless).passes)
        self.assertFalse(speechless.exists())

    def test_the_private_key_is_its_owners_alone(self):
        mode = stat.S_IMODE((self.keys.path / "seal-private.pem").stat().st_mode)
        self.assertEqual(mode, 0o600)

    def test_the_printed_page_says_what_the_certificate_says(self):
        first, second = self.folder / "a.pdf", self.folder / "b.pdf"
        for path in (first, second):
            report.write(self.sealed, ribbon.of(inspect(self.file)), path)
        self.assertEqual(first.read_bytes(), second.read_bytes())
        self.assertTrue(first.read_bytes().startswith(b"%PDF"))
        self.assertEqual(len(re.findall(rb"/Type\s*/Page\b", first.read_bytes())), 1)
        report.write(self.sealed, None, io.BytesIO())

    def test_what_is_no_certificate_is_said(self):
        for text in (b"", b"{", b"[]", b'{"certificate": {}}', b'{"certificate": {"format": "x"}, "seal": "a..b"}', b"\xff\xfe"):
            with self.subTest(text=text), self.assertRaises(errors.NotACertificate):
                seal.parse(text, name="c.json")
        broken = {"certificate": self.sealed["certificate"], "seal": "nonsense"}
        self.assertEqual(self.check(broken).exit_code, 1)
