"""Whatever is done to a certified file, to a certificate, to its print or to a package is named for what it is."""

import copy
import io
import json
import shutil
import tempfile
import threading
import unittest
import zipfile
from datetime import UTC, datetime
from pathlib import Path

import mutagen
import numpy as np
import soundfile
from mutagen.id3 import TIT2
from pypdf import PdfReader, PdfWriter
from pypdf.annotations import FreeText
from pypdf.generic import NameObject, StreamObject

from ispettore.core import errors
from ispettore.core.audio import cover, tagging
from ispettore.core.audio.formats import FORMAT_NAMES
from ispettore.core.audio.sound_hash import sound_sha256
from ispettore.core.audio.tagging import Tags
from ispettore.core.audio.writing import OutputFormat, Sink
from ispettore.core.certify import notices, pdf, report, seal
from ispettore.core.certify.certificate import Accepted, CertifiedPart, Known, certify, certify_production, hash_of
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.notices import Notice
from ispettore.core.certify.package_check import verify_package
from ispettore.core.certify.verification import Paper, read, verify
from ispettore.core.deliver.entries import Entry
from ispettore.core.deliver.unpacked import is_package
from ispettore.core.deliver.whole import File, whole
from ispettore.core.measure import ribbon
from ispettore.core.measure.inspecting import inspect
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import judge_production, values
from tests import signals
from tests.covers import picture

RATE = 44_100
WHEN = datetime(2026, 11, 27, tzinfo=UTC)
SPECIFICATION = Specification.model_validate(
    {
        "id": "tides",
        "name": "Tides",
        "limits": [
            {"quantity": "sample_peak_dbfs", "high": -1.0},
            {"quantity": "rms_dbfs", "low": -30.0, "high": -18.0},
            {"quantity": "numbers_missing", "high": 0, "applies_to": "production"},
            {"quantity": "rms_dbfs", "high": 6.0, "applies_to": "production"},
        ],
    }
)


