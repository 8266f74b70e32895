"""What is handed over: numbers and titles from file names and tables, names from a template, the manifest, and the ZIP file."""

import hashlib
import io
import os
import subprocess
import tempfile
import unittest
import zipfile
import zlib
from datetime import datetime
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from ispettore.core.deliver import entries, labels, languages, manifest, naming
from ispettore.core.deliver.entries import Entry, PasteRefused
from ispettore.core.deliver.labels import Labels, YearRefused
from ispettore.core.deliver.languages import LanguageUnknown
from ispettore.core.deliver.zipped import Member, Zipped
from ispettore.core.text import BadText

WHEN = datetime(2026, 11, 27, 10, 11, 12)


def read(*names: str) -> list[tuple[int | None, int | None, str]]:
    return [(one.number, one.part, one.title) for one in entries.read(names)]


class Entries(unittest.TestCase):
    def test_numbers_parts_and_titles_are_read_from_file_names(self):
        self.assertEqual(read("01 January.wav", "02 February.wav"), [(1, None, "January"), (2, None, "February")])
        self.assertEqual(read("Chapter 7 - The weir.wav", "chapter 12 - Ebb, part 2.mp3"), [(7, None, "The weir"), (12, 2, "Ebb")])
        self.assertEqual(read("almanac_003a_rain.wav", "almanac_003b_rain.wav"), [(3, 1, "rain"), (3, 2, "rain")])
        self.assertEqual(read("Kapitel 5.wav", "Kapitel 6 (Teil 1).wav"), [(5, None, "Chapter 5"), (6, 1, "Chapter 6")])
        self.assertEqual(read("7 a day at the weir.wav", "8 b.wav"), [(7, None, "a day at the weir"), (8, None, "b")])

    def test_what_has_no_number_has_none_where_others_do_and_all_are_counted_where_none_has(self):
        self.assertEqual(read("Opening credits.wav", "01 January.wav"), [(None, None, "Opening credits"), (1, None, "January")])
        self.assertEqual(read("Clocks.wav", "Bells.wav"), [(1, None, "Clocks"), (2, None, "Bells")])
        self.assertEqual(read("2026-11-27 Evening.wav"), [(1, None, "2026-11-27 Evening")])
        self.assertEqual(read("27-11-2026 Evening.wav"), [(1, None, "27-11-2026 Evening")])
        self.assertEqual(read(), [])

    @settings(max_examples=200, deadline=None)
    @given(st.lists(st.text(min_size=1, max_size=40), min_size=1, max_size=6))
    def test_any_name_gives_an_entry(self, names: list[str]):
        found = entries.read(names)
        self.assertEqual(len(found), len(names))
        for entry in found:
            self.assertLessEqual(len(entry.title), entries.LONGEST)

    NAMES = ("01 January.wav", "02 February.wav")

    def pasted(self, text: str) -> list[tuple[int | None, int | None, str, str]]:
        found = entries.pasted(text, self.NAMES, entries.read(self.NAMES))
        return [(one.number, one.part, one.title, one.narrator) for one in found]

    def test_a_table_is_pasted_in_every_shape_a_spreadsheet_gives(self):
        self.assertEqual(self.pasted("Frost\nThaw\n"), [(1, None, "Frost", ""), (2, None, "Thaw", "")])
        self.assertEqual(self.pasted("11\tFrost\r\n12\tThaw\r\n"), [(11, None, "Frost", ""), (12, None, "Thaw", "")])
        self.assertEqual(self.pasted("1,Frost,I. Weir\n2,Thaw,\n"), [(1, None, "Frost", "I. Weir"), (2, None, "Thaw", "")])
        self.assertEqual(self.pasted("1\t1\tFrost\tA\n1\t2\tFrost\tB"), [(1, 1, "Frost", "A"), (1, 2, "Frost", "B")])
        table = "File\tTitle\tNo.\tLength\n02 February\tThaw\t22\t3:00\n"
        self.assertEqual(self.pasted(table), [(1, None, "January", ""), (22, None, "Thaw", "")])
        self.assertEqual(self.pasted('title;narrator\n"Frost; and ice";A\nThaw;B\n')[0], (1, None, "Frost; and ice", "A"))

    def test_what_does_not_fit_is_refused_and_says_why(self):
        for text, reason in (
            ("Frost", "it has 1 rows, and there are 2 recordings"),
            ("  \n", "it is empty"),
            ("file\ttitle\n03 March.wav\tRain", "there is no recording “03 March.wav”"),
            ("one\tFrost\ntwo\tThaw", "in row 1, “one” is no number"),
            ("a\tb\tc\td\te\nf\tg\th\ti\tj", "it has 5 columns, and none of them is named"),
            (f"{'x' * 201}\nThaw", "in row 1, the title is longer than 200 characters"),
        ):
            with self.assertRaises(PasteRefused) as caught:
                self.pasted(text)
            self.assertIn(reason, caught.exception.sentence)


