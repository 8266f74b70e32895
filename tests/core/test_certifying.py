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
from ispettore.core.certify.certificate import certify, hash_of
from ispettore.core.certify.keys import KeyFolder, load_public
from ispettore.core.certify.verification import Paper, verify
from ispettore.core.measure import ribbon
from ispettore.core.measure.inspecting import inspect
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
        return verify(Paper(sealed or self.sealed), file or self.file, keys=more.pop("keys", self.keys), **more)

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
        self.assertEqual((report.genuine, report.intact, report.key, report.exit_code), (False, True, "unknown", 3))
        given = load_public(other.path / "seal-public.pem")
        self.assertEqual(self.check(resealed, given=given).exit_code, 0)
        report = self.check(self.sealed, given=given)
        self.assertEqual(report.exit_code, 1)
        self.assertIn("different key", report.problems[0])

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

    def resealed(self, change):
        """The certificate changed by someone who holds the very key, as the check finds it."""
        content = copy.deepcopy(self.sealed["certificate"])
        change(content)
        return self.check(seal.seal(content, self.keys.own()))

    def test_every_claim_of_a_resealed_certificate_is_compared(self):
        def verdicts_at(value):
            def change(content):
                for limit in content["verdict"]["limits"]:
                    if isinstance(limit["reading"], float):
                        limit["reading"] = value

            return change

        def taking(*names):
            def change(content):
                content["readings"] = {name: content["readings"][name] for name in names}

            return change

        def with_specification(**changes):
            def change(content):
                content["specification"].update(changes)
                content["specification_sha256"] = hash_of(content["specification"])
                content["verdict"].update(specification=content["specification"]["id"], version=content["specification"]["version"])

            return change

        def laxer(content):
            content["specification"]["limits"] = content["specification"]["limits"][:2]
            content["specification_sha256"] = hash_of(content["specification"])
            content["verdict"]["limits"] = content["verdict"]["limits"][:2]

        for change, words in (
            (lambda c: c["facts"].update(duration_s=99_999.0), "Duration is certified as 27:46:39.00"),
            (lambda c: c["facts"].update(codec="opus"), "Codec is certified as opus but measures mp3"),
            (lambda c: c["facts"].update(bit_rate_kbps=320.0), "Bit rate is certified as 320.00 kbit/s but measures 192.00 kbit/s"),
            (lambda c: c["facts"].update(channel_relation="different"), "How the channels differ is certified"),
            (
                lambda c: c["facts"].update(tags={"artist": ["Ada Quill"]}),
                "Tags is certified as artist Ada Quill but measures nothing",
            ),
            (lambda c: c["facts"].update(frames=1), "Length in samples is certified as 1 but"),
            (lambda c: c["file"].update(size_bytes=5), "two sizes"),
            (lambda c: c.update(readings={}), "Peak is missing from the certificate"),
            (taking("rms_dbfs"), "Noise floor is missing"),
            (verdicts_at(-99.0), "What the verdict says of RMS level does not follow"),
            (lambda c: c["verdict"]["limits"].pop(), "does not judge just the limits"),
            (lambda c: c["verdict"]["limits"].append(c["verdict"]["limits"][0]), "does not judge just the limits"),
            (lambda c: c["verdict"]["limits"][1].update(high=-1.0), "does not follow"),
            (lambda c: c["verdict"]["limits"][0].update(severity="advice"), "does not follow"),
            (lambda c: c["verdict"].update(passes=False), "By its own verdict"),
            (lambda c: c["verdict"].update(role="master"), "not that of a deliverable"),
            (lambda c: c["verdict"].update(version=7), "another specification"),
            (lambda c: c["readings"]["rms_dbfs"].update(unit="LUFS"), "RMS level is certified as"),
            (lambda c: c["readings"]["clipped_runs"].update(value=None), "Clipped runs is certified as nothing"),
            (lambda c: c["specification"].update(description="Softer"), "its SHA-256 differs"),
            (laxer, "calls itself: its identifier is that of"),
            (with_specification(id="mine"), "calls itself: its name is that of"),
            (with_specification(version=9), "calls itself: its identifier is that of"),
            (lambda c: c.update(methods_version=0, facts={}), "does not hold what a certificate must"),
            (lambda c: c.update(approved="yes"), "approved: is not part of a certificate"),
            (lambda c: c["facts"].update(channels="1"), "does not hold what a certificate must"),
            (lambda c: c["readings"]["rms_dbfs"].update(value=1e300), "RMS level is certified as 1,000,000"),
        ):
            report = self.resealed(change)
            with self.subTest(words=words):
                self.assertIn(words, " ".join(report.problems))
                self.assertEqual((report.genuine, report.exit_code), (False, 1))

    def test_what_was_compared_is_said(self):
        report = self.check()
        readings, limits = len(self.sealed["certificate"]["readings"]), len(self.sealed["certificate"]["verdict"]["limits"])
        self.assertIn(f"{readings} readings, 12 facts of the file, {limits} limits; all match", report.said)
        self.assertEqual((report.methods, report.older, report.notes), ("", (), ()))

    def test_what_two_readers_could_take_for_two_things_is_refused(self):
        text = json.dumps(self.sealed)
        deep = '{"a":' * 40 + "1" + "}" * 40
        for changed, words in (
            (text.replace('"issuer":', '"issuer": "Somebody", "issuer":', 1), "“issuer” stands in it twice"),
            (text[:-1] + ', "note": "approved"}', "“note” stands beside its seal"),
            (text.replace('"listening": ""', f'"listening": {deep}'), "nested too deeply"),
            (text.replace('"listening": ""', '"listening": ' + "[" * 100_000 + "]" * 100_000), "nested too deeply"),
            (text.replace('"listening": ""', '"listening": NaN'), "NaN, which is no number"),
            (text.replace('"listening": ""', '"listening": 1e999'), "1e999, which is no number"),
            (text.replace('"Ispettore test"', '"Ispettore\\u0000"'), "a null character"),
            (text.replace('"Ispettore test"', '"Ispettore\\ud800"'), "half of a surrogate pair"),
            (text + " " * 2_000_000, "larger than 2 MB"),
        ):
            with self.subTest(words=words), self.assertRaises(errors.NotACertificate) as raised:
                seal.parse(changed.encode(), name="c.json")
            self.assertIn(words, raised.exception.sentence)
        huge = copy.deepcopy(self.sealed)
        huge["certificate"]["specification"]["version"] = 2**70
        self.assertEqual(self.check(huge).exit_code, 1)
        head, _, signature = self.sealed["seal"].split(".")
        stuffed = {**self.sealed, "seal": f"{head}.bWlzY2hpZWY.{signature}"}
        self.assertEqual(self.check(stuffed).exit_code, 1)

    def test_a_stray_file_a_missing_and_an_open_key_are_told_and_break_nothing(self):
        keys = KeyFolder(self.folder / "odd-keys")
        resealed = seal.seal(self.sealed["certificate"], keys.own())
        (keys.path / "known" / "notes.txt").write_text("not a key")
        (keys.path / "known" / "folder").mkdir()
        (keys.path / "seal-public.pem").unlink()
        (keys.path / "seal-private.pem").chmod(0o644)
        report = self.check(resealed, keys=keys)
        self.assertEqual((report.genuine, report.key), (True, "known"))
        told = " ".join(report.notes)
        for words in ("“notes.txt” can't be used", "“seal-public.pem” is missing", "can be read by others (mode 644)"):
            self.assertIn(words, told)
        with self.assertRaises(errors.KeyExposed) as raised:
            keys.own()
        self.assertIn("chmod 600", raised.exception.sentence)

    def test_a_specification_that_passes_itself_off_as_one_that_ships_is_refused(self):
        mine = AUDIOBOOK.model_dump(mode="json")
        mine["limits"][0]["high"] = -1.0
        for changes, words in (
            ({}, "identifier"),
            ({"id": "mine"}, "name"),
            ({"id": "mine", "name": " audiobook,  RETAIL"}, "name"),
        ):
            path = self.folder / "spec.json"
            path.write_text(json.dumps({**mine, **changes}))
            with self.subTest(changes=changes), self.assertRaises(errors.BadSpecification) as raised:
                catalogue.load(path)
            self.assertIn(f"Its {words} is that of “Audiobook, retail”", raised.exception.sentence)
        path.write_text(json.dumps(AUDIOBOOK.model_dump(mode="json")))
        self.assertEqual(catalogue.load(path), AUDIOBOOK)

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