class Folder(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.keys = KeyFolder(cls.folder / "keys")

    def certified(self, path: Path, **beside):
        certificate, measured, _ = certify(path, SPECIFICATION, issued=WHEN, issuer="Ispettore test", beside=Known(**beside))
        return seal.seal(certificate.plain(), self.keys.own()), measured

    def written(self, container: str, name: str = "") -> Path:
        form = OutputFormat(container=container)
        path = self.folder / f"{name or container}.{form.written.endings[0]}"
        voice = signals.voice_like(6, rms_dbfs=-23, rate=RATE)
        with Sink(path, sample_rate_hz=form.rate_for(RATE), channels=1, form=form) as sink:
            sink.write(voice[:, None].astype(np.float32) if voice.ndim == 1 else voice.astype(np.float32))
        return path


class SoundHash(Folder):
    def test_tags_and_covers_leave_it_and_nothing_else_does(self):
        front = cover.read(picture(), name="cover.jpg")
        for container in FORMAT_NAMES:
            path = self.written(container, f"plain-{container}")
            tagged, changed = (self.folder / f"{what}-{container}{path.suffix}" for what in ("tagged", "changed"))
            for other in (tagged, changed):
                shutil.copy(path, other)
            tagging.write(tagged, container, Tags(title="Ebb " * 200, album="Almanac", track=3), front, name=tagged.name)
            content = bytearray(path.read_bytes())
            content[len(content) * 2 // 3] ^= 4
            changed.write_bytes(content)
            with self.subTest(container=container):
                self.assertNotEqual(path.read_bytes(), tagged.read_bytes())
                self.assertEqual(sound_sha256(path), sound_sha256(tagged))
                self.assertNotEqual(sound_sha256(path), sound_sha256(changed))

    def test_what_others_put_at_the_end_of_mp3_is_no_sound(self):
        path = self.written("mp3", "end")
        before = sound_sha256(path)
        plain = path.read_bytes()
        id3v1 = b"TAG" + b"Ebb".ljust(125, b"\0")
        counts = (2_000).to_bytes(4, "little") + (32).to_bytes(4, "little") + bytes(4)
        header, footer = (b"APETAGEX" + counts + flags.to_bytes(4, "little") + bytes(8) for flags in (0xA000_0000, 0x8000_0000))
        for tail in (id3v1, header + footer, header + footer + id3v1):
            path.write_bytes(plain + tail)
            with self.subTest(size=len(tail)):
                self.assertEqual(sound_sha256(path), before)

    def test_what_is_no_sound_has_none(self):
        path = self.folder / "letter.txt"
        for content in (b"Dear listener,", b"", b"fLaC\x00", b"OggS\x00\x00", b"RIFF\x00\x00\x00\x00WAVE"):
            path.write_bytes(content)
            with self.subTest(content=content):
                sound_sha256(path)  # never raises
        path.write_bytes(b"Dear listener,")
        self.assertIsNone(sound_sha256(path))


class Certified(Folder):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.file = cls.written(cls, "wav", "certified")
        accepted = Accepted(kind="click", title="Click", start_s=1.0, end_s=1.1, reason="The latch of the sluice")
        cls.sealed, cls.measured = cls.certified(
            cls, cls.file, certified_by="Ilse Weir", accepted=(accepted,), listening="listened through by Morten Ebb"
        )
        printed = io.BytesIO()
        report.write(cls.sealed, ribbon.of(cls.measured), printed, key=cls.keys.own())
        cls.printed = printed.getvalue()

    def check(self, path: Path | None = None, paper: Paper | None = None, **more):
        return verify(paper or Paper(self.sealed), path or self.file, keys=more.pop("keys", self.keys), **more)


class OneFile(Certified):
    def test_what_is_known_beside_the_measurement_is_sealed(self):
        content = self.sealed["certificate"]
        self.assertEqual((content["certified_by"], content["listening"]), ("Ilse Weir", "listened through by Morten Ebb"))
        self.assertEqual(content["accepted"][0]["reason"], "The latch of the sluice")
        self.assertEqual(self.check().exit_code, 0)

    def test_only_re_tagged(self):
        tagged = self.folder / "tagged.wav"
        shutil.copy(self.file, tagged)
        file = mutagen.File(tagged)
        file.add_tags()
        file.tags.add(TIT2(encoding=3, text=["Other"]))
        file.save()
        found = self.check(tagged)
        self.assertEqual(found.exit_code, 1)
        self.assertIn("“tagged.wav” was only re-tagged", found.problems[0])
        self.assertIn("its sound is the certified one to the bit", found.problems[0])
        self.assertEqual(found.problems[1:], ("The tag “title” is certified as nothing but says “Other”.",))

    def test_one_sample(self):
        changed = self.folder / "one-sample.wav"
        content = bytearray(self.file.read_bytes())
        content[len(content) // 2] ^= 1
        changed.write_bytes(content)
        found = self.check(changed)
        self.assertEqual(found.exit_code, 1)
        self.assertIn("Its sound was changed", found.problems[1])
        self.assertIn("No reading differs by it.", found.problems)

    def test_a_louder_passage(self):
        wave, rate = soundfile.read(self.file)
        wave[RATE : RATE * 4] *= 1.5
        changed = self.folder / "louder.wav"
        soundfile.write(changed, wave, rate, subtype=soundfile.info(self.file).subtype)
        found = self.check(changed)
        self.assertIn("Its sound was changed", found.problems[1])
        self.assertTrue(any(problem.startswith("RMS level is certified as") for problem in found.problems))

    def test_another_file_is_told_by_what_differs(self):
        other = signals.write(self.folder / "other.wav", signals.voice_like(4, rms_dbfs=-23, rate=RATE), RATE)
        found = self.check(other)
        self.assertIn("It is another file.", found.problems)
        self.assertTrue(any(problem.startswith("Length in samples is certified as") for problem in found.problems))
        letter = self.folder / "letter.txt"
        letter.write_text("Dear listener,")
        self.assertIn("SHA-256 differs", self.check(letter).problems[0])

    def test_a_digit_a_limit_another_key(self):
        def changed(change):
            content = copy.deepcopy(self.sealed["certificate"])
            change(content)
            return content

        digit = changed(lambda c: c["readings"]["rms_dbfs"].update(value=-20.0))
        self.assertIn("changed after it was sealed", self.check(paper=Paper({**self.sealed, "certificate": digit})).problems[0])
        laxer = changed(lambda c: c["specification"]["limits"][0].update(high=0.0))
        found = self.check(paper=Paper(seal.seal(laxer, self.keys.own())))
        self.assertIn("its SHA-256 differs", " ".join(found.problems))
        other = KeyFolder(self.folder / "others")
        self.assertEqual(self.check(paper=Paper(seal.seal(self.sealed["certificate"], other.own()))).exit_code, 3)
        for member in ("certified_by", "listening", "supersedes", "subject"):
            missing = changed(lambda c, member=member: c.pop(member))
            with self.subTest(member=member):
                found = self.check(paper=Paper(seal.seal(missing, self.keys.own())))
                self.assertEqual(found.exit_code, 1)
                self.assertIn("certificate", " ".join(found.problems))

    def notice(self, keys: KeyFolder, ending="withdrawn", **more):
        notice = Notice(
            certificate=hash_of(self.sealed["certificate"]),
            ending=ending,
            when=WHEN,
            reason="A misread word",
            issuer="test",
            **more,
        )
        return seal.seal(notice.model_dump(mode="json"), keys.own(), what="notice")

    def test_withdrawn_and_superseded_are_named(self):
        withdrawn, superseded = self.notice(self.keys), self.notice(self.keys, ending="superseded", successor="ab" * 32)
        found = self.check(told=[superseded])
        self.assertEqual((found.genuine, found.exit_code, found.notice.ending), (True, 0, "superseded"))
        self.assertIn("Its replacement is abababab", found.notice.told)
        found = self.check(told=[superseded, withdrawn])
        self.assertEqual((found.intact, found.genuine, found.exit_code), (True, False, 1))
        self.assertEqual(found.notice.told, "It was withdrawn on 27 November 2026: A misread word.")

    def test_a_notice_of_somebody_else_or_changed_does_not_count(self):
        other = KeyFolder(self.folder / "stranger")
        found = self.check(told=[self.notice(other)])
        self.assertEqual((found.exit_code, found.notice), (0, None))
        self.assertIn("sealed with a key that is not known here. It does not count.", " ".join(found.notes))
        changed = self.notice(self.keys)
        changed["notice"]["reason"] = "Nothing"
        found = self.check(told=[changed])
        self.assertEqual((found.exit_code, found.notice), (0, None))
        self.assertIn("was changed after it was sealed", " ".join(found.notes))
        with self.assertRaises(errors.NotACertificate):
            notices.parse(json.dumps(self.sealed).encode(), name="c.json")
        with self.assertRaises(errors.NotACertificate):
            notices.parse(json.dumps({"notice": {"format": "ispettore-notice"}, "seal": ""}).encode(), name="n.json")

    def test_notices_in_the_folder_of_keys_are_known(self):
        keys = KeyFolder(self.folder / "with-notices")
        keys.own()
        (keys.path / "notices").mkdir()
        (keys.path / "notices" / "one.json").write_text(json.dumps(self.notice(keys)))
        (keys.path / "notices" / "other.json").write_text("no notice")
        self.assertEqual(keys.notices(), [self.notice(keys)])


class Printed(Certified):
    def test_the_pdf_alone_is_verified(self):
        paper = read(self.printed, name="c.pdf")
        self.assertEqual((paper.sealed, paper.problems, paper.remarks), (self.sealed, (), ()))
        found = verify(paper, None, keys=self.keys)
        self.assertEqual((found.exit_code, found.given), (0, False))
        self.assertIn("Only the certificate was checked", found.said)
        self.assertEqual(self.check(paper=paper).exit_code, 0)

    def test_the_certificate_is_attached_as_the_standard_has_it(self):
        reader = PdfReader(io.BytesIO(self.printed))
        self.assertEqual(json.loads(reader.attachments["certificate.json"][0]), self.sealed)
        names = reader.trailer["/Root"]["/Names"]["/EmbeddedFiles"]["/Names"]
        told = [names[place + 1].get_object() for place in range(0, len(names), 2)]
        self.assertIn("/Source", [one.get("/AFRelationship") for one in told])

    def test_the_page_says_what_is_sealed(self):
        text = PdfReader(io.BytesIO(self.printed)).pages[0].extract_text()
        content = self.sealed["certificate"]
        for words in (
            content["file"]["sha256"], content["file"]["sound_sha256"], hash_of(content), "Ilse Weir",
            "Listened through by Morten Ebb", "The latch of the sluice", "Tides, version 1", self.keys.own().thumbprint(),
        ):  # fmt: skip
            with self.subTest(words=words):
                self.assertIn(words, text)

    def changed(self, change) -> Paper:
        writer = PdfWriter(clone_from=PdfReader(io.BytesIO(self.printed)))
        change(writer)
        written = io.BytesIO()
        writer.write(written)
        return read(written.getvalue(), name="c.pdf")

    def test_written_anew_by_another_program_it_stays_whole(self):
        self.assertEqual(self.changed(lambda writer: None).problems, ())
        self.assertEqual(self.changed(lambda writer: writer.compress_identical_objects()).problems, ())

    def test_a_changed_page_is_told_from_the_certificate_in_it(self):
        def figure(writer):
            page = writer.pages[0]
            content = page.get_contents().get_data()
            stream = StreamObject()
            stream.set_data(content.replace(b" Tj", b" Tj 1 0 0 rg", 1))
            page[NameObject("/Contents")] = stream

        def laid_over(writer):
            writer.add_annotation(0, FreeText(text="−3.0 dBFS", rect=(50, 550, 200, 570)))

        def another_page(writer):
            writer.add_blank_page(595, 842)

        for change in (figure, laid_over, another_page):
            paper = self.changed(change)
            with self.subTest(change=change.__name__):
                self.assertEqual(paper.sealed, self.sealed)
                self.assertIn("The printed page was changed", paper.problems[0])
                self.assertEqual(verify(paper, None, keys=self.keys).exit_code, 1)

    def test_a_page_around_another_certificate(self):
        content = copy.deepcopy(self.sealed["certificate"])
        content["certified_by"] = "Nobody"
        other = seal.seal(content, self.keys.own())
        reader = PdfReader(io.BytesIO(self.printed))
        writer = PdfWriter()
        for page in reader.pages:
            writer.add_page(page)
        writer.add_attachment("certificate.json", json.dumps(other).encode())
        writer.add_attachment("page.json", reader.attachments["page.json"][0])
        written = io.BytesIO()
        writer.write(written)
        self.assertIn("The printed page was changed", read(written.getvalue(), name="c.pdf").problems[0])

    def test_a_page_without_a_seal_or_by_another_key_is_told(self):
        for key, words in ((None, "The page is not sealed"), (KeyFolder(self.folder / "printer").own(), "sealed with another key")):
            printed = io.BytesIO()
            report.write(self.sealed, None, printed, key=key)
            paper = read(printed.getvalue(), name="c.pdf")
            with self.subTest(words=words):
                self.assertEqual(paper.problems, ())
                self.assertIn(words, paper.remarks[0])

    def test_what_is_no_printed_certificate_is_said(self):
        empty = io.BytesIO()
        writer = PdfWriter()
        writer.add_blank_page(100, 100)
        writer.write(empty)
        for content, words in (
            (b"%PDF-1.7 nothing", "damaged PDF"),
            (self.printed[: len(self.printed) // 2], "PDF"),
            (empty.getvalue(), "without one certificate in it"),
            (b"%PDF-" + bytes(pdf.LARGEST_BYTES), "larger than 8 MB"),
        ):
            with self.subTest(words=words), self.assertRaises(errors.NotACertificate) as raised:
                read(content, name="c.pdf")
            self.assertIn(words, raised.exception.sentence)


class Keys(Folder):
    def test_rolled_over_older_certificates_stay_genuine(self):
        keys = KeyFolder(self.folder / "rolled")
        content = {"format": "ispettore-certificate"}
        first, before = keys.own(), seal.seal(content, keys.own())
        fingerprint = keys.roll()
        self.assertNotEqual(fingerprint, first.thumbprint())
        self.assertEqual(keys.own().thumbprint(), fingerprint)
        self.assertEqual((keys.path / "seal-private.pem").stat().st_mode & 0o777, 0o600)
        known = keys.known()
        self.assertEqual(set(known.keys), {first.thumbprint(), fingerprint})
        self.assertTrue(seal.intact(before, known.keys[first.thumbprint()]))
        keys.roll()
        self.assertEqual([one.role for one in keys.listed()], ["own", "retired", "retired"])
        self.assertEqual(known.problems, ())

    def test_a_roll_that_broke_off_between_its_two_files_loses_nothing(self):
        keys = KeyFolder(self.folder / "broken")
        keys.own()
        public = (keys.path / "seal-public.pem").read_bytes()
        fingerprint = keys.roll()
        (keys.path / "seal-public.pem").write_bytes(public)  # as it was before
        self.assertIn(fingerprint, keys.known().keys)
        self.assertEqual(keys.listed()[0].fingerprint, fingerprint)

    def test_rolled_over_by_two_at_once_no_key_is_lost(self):
        keys = KeyFolder(self.folder / "raced")
        keys.own()
        used = []

        def roll():
            for _ in range(10):
                keys.roll()
                used.append(keys.own().thumbprint())

        threads = [threading.Thread(target=roll) for _ in range(3)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertLessEqual(set(used), set(keys.known().keys))
        self.assertEqual(len(keys.listed()), 31)

    def test_anothers_key_is_trusted_by_hand_and_no_more(self):
        other, mine = KeyFolder(self.folder / "other"), KeyFolder(self.folder / "mine")
        theirs = other.own()
        mine.own()
        public = other.listed()[0].pem
        self.assertEqual(mine.trust(public, name="Mill house.pem"), theirs.thumbprint())
        [trusted] = [one for one in mine.listed() if one.role == "trusted"]
        self.assertEqual((trusted.name, trusted.fingerprint), ("Mill house", theirs.thumbprint()))
        self.assertIn(theirs.thumbprint(), mine.known().keys)
        for content, words in (
            (public, "counts already, as “Mill house”"),
            ((KeyFolder(self.folder / "careless").own()).as_pem(private=True), "it is a private key"),
            (b"hello", "no Ed25519 key"),
        ):
            with self.subTest(words=words), self.assertRaises(errors.BadKey) as raised:
                mine.trust(content, name="x.pem")
            self.assertIn(words, raised.exception.sentence)
        jwk = json.dumps(KeyFolder(self.folder / "third").own().as_dict(private=False)).encode()
        mine.trust(jwk, name="../../Mill house")
        self.assertEqual([path.name for path in sorted((mine.path / "known").iterdir())], ["Mill house (2).pem", "Mill house.pem"])
        self.assertEqual(list(self.folder.glob("*.pem")), [])
        self.assertTrue(mine.distrust(theirs.thumbprint()))
        self.assertFalse(mine.distrust(theirs.thumbprint()))
        self.assertNotIn(theirs.thumbprint(), mine.known().keys)
        self.assertFalse(mine.distrust(mine.own().thumbprint()))


class Package(Folder):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.package = cls.folder / "package"
        (cls.package / "certificates").mkdir(parents=True)
        parts, read_, files = [], [], []
        for number in (1, 2):
            path = cls.written(cls, "flac", f"{number:02d} Ebb").rename(cls.package / f"{number:02d} Ebb.flac")
            sealed, measured = cls.certified(cls, path)
            seal.write(sealed, cls.package / "certificates" / f"{path.name}.certificate.json")
            entry, inspection = Entry(number=number, title="Ebb"), measured.inspection
            facts = inspection.facts
            parts.append(
                CertifiedPart(
                    name=path.name, sha256=inspection.sha256, size_bytes=facts.size_bytes, entry=entry,
                    certificate=hash_of(sealed["certificate"]),
                )
            )  # fmt: skip
            read_.append(values(inspection, SPECIFICATION))
            files.append(File(entry, facts.duration_s, facts.size_bytes))
        cls.parts, cls.limits = parts, judge_production(read_, SPECIFICATION, whole(files))
        cls.sealed = cls.sealed_production(cls, parts)
        (cls.package / "SHA256SUMS").write_text("not looked at\n")

    def sealed_production(self, parts):
        certificate = certify_production(
            "An almanac", parts, self.limits, SPECIFICATION, issued=WHEN, issuer="test", methods_version=8, certified_by="Ilse Weir"
        )
        return seal.seal(certificate.plain(), self.keys.own())

    def check(self, path: Path, sealed=None, **more):
        return verify_package(Paper(sealed or self.sealed), path, keys=self.keys, folder=self.folder, **more)

    def copied(self, name: str) -> Path:
        return Path(shutil.copytree(self.package, self.folder / name))

    def test_a_folder_and_a_zip_are_measured_again(self):
        zipped = Path(shutil.make_archive(str(self.folder / "package-zip"), "zip", self.folder, "package"))
        for path in (self.package, zipped):
            found = self.check(path)
            with self.subTest(path=path.name):
                self.assertTrue(is_package(path))
                self.assertEqual((found.problems, found.exit_code, found.compared.files), ((), 0, 2))
                self.assertIn("facts of 2 files", found.said)
                self.assertEqual([one.problems for one in found.parts], [(), ()])

    def test_every_kind_of_tampering_with_a_package_is_named(self):
        def swapped(package):
            shutil.copy(package / "01 Ebb.flac", package / "02 Ebb.flac")

        def missing(package):
            (package / "02 Ebb.flac").unlink()

        def without_paper(package):
            (package / "certificates" / "02 Ebb.flac.certificate.json").unlink()

        def others_paper(package):
            folder = package / "certificates"
            shutil.copy(folder / "01 Ebb.flac.certificate.json", folder / "02 Ebb.flac.certificate.json")

        def changed(package):
            path = package / "02 Ebb.flac"
            content = bytearray(path.read_bytes())
            content[len(content) * 2 // 3] ^= 1
            path.write_bytes(content)

        for change, words in (
            (missing, "02 Ebb.flac: The file is missing from the package."),
            (without_paper, "02 Ebb.flac: Its certificate is missing"),
            (others_paper, "02 Ebb.flac: The certificate in the package is not the one"),
            (changed, "02 Ebb.flac: “02 Ebb.flac” is not the certified file"),
        ):
            package = self.copied(change.__name__)
            change(package)
            found = self.check(package)
            with self.subTest(change=change.__name__):
                self.assertEqual(found.exit_code, 1)
                self.assertIn(words, " ".join(found.problems))
        package = self.copied("swapped")
        swapped(package)  # two files of the very same sound: nothing is lost, nothing is wrong
        self.assertEqual(self.check(package).exit_code, 0)

    def test_a_file_more_a_file_fewer_and_limits_that_do_not_follow(self):
        package = self.copied("more")
        (package / "letter.txt").write_text("Dear listener,")
        found = self.check(package)
        self.assertEqual(found.exit_code, 0)
        self.assertIn("“letter.txt” is in the package, but not in its certificate.", found.notes)
        fewer = self.sealed_production([part for part in self.parts if part.entry.number == 2])
        found = self.check(self.package, fewer)
        self.assertIn("does not follow from the certificate's own readings", " ".join(found.problems))
        self.assertIn("The production does not meet Tides: Missing numbers.", found.problems)

    def test_a_withdrawn_file_ends_its_production(self):
        notice = Notice(certificate=self.parts[0].certificate, ending="withdrawn", when=WHEN, reason="A misread word", issuer="t")
        told = [seal.seal(notice.model_dump(mode="json"), self.keys.own(), what="notice")]
        self.assertIn("01 Ebb.flac: It was withdrawn on 27 November 2026", " ".join(self.check(self.package, told=told).problems))

    def test_what_does_not_belong_together_is_said(self):
        found = verify(Paper(self.sealed), self.package / "01 Ebb.flac", keys=self.keys)
        self.assertIn("It is the certificate of a production", found.problems[0])
        own = json.loads((self.package / "certificates" / "01 Ebb.flac.certificate.json").read_text())
        self.assertIn("It is the certificate of one file", self.check(self.package, own).problems[0])
        damaged = self.folder / "damaged.zip"
        damaged.write_bytes(
            Path(shutil.make_archive(str(self.folder / "whole"), "zip", self.package)).read_bytes()[:-40] + bytes(40)
        )
        self.assertFalse(is_package(damaged) and zipfile.ZipFile(damaged).testzip() is None)
        self.assertEqual(self.check(damaged).exit_code, 1)
        locked = self.folder / "locked.zip"
        content = bytearray(Path(shutil.make_archive(str(self.folder / "open"), "zip", self.package)).read_bytes())
        at = content.find(b"PK\x01\x02")
        while at >= 0:  # every entry says that it is encrypted
            content[at + 8] |= 1
            at = content.find(b"PK\x01\x02", at + 1)
        locked.write_bytes(content)
        self.assertIn("can't be read as a ZIP file", " ".join(self.check(locked).problems))

    def test_what_misses_a_limit_on_the_production_is_not_certified(self):
        limits = [limit.model_copy(update={"passes": False}) for limit in self.limits]
        certificate = certify_production("x", self.parts, limits, SPECIFICATION, issued=WHEN, issuer="t", methods_version=8)
        self.assertIsNone(certificate)

    def test_it_is_printed_on_as_many_pages_as_it_takes(self):
        many = self.sealed_production([self.parts[0].model_copy(update={"name": f"{n:03d} Ebb.flac"}) for n in range(60)])
        printed = io.BytesIO()
        report.write(many, None, printed, key=self.keys.own())
        pages = PdfReader(io.BytesIO(printed.getvalue())).pages
        self.assertGreater(len(pages), 2)
        self.assertIn("059 Ebb.flac", pages[-1].extract_text())
        self.assertEqual(read(printed.getvalue(), name="p.pdf").problems, ())


class Measured(unittest.TestCase):
    def test_the_sound_hash_is_in_the_certificate(self):
        with tempfile.TemporaryDirectory() as held:
            path = signals.write(Path(held) / "a.wav", signals.voice_like(4, rms_dbfs=-23, rate=RATE), RATE)
            certificate, _, _ = certify(path, SPECIFICATION, issued=WHEN, issuer="t", known=inspect(path))
            self.assertEqual(certificate.file.sound_sha256, sound_sha256(path))
