"""The inspection sheet and the list of productions in the browser."""

from pathlib import Path

from playwright.sync_api import expect

from tests.ui import words
from tests.ui.interface import InterfaceCase


class Sheet(InterfaceCase):
    def test_many_files_at_once_each_with_its_own_fate(self):
        self.open_production("Many")
        good = self.wav("one.wav", rms_dbfs=-20, room_dbfs=-75)
        self.drop(good, ("empty.wav", b""), ("letter.mp3", b"Dear listener, " * 100), ("two.wav", good[1]))
        expect(self.row("one.wav").locator(".verdict")).to_contain_text(words.INSIDE)
        expect(self.row("two.wav").locator(".verdict")).to_contain_text(words.INSIDE)
        expect(self.row("empty.wav")).to_contain_text("“empty.wav” is empty (0 bytes)")
        expect(self.row("letter.mp3")).to_contain_text("is not an audio file Ispettore can read")
        self.accessible()
        self.row("letter.mp3").get_by_role("button", name="Remove letter.mp3").click()
        expect(self.row("letter.mp3")).to_have_count(0)

    def test_another_specification_judges_at_once(self):
        self.open_production("Judged")
        self.drop(self.wav("one.wav", rms_dbfs=-20.3, room_dbfs=-75))
        expect(self.row("one.wav").locator(".verdict")).to_contain_text(words.INSIDE)
        self.page.get_by_label(words.SPECIFICATION).select_option(label="Video streaming")
        expect(self.row("one.wav").locator(".verdict")).to_contain_text(words.OUTSIDE)
        expect(self.page.get_by_role("columnheader", name=words.INTEGRATED_LOUDNESS)).to_be_visible()

    def test_productions_are_made_and_listed_by_keyboard(self):
        self.page.goto(self.application.address)
        self.page.get_by_role("textbox", name=words.NAME).focus()
        self.page.keyboard.type("Harbour bulletin")
        self.page.keyboard.press("Tab")
        self.page.keyboard.press("Tab")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Harbour bulletin")).to_be_visible()
        self.page.goto(self.application.address)
        expect(self.page.get_by_role("link", name="Harbour bulletin")).to_be_visible()
        self.accessible()

    def test_the_sheet_is_ordered_filtered_and_taken_away(self):
        self.open_production("Ordered")
        loud, quiet = self.wav("10 ten.wav", rms_dbfs=-20, room_dbfs=-75), self.wav("2 two.wav", rms_dbfs=-30, room_dbfs=-75)
        self.drop(loud, quiet, ("1 one.wav", quiet[1]))
        for name in ("10 ten.wav", "2 two.wav", "1 one.wav"):
            self.judged(name)

        self.page.get_by_role("button", name=words.REORDER_BY_NAME).click()
        expect(self.page.get_by_text(words.REORDERED)).to_be_visible()
        self.in_order("1 one.wav", "2 two.wav", "10 ten.wav")
        handle = self.page.get_by_role("button", name="Move 1 one.wav")
        handle.focus()
        self.page.keyboard.press("ArrowDown")
        self.in_order("2 two.wav", "1 one.wav", "10 ten.wav")
        expect(handle).to_be_focused()
        self.page.get_by_role("button", name="Move 10 ten.wav").drag_to(self.row("2 two.wav"))
        self.in_order("10 ten.wav", "2 two.wav", "1 one.wav")
        self.page.reload()
        self.in_order("10 ten.wav", "2 two.wav", "1 one.wav")
        self.accessible()

        self.page.get_by_label(words.SHOW).select_option("outside")
        self.in_order("2 two.wav", "1 one.wav")
        self.page.get_by_label(words.SHOW).select_option("outside by Peak")
        self.in_order()
        self.page.get_by_label(words.SHOW).select_option("outside by RMS level")
        self.in_order("2 two.wav", "1 one.wav")
        expect(self.page.get_by_text("2 of 3 shown")).to_be_visible()
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name="Sheet as CSV").click()
        self.assertEqual(download.value.suggested_filename, "Ordered.csv")
        lines = Path(download.value.path()).read_text(encoding="utf-8").splitlines()
        self.assertEqual([line.split(",")[1] for line in lines], ["recording", "10 ten.wav", "2 two.wav", "1 one.wav"])

    def test_a_production_is_renamed_noted_and_archived(self):
        self.open_production("Draft")
        self.page.get_by_role("button", name=words.RENAME).click()
        name = self.page.get_by_label(words.PRODUCTION_NAME)
        expect(name).to_be_focused()
        name.fill("Tidal mill, final")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Tidal mill, final")).to_be_visible()
        self.page.get_by_role("button", name="Add notes").click()
        self.page.get_by_label(words.NOTES).fill("Ask for chapter 3 again.")
        self.page.get_by_label(words.NOTES).blur()
        self.accessible()
        self.page.get_by_role("button", name="Hide production").click()
        expect(self.page.get_by_text("This production is hidden.")).to_be_visible()
        self.page.reload()
        expect(self.page.get_by_label(words.NOTES)).to_have_value("Ask for chapter 3 again.")
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        show = self.page.get_by_label("hidden")
        expect(show).to_be_visible()
        expect(self.page.get_by_role("link", name="Tidal mill, final")).to_have_count(0)
        show.check()
        self.accessible()
        self.page.get_by_role("button", name="Restore Tidal mill, final").click()
        expect(show).to_have_count(0)
        expect(self.page.get_by_role("link", name="Tidal mill, final")).to_be_visible()

    def in_order(self, *names: str) -> None:
        rows = self.page.locator("tr[data-name]")
        expect(rows).to_have_count(len(names))
        for index, name in enumerate(names):
            expect(rows.nth(index)).to_have_attribute("data-name", name)

    def three(self, production: str) -> None:
        self.open_production(production)
        loud, quiet = self.wav("2 loud.wav", rms_dbfs=-20, room_dbfs=-75), self.wav("1 quiet.wav", rms_dbfs=-30, room_dbfs=-75)
        self.drop(loud, quiet, ("3 twin.wav", quiet[1]))
        for name in ("1 quiet.wav", "2 loud.wav", "3 twin.wav"):
            self.judged(name)

    def test_rows_are_sorted_by_any_reading_and_back(self):
        self.three("Sorted")
        self.in_order("1 quiet.wav", "2 loud.wav", "3 twin.wav")
        by_level = self.page.get_by_role("button", name="Sort by RMS level")
        head = self.page.get_by_role("columnheader", name=words.RMS_LEVEL)
        by_level.click()
        expect(head).to_have_attribute("aria-sort", "ascending")
        self.in_order("1 quiet.wav", "3 twin.wav", "2 loud.wav")
        expect(self.page.get_by_role("button", name="Move 2 loud.wav")).to_have_count(0)
        by_level.click()
        expect(head).to_have_attribute("aria-sort", "descending")
        self.in_order("2 loud.wav", "1 quiet.wav", "3 twin.wav")
        self.accessible()
        by_level.click()
        expect(head).to_have_attribute("aria-sort", "none")
        self.in_order("1 quiet.wav", "2 loud.wav", "3 twin.wav")
        self.page.get_by_role("button", name=words.SORT_BY_NAME).click()
        self.page.get_by_role("button", name=words.SORT_BY_NAME).click()
        self.in_order("3 twin.wav", "2 loud.wav", "1 quiet.wav")

    def test_many_are_chosen_conformed_removed_and_brought_back(self):
        self.three("Chosen")
        expect(self.row("3 twin.wav")).to_contain_text("duplicate of 1 quiet.wav")
        chosen = self.page.get_by_role("group", name=words.SELECTED_RECORDINGS)
        self.page.get_by_label("Select 1 quiet.wav").click()
        self.page.get_by_label("Select 3 twin.wav").click(modifiers=["Shift"])
        expect(chosen).to_contain_text("3 selected")
        self.page.get_by_label("Select 2 loud.wav").click()
        expect(chosen).to_contain_text("2 selected")
        self.accessible()
        chosen.get_by_role("button", name=words.CONFORM).click()
        for name in ("1 quiet.wav", "3 twin.wav"):
            expect(self.after(name)).to_contain_text(words.CERTIFIED)
        expect(self.after("2 loud.wav")).to_have_count(0)
        chosen.get_by_role("button", name=words.REMOVE).click()
        expect(self.page.get_by_text("Removed 2 recordings")).to_be_visible()
        self.in_order("2 loud.wav")
        self.accessible()
        self.page.get_by_role("button", name=words.UNDO).click()
        expect(self.after("3 twin.wav")).to_contain_text(words.CERTIFIED)
        self.in_order("1 quiet.wav", "2 loud.wav", "3 twin.wav")

    def test_a_recording_is_replaced_and_the_older_kept(self):
        self.three("Replaced")
        self.page.get_by_label("Select 1 quiet.wav").click()
        name, content = self.wav("1 quiet, again.wav", rms_dbfs=-21, room_dbfs=-75)
        file = {"name": name, "mimeType": "audio/wav", "buffer": content}
        self.page.get_by_label("Newer file for 1 quiet.wav").set_input_files(file)
        expect(self.row(name).locator(".verdict")).to_contain_text(words.INSIDE)
        self.in_order(name, "2 loud.wav", "3 twin.wav")
        self.row(name).get_by_role("link", name=name).click()
        history = self.page.locator(".history")
        self.turn_to(words.HISTORY)
        expect(history).to_contain_text("took the place of 1 quiet.wav")
        self.accessible()
        history.get_by_role("link", name="1 quiet.wav").click()
        expect(self.page.get_by_text("Replaced by 1 quiet, again.wav")).to_be_visible()
        self.accessible()
        self.page.get_by_role("button", name="Switch back to this version").click()
        expect(self.page.get_by_text("Replaced by")).to_have_count(0)
        self.page.get_by_role("link", name="Replaced").click()
        expect(self.row("1 quiet.wav")).to_be_visible()
        self.in_order("1 quiet.wav", "2 loud.wav", "3 twin.wav")

    def test_the_cells_are_walked_by_keyboard_and_say_what_they_hold(self):
        self.three("Walked")
        told, focused = self.page.locator(".told"), self.page.locator(":focus")
        self.row("1 quiet.wav").locator("th").focus()
        for key, said in (
            ("ArrowRight", ""),
            ("ArrowRight", "RMS level −30.00 dBFS; −23 to −18 dBFS; 7.0 dB too low"),
            ("ArrowDown", "RMS level −20.00 dBFS"),
            ("End", ""),
            ("ArrowLeft", "Channels 1"),
            ("PageDown", "Channels 0 from lowest to highest; at most 0"),
            ("PageUp", "Channels 1"),
        ):
            self.page.keyboard.press(key)
            expect(told).to_contain_text(said) if said else expect(told).to_have_text("")
        self.assertTrue(focused.evaluate("cell => cell.matches('td[tabindex=\"0\"]')"))
        self.assertEqual(self.page.locator("table [tabindex='0']:is(th, td)").count(), 1)
        self.accessible()
        self.page.keyboard.press("Space")
        expect(self.page.get_by_role("group", name=words.SELECTED_RECORDINGS)).to_contain_text("1 selected")
        self.page.keyboard.press("Home")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="1 quiet.wav")).to_be_visible()

    def test_the_sheet_is_printed(self):
        self.three("Printed")
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name="Sheet as PDF").click()
        self.assertEqual(download.value.suggested_filename, "Printed.pdf")
        self.assertEqual(Path(download.value.path()).read_bytes()[:5], b"%PDF-")
