"""Delivering in the browser: format, names as they are typed, tags, cover, titles from a spreadsheet; files made, downloaded and
written into a folder."""

import re
import subprocess
import zipfile
from pathlib import Path

from mutagen.id3 import ID3
from playwright.sync_api import expect

from tests.covers import picture
from tests.ui import words
from tests.ui.interface import InterfaceCase

ALSO = "Settings for all files"


class DeliverScreen(InterfaceCase):
    def book(self, *levels: float) -> None:
        """Chapters of a book, on its deliver screen."""
        self.open_production("Book of tides")
        names = [f"{number:02} Tide {number}.wav" for number in range(1, len(levels) + 1)]
        self.drop(*[self.wav(name, rms_dbfs=level, room_dbfs=-78) for name, level in zip(names, levels, strict=True)])
        for name in names:
            self.judged(name)
        self.page.get_by_role("link", name=words.DELIVER).click()
        expect(self.page.locator("[data-deliver]")).to_have_count(len(levels))

    def file(self, number: int):
        return self.page.locator(f'[data-deliver="{number:02} Tide {number}.wav"]')

    def said(self, label: str, text: str) -> None:
        field = self.page.get_by_role("region", name=ALSO).get_by_label(label, exact=True)
        field.fill(text)
        field.press("Enter")

    def test_from_dropped_chapters_to_files_that_are_named_tagged_certified_and_handed_over(self):
        self.book(-29, -20)
        expect(self.page.get_by_label(words.FORMAT)).to_have_value("MP3")
        expect(self.page.get_by_label("Quality")).to_have_value("192 kbit/s")
        expect(self.file(1)).to_contain_text("01 Tide 1.mp3")
        for label, text in (("Author", "A. Reed"), ("Narrator", "I. Weir"), ("Year", "2026"), ("Language", "English")):
            self.said(label, text)
        expect(self.file(1).get_by_label("Narrator of")).to_have_attribute("placeholder", "I. Weir")
        cover = self.page.get_by_role("group", name="Cover")
        cover.get_by_label("Cover picture").set_input_files(
            {"name": "mill.jpg", "mimeType": "image/jpeg", "buffer": picture(800, 600)}
        )
        expect(cover).to_contain_text("many outlets accept square pictures only")
        expect(cover.get_by_role("img", name="Cover: mill.jpg")).to_be_visible()
        self.accessible()

        self.page.get_by_role("button", name="Make 2 files").click()
        for number in (1, 2):
            expect(self.file(number).get_by_role("link", name=words.CERTIFIED)).to_be_visible()
            expect(self.file(number)).to_contain_text(re.compile(r"−0\.2\d.*same"))
        expect(self.page.locator("main")).to_contain_text("2 of 2 files ready and certified for Audiobook, retail")
        with self.page.expect_download() as one:
            self.file(1).get_by_role("link", name="01 Tide 1.mp3").click()
        self.assertEqual(one.value.suggested_filename, "01 Tide 1.mp3")
        told = ID3(one.value.path())
        self.assertEqual((str(told["TPE1"]), str(told["TIT2"]), str(told["TALB"])), ("I. Weir", "Tide 1", "Book of tides"))
        with self.page.expect_download() as package:
            self.page.get_by_role("link", name="Download all as ZIP").click()
        self.assertEqual(package.value.suggested_filename, "Book of tides.zip")
        with zipfile.ZipFile(package.value.path()) as opened:
            self.assertEqual(len(opened.namelist()), 5)

        self.page.get_by_role("button", name="Write to a folder").click()
        handed = self.page.get_by_role("region", name=words.HANDED_OVER)
        expect(handed).to_contain_text("Written")
        expect(handed).to_contain_text("2 files")
        folder = Path(handed.locator(".place").inner_text())
        checked = subprocess.run(("sha256sum", "-c", "--strict", "SHA256SUMS"), cwd=folder, capture_output=True, check=False)
        self.assertEqual(checked.returncode, 0)
        self.accessible()
        self.page.get_by_role("link", name="Book of tides").click()
        expect(self.page.locator("main")).to_contain_text("All 2 certified for Audiobook, retail")
        expect(self.after("01 Tide 1.wav")).to_contain_text("Delivered")

    def test_from_dropped_chapters_to_a_package_that_the_intake_desk_accepts(self):
        self.book(-29, -20)
        self.page.get_by_role("button", name="Make 2 files").click()
        self.page.get_by_role("button", name=words.CERTIFY_THE_PRODUCTION).click()
        expect(self.page.get_by_role("link", name=words.PRODUCTION_CERTIFIED)).to_be_visible()
        self.page.get_by_role("button", name=words.ASK_TO_HAND_IN).click()
        dialog = self.page.get_by_role("dialog", name="Hand in to the intake desk")
        dialog.get_by_label("Checked as").select_option("Audiobook, in chapters")
        self.accessible()
        dialog.get_by_role("button", name=words.HAND_IN).click()
        handed = self.page.get_by_role("region", name=words.HANDED_OVER)
        expect(handed).to_contain_text("Accepted")
        handed.get_by_text("Its measurements match the certificates").click()
        answers = handed.get_by_role("table", name="Answers of the intake desk")
        expect(answers.get_by_role("row")).to_have_count(3)
        expect(answers.get_by_role("row").nth(1)).to_contain_text("01 Tide 1.mp3")
        expect(answers).to_contain_text(words.INTEGRATED_LOUDNESS)
        self.accessible()

        # Held against what these files are not, each is rejected with its reason.
        self.page.get_by_role("button", name=words.ASK_TO_HAND_IN).click()
        dialog.get_by_label("Checked as").select_option("Items for broadcast")
        dialog.get_by_role("button", name=words.HAND_IN).click()
        expect(handed).to_contain_text("0 of 2 files accepted")
        expect(handed).to_contain_text("It is mp3; asked for is wav or flac.")
        self.page.get_by_role("link", name="Book of tides").click()
        expect(self.after("01 Tide 1.wav")).to_contain_text("Delivered")

    def test_names_are_shown_as_the_template_is_typed(self):
        self.book(-29, -20)
        field = self.page.get_by_label("File names")
        field.fill("{narrator} {title}")
        expect(self.file(1)).to_contain_text("It has no narrator, which the name needs")
        field.fill("{number} of {production}")
        expect(self.file(2)).to_contain_text("02 of Book of tides.mp3")
        field.fill("{number")
        expect(self.page.get_by_role("region", name=ALSO)).to_contain_text("A brace stands alone")
        field.press("Enter")
        expect(self.page.get_by_role("alert")).to_contain_text("The names of the files can't be used. A brace stands alone")
        field.fill("{title}")
        self.page.get_by_role("button", name="Insert number").click()
        expect(self.file(1).get_by_text("Tide 101.mp3")).to_be_visible()
        self.page.reload()
        expect(field).to_have_value("{title}{number}")
        expect(self.file(1)).to_contain_text("Tide 101.mp3")

    def test_titles_are_edited_in_place_and_pasted_from_a_spreadsheet(self):
        self.book(-29, -20)
        title, number = self.file(2).get_by_label("Title of"), self.file(2).get_by_label("Number of")
        # Two cells one after the other, as one writes: neither takes the other's change back.
        title.fill("Tide 1")
        title.press("Tab")
        number.fill("1")
        number.press("Enter")
        expect(self.file(1)).to_contain_text("The name is already used: another recording has it too")
        expect(self.page.get_by_role("alert")).to_contain_text("2 names can’t be used")
        expect(self.page.get_by_role("button", name="Make 2 files")).to_be_disabled()
        self.page.get_by_role("button", name=words.PASTE_TITLES).click()
        dialog = self.page.get_by_role("dialog", name="Paste titles")
        dialog.get_by_label("Rows from a spreadsheet").fill("1\tEbb")
        dialog.get_by_role("button", name="Use these").click()
        expect(dialog.get_by_role("alert")).to_contain_text("it has 1 rows, and there are 2 recordings")
        self.accessible()
        dialog.get_by_label("Rows from a spreadsheet").fill("11\tEbb\n12\tFlow")
        dialog.get_by_role("button", name="Use these").click()
        expect(self.file(1)).to_contain_text("11 Ebb.mp3")
        expect(self.file(2)).to_contain_text("12 Flow.mp3")
        expect(self.page.get_by_role("status")).to_contain_text("2 rows changed")
        self.page.get_by_role("button", name=words.UNDO).click()
        expect(self.file(2)).to_contain_text("01 Tide 1.mp3")
        self.page.get_by_role("button", name="Titles from file names").click()
        expect(self.file(2)).to_contain_text("02 Tide 2.mp3")
        expect(title).to_have_value("Tide 2")

    def test_what_changes_is_made_again_and_a_selection_downloaded(self):
        self.book(-29, -20)
        self.page.get_by_role("button", name="Make 2 files").click()
        for number in (1, 2):
            expect(self.file(number).get_by_role("link", name=words.CERTIFIED)).to_be_visible()
        title = self.file(1).get_by_label("Title of")
        title.fill("Spring tide")
        title.press("Enter")
        expect(self.file(1)).to_contain_text("To make again")
        expect(self.file(1)).to_contain_text("Its tags have changed since")
        self.page.get_by_label("Select 02 Tide 2.wav").check()
        with self.page.expect_download() as package:
            self.page.get_by_role("link", name="Download 1 as ZIP").click()
        with zipfile.ZipFile(package.value.path()) as opened:
            names = [name.rpartition("/")[2] for name in opened.namelist()]
        self.assertEqual(names, ["02 Tide 2.mp3", "02 Tide 2.mp3.certificate.json", "SHA256SUMS"])
        self.page.get_by_role("button", name=words.CLEAR_SELECTION).click()
        self.page.get_by_role("button", name="Make 1 file").click()
        expect(self.file(1).get_by_role("link", name="01 Spring tide.mp3")).to_be_visible()
        expect(self.page.get_by_role("link", name="Download all as ZIP")).to_be_visible()

    def test_what_is_asked_of_the_whole_book_is_shown_on_sheet_and_deliver_screen(self):
        self.book(-20, -20.5)
        self.page.get_by_role("link", name="Book of tides").click()
        self.page.get_by_label(words.SPECIFICATION).select_option(label="Audiobook, whole book")
        package = self.page.get_by_role("list", name="The package")
        expect(package).to_contain_text("no recording is the opening credits")
        expect(package).to_contain_text("there is no sample; select a stretch on a bench and cut it")
        expect(package.get_by_role("listitem").filter(has_text="Missing numbers").get_by_role("img", name="inside")).to_be_visible()
        self.accessible()
        self.page.get_by_role("link", name=words.DELIVER).click()
        self.file(2).get_by_label("Kind of").select_option(label="Opening")
        expect(package.get_by_role("listitem").filter(has_text="Opening credits").get_by_role("img", name="inside")).to_be_visible()
        expect(self.file(2).get_by_label("Number of")).to_have_value("")
        number = self.file(1).get_by_label("Number of")
        number.fill("3")
        number.press("Enter")
        expect(package).to_contain_text("1, 2 missing")
        expect(package).to_contain_text("RMS level, between recordings")

    def test_a_selection_on_the_bench_is_cut_as_the_sample(self):
        self.open_recording("Sampled", rms_dbfs=-20, room_dbfs=-78)
        self.select(0.5, 11.5)
        self.page.get_by_role("button", name="Cut as shop sample, 0:1").click()
        told = self.page.get_by_role("status").filter(has_text="is in the production")
        told.get_by_role("link", name="Sample.wav").click()
        expect(self.page.get_by_role("heading", name="Sample.wav")).to_be_visible()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.get_by_role("link", name="Sampled").click()
        self.page.get_by_role("link", name=words.DELIVER).click()
        row = self.page.locator('[data-deliver="Sample.wav"]')
        expect(row.get_by_label("Kind of")).to_have_value("sample")
        self.page.get_by_role("button", name="Make 2 files").click()
        expect(row.get_by_role("link", name=words.CERTIFIED)).to_be_visible()

    def test_what_can_not_meet_the_limits_says_so(self):
        self.open_production("Loud room")
        self.drop(self.wav("01 Loud.wav", rms_dbfs=-21, room_dbfs=-34))
        self.judged("01 Loud.wav")
        self.page.get_by_role("link", name=words.DELIVER).click()
        self.page.get_by_role("button", name="Make 1 file").click()
        row = self.page.locator('[data-deliver="01 Loud.wav"]')
        expect(row).to_contain_text("No plan meets the specification")
        expect(self.page.get_by_role("button", name="Make 1 file")).to_have_count(0)
        row.get_by_role("link", name=words.BENCH).click()
        expect(self.page.get_by_role("heading", name="01 Loud.wav")).to_be_visible()
