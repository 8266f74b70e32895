"""An archive as files: its head, its list, what was changed; names in it; the record as text and JSON."""

import hashlib
import json
import tempfile
import unittest
import zipfile
from datetime import UTC, datetime
from pathlib import Path
from uuid import UUID, uuid4

from ispettore.core.archive import checking, form, record
from ispettore.core.archive.checking import ArchiveChanged, ArchiveTooNew, NotAnArchive
from ispettore.core.archive.form import Head, Names
from ispettore.core.archive.record import Deed
from ispettore.core.certify import seal
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.deliver import manifest
from ispettore.core.errors import Cancelled


class OnDisk(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.key = KeyFolder(self.folder / "keys").own()
        self.files = {"sources/01 one.wav": b"RIFF" * 300, "rows/recording.jsonl": b"{}\n", "README.txt": b"read\n"}

    def written(self, **head) -> Path:
        """A folder with an archive of these files."""
        path = self.folder / str(uuid4())
        for name, content in self.files.items():
            (path / name).parent.mkdir(parents=True, exist_ok=True)
            (path / name).write_bytes(content)
        sums = manifest.text((hashlib.sha256(content).hexdigest(), name) for name, content in sorted(self.files.items())).encode()
        (path / manifest.NAME).write_bytes(sums)
        told = Head(
            id=UUID(int=1),
            production="Almanac",
            made=datetime(2026, 3, 1, tzinfo=UTC),
            software="Ispettore",
            recordings=1,
            files=len(self.files),
            size_bytes=sum(map(len, self.files.values())),
            sums=hashlib.sha256(sums).hexdigest(),
        )
        sealed = seal.seal(told.model_dump(mode="json") | head, self.key, what="archive")
        (path / form.HEAD).write_text(json.dumps(sealed))
        return path

    def test_a_folder_or_a_zip_of_it_is_read_and_every_byte_checked(self):
        path = self.written()
        zipped = self.folder / "one.zip"
        with zipfile.ZipFile(zipped, "w", zipfile.ZIP_DEFLATED) as file:
            for one in sorted(path.rglob("*")):
                file.write(one, f"Almanac/{one.relative_to(path)}")
        for place in (path, zipped):
            heard: list[float] = []
            with self.subTest(place=place.suffix), checking.archive(place, name="it") as found:
                checking.check(found, lambda _stage, fraction, heard=heard: heard.append(fraction))
                self.assertEqual((found.head.production, found.key.thumbprint()), ("Almanac", self.key.thumbprint()))
                self.assertEqual(set(found.sums), set(self.files))
                self.assertEqual((heard, heard[-1]), (sorted(heard), 1.0))
                self.assertEqual(b"".join(found.pieces("README.txt")), b"read\n")

    def test_checking_is_given_up_at_once(self):
        def stop(_stage, _fraction):
            raise Cancelled()

        with checking.archive(self.written(), name="it") as found, self.assertRaises(Cancelled):
            checking.check(found, stop)

    def test_whatever_is_changed_is_named(self):
        def sample(path: Path) -> None:
            whole = bytearray((path / "sources/01 one.wav").read_bytes())
            whole[700] ^= 1
            (path / "sources/01 one.wav").write_bytes(whole)

        cases = {
            "“sources/01 one.wav” is not what its list says.": sample,
            "“README.txt” is missing.": lambda path: (path / "README.txt").unlink(),
            "“more” is in it, but not in its list.": lambda path: (path / "more").write_bytes(b""),
            "its list, “SHA256SUMS”, is missing or another.": lambda path: (path / manifest.NAME).write_text(""),
            "“archive.json” is not what was sealed.": lambda path: (path / form.HEAD).write_text(
                (path / form.HEAD).read_text().replace("Almanac", "Almanacs")
            ),
        }
        for said, change in cases.items():
            path = self.written()
            change(path)
            with (
                self.subTest(said=said),
                self.assertRaises(ArchiveChanged) as caught,
                checking.archive(path, name="mill.zip") as found,
            ):
                checking.check(found)
            self.assertEqual(caught.exception.reason, said)
            self.assertIn("“mill.zip” was changed after it was made", caught.exception.sentence)

    def test_what_is_none_and_what_is_newer_is_told_apart(self):
        other = self.written()
        (other / form.HEAD).unlink()
        for path, kind in ((other, NotAnArchive), (self.written(version=2), ArchiveTooNew), (self.written(id="x"), NotAnArchive)):
            with self.subTest(kind=kind), self.assertRaises(kind), checking.archive(path, name="it"):
                pass
        (self.folder / "text.zip").write_text("no ZIP")
        with self.assertRaises(NotAnArchive), checking.archive(self.folder / "text.zip", name="it"):
            pass

    def test_an_error_of_whoever_reads_is_not_taken_for_a_damaged_file(self):
        with self.assertRaises(RuntimeError), checking.archive(self.written(), name="it"):
            raise RuntimeError("of the reader's own")


class NamesInIt(unittest.TestCase):
    def test_no_two_are_alike_on_any_system_and_none_leaves_its_folder(self):
        names = Names((form.HEAD,))
        given = [
            "a.wav",
            "A.WAV",
            "a.wav",
            "../../etc/passwd",
            "con.txt",
            "x\\y.wav",
            "..",
            " ",
            "ä" * 300 + ".wav",
            "line\nbreak.wav",
        ]
        found = [names.free("sources", name) for name in given]
        self.assertEqual(len({name.casefold() for name in found}), len(given))
        for name in found:
            with self.subTest(name=name):
                folder, _, rest = name.partition("/")
                self.assertEqual(folder, "sources")
                self.assertNotIn("/", rest)
                self.assertNotIn("\\", rest)
                self.assertNotIn("\n", rest)
                self.assertNotIn(rest, ("", ".", ".."))
                self.assertLessEqual(len(rest.encode()), 255)
        self.assertEqual(manifest.read(manifest.text(("ab" * 32, name) for name in found)), dict.fromkeys(found, "ab" * 32))

    def test_what_is_named_beside_a_file_counts_before_its_ending(self):
        names = Names()
        found = [names.free("certificates", "01.mp3", ".certificate.json") for _ in range(2)]
        self.assertEqual(found, ["certificates/01.mp3.certificate.json", "certificates/01 (2).mp3.certificate.json"])


class Record(unittest.TestCase):
    def test_it_runs_from_the_first_to_the_last_and_what_comes_of_what_within_a_moment(self):
        def deed(minute: int, topic: record.Topic, text: str) -> Deed:
            return Deed(at=datetime(2026, 3, 1, 9, minute, tzinfo=UTC), topic=topic, text=text, name="01.wav")

        deeds = [deed(2, "certificate", "certified"), deed(2, "file", "made"), deed(1, "recording", "came in")]
        ordered = record.in_order(deeds)
        self.assertEqual([one.text for one in ordered], ["came in", "made", "certified"])
        read = json.loads(record.as_json("Almanac", ordered))
        self.assertEqual(
            read["deeds"][0], {"at": "2026-03-01T09:01:00Z", "topic": "recording", "text": "came in", "name": "01.wav"}
        )
        lines = record.as_text("Almanac", ordered).splitlines()
        self.assertEqual(
            lines[2:], [f"2026-03-01 09:0{m}:00 UTC  01.wav  {t}" for m, t in ((1, "came in"), (2, "made"), (2, "certified"))]
        )