class Names(unittest.TestCase):
    def named(self, template: str, *found: Entry, production: str = "Almanac", ending: str = "mp3") -> list[tuple[str, str]]:
        return [
            (one.name, one.problem) for one in naming.names(template, found, production=production, narrator="N", ending=ending)
        ]

    def test_words_and_brackets_are_filled(self):
        frost, thaw = Entry(number=1, title="Frost"), Entry(number=112, part=2, title="Thaw", narrator="M")
        self.assertEqual(self.named(naming.USUAL, frost, thaw), [("001 Frost.mp3", ""), ("112 Thaw, part 2.mp3", "")])
        self.assertEqual(self.named("{production} - { Number }[ ({narrator})]", frost)[0], ("Almanac - 01 (N).mp3", ""))
        self.assertEqual(self.named(naming.USUAL, Entry(title="Credits"))[0], ("Credits.mp3", ""))
        self.assertEqual(self.named("{title}", Entry(title="Fru\u0308hling"))[0], ("Frühling.mp3", ""))

    def test_a_wrong_template_says_what_is_wrong(self):
        for template, said in (
            ("{chapter}", "There is no {chapter}. Words that can be used: {production}, {number}"),
            ("{title", "A brace stands alone"),
            ("[{number}", "A square bracket is not closed"),
            ("[[{number}]] {title}", "Square brackets come in pairs"),
            ("{number}] {title}", "Square brackets come in pairs"),
            ("{production} x", "Every file would have the same name"),
            ("x" * 201, "at most 200 characters"),
        ):
            self.assertIn(said, self.named(template, Entry(number=1, title="a"))[0][1], template)

    def test_names_that_would_fail_somewhere_are_refused_with_the_reason(self):
        for title, said in (
            ("Ebb/flow", "can't contain “/”"),
            ("What?", "can't contain “?”"),
            ("a:b*c", "can't contain “*” “:”"),
            ("back\\slash", "can't contain “\\”"),
            ("x" * 240, "is 244 bytes long; with its certificate beside it, 238 is the most"),
            ("ü" * 126 + "1", "is 257 bytes long"),
            (".hidden", "begins with a dot"),
            ("dots.", "can't end in a dot"),
            ("line\nbreak", "a line break"),
            ("CON", "reserved on Windows"),
            ("", "It has no title"),
        ):
            [(_, problem)] = self.named("{title}", Entry.model_construct(number=1, part=None, title=title, narrator=""))
            self.assertIn(said, problem, title)

    def test_alike_names_are_refused_whatever_their_capitals(self):
        found = self.named(
            "{title}",
            Entry(title="Tide"),
            Entry(title="tide"),
            Entry(title="Fr\u00fch"),
            Entry(title="Fru\u0308h"),
            Entry(title="Ebb"),
        )
        self.assertEqual([bool(problem) for _, problem in found], [True, True, True, True, False])
        self.assertIn("another recording has it too", found[0][1])

    def test_no_accepted_name_leaves_its_folder(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

        @settings(max_examples=300, deadline=None)
        @given(st.text(max_size=60))
        def tried(title: str):
            [(name, problem)] = self.named("{title}", Entry.model_construct(number=None, part=None, title=title, narrator=""))
            if not problem:
                self.assertEqual((folder / name).resolve().parent, folder.resolve())
                (folder / name).write_bytes(b"")

        tried()


class Said(unittest.TestCase):
    def test_tags_of_each_file(self):
        common = Labels(author="A", narrator="N", year="2026", language="German")
        found = labels.tags(Entry(number=3, title="Rain", narrator="M"), common, production="Almanac", track=4)
        self.assertEqual((found.album, found.track, found.narrator, found.language), ("Almanac", 4, "M", "deu"))

    def test_what_can_not_be_said_is_refused(self):
        for wrong, kind in (
            (Labels(year="26"), YearRefused),
            (Labels(language="Mill"), LanguageUnknown),
            (Labels(album="a\0"), BadText),
        ):
            with self.assertRaises(kind):
                wrong.checked()
        self.assertEqual(Labels(album=" A ", year="1926").checked(), Labels(album="A", year="1926"))
        self.assertEqual([languages.code(said) for said in ("fr", "Italian", "NLD", "pt-BR")], ["fra", "ita", "nld", "por"])

    def test_the_manifest_is_what_sha256sum_checks(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        sums = []
        for name, content in (("01 March – rain.mp3", b"one"), ("certificates/01.json", b"two")):
            (folder / name).parent.mkdir(exist_ok=True)
            (folder / name).write_bytes(content)
            sums.append((hashlib.sha256(content).hexdigest(), name))
        (folder / manifest.NAME).write_text(manifest.text(sums), encoding="utf-8")
        check = ("sha256sum", "-c", "--strict", manifest.NAME)
        self.assertEqual(subprocess.run(check, cwd=folder, capture_output=True, check=False).returncode, 0)
        (folder / "certificates/01.json").write_bytes(b"twO")
        failed = subprocess.run(check, cwd=folder, capture_output=True, text=True, check=False)
        self.assertEqual(failed.returncode, 1)
        self.assertIn("certificates/01.json: FAILED", failed.stdout)


def member(name: str, content: bytes) -> Member:
    return Member(name, len(content), zlib.crc32(content), lambda start, end: iter((content[start:end],)))


class Seen(io.RawIOBase):
    """A ZIP file that is laid out, as a file that can be read and sought in."""

    def __init__(self, zipped: Zipped) -> None:
        self._zipped, self._place = zipped, 0

    def seekable(self) -> bool:
        return True

    def readable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._place

    def seek(self, offset: int, whence: int = 0) -> int:
        self._place = offset + (0, self._place, self._zipped.size)[whence]
        return self._place

    def read(self, size: int = -1) -> bytes:
        end = self._zipped.size if size < 0 else self._place + size
        found = b"".join(self._zipped.read(self._place, end))
        self._place += len(found)
        return found


class Zips(unittest.TestCase):
    FILES = (("Mühle/01 Januar.mp3", os.urandom(70_001)), ("Mühle/certificates/01.json", b"{}"), ("Mühle/SHA256SUMS", b""))

    def test_others_read_it_and_find_nothing_wrong(self):
        zipped = Zipped([member(*file) for file in self.FILES], when=WHEN)
        content = b"".join(zipped.read())
        self.assertEqual(len(content), zipped.size)
        with zipfile.ZipFile(io.BytesIO(content)) as opened:
            self.assertIsNone(opened.testzip())
            self.assertEqual({name: opened.read(name) for name in opened.namelist()}, dict(self.FILES))
            self.assertEqual(opened.infolist()[0].date_time, (2026, 11, 27, 10, 11, 12))

    def test_any_part_of_it_is_that_of_the_whole(self):
        zipped = Zipped([member(*file) for file in self.FILES], when=WHEN)
        whole = b"".join(zipped.read())

        @settings(max_examples=200, deadline=None)
        @given(st.integers(0, zipped.size), st.integers(0, zipped.size))
        def tried(start: int, end: int):
            self.assertEqual(b"".join(zipped.read(start, end)), whole[start:end])

        tried()
        self.assertEqual(b"".join(zipped.read(zipped.size - 5)), whole[-5:])

    def test_its_tag_tells_whether_it_is_still_the_same(self):
        same, again = (Zipped([member(*file) for file in self.FILES], when=WHEN) for _ in range(2))
        other = Zipped([member("Mühle/01 Januar.mp3", os.urandom(70_001)), *(member(*file) for file in self.FILES[1:])], when=WHEN)
        self.assertEqual(same.tag, again.tag)
        self.assertNotEqual(same.tag, other.tag)

    def test_beyond_four_gigabytes_and_65535_files_its_records_are_zip64(self):
        large = 5 * 1024**3

        def zeros(start: int, end: int):
            for first in range(start, end, 1 << 24):
                yield bytes(min(1 << 24, end - first))

        zipped = Zipped([Member("large", large, 0, zeros), member("after", b"it"), Member("twice", large, 0, zeros)], when=WHEN)
        with zipfile.ZipFile(Seen(zipped)) as opened:
            self.assertEqual([one.file_size for one in opened.infolist()], [large, 2, large])
            self.assertEqual(opened.read("after"), b"it")
            with opened.open("twice") as inside:
                self.assertEqual(inside.read(100), bytes(100))
        many = Zipped([member(f"{number}", b"") for number in range(65_600)], when=WHEN)
        with zipfile.ZipFile(Seen(many)) as opened:
            self.assertEqual(len(opened.infolist()), 65_600)
