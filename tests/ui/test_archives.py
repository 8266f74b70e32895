"""The record and the archive in the browser: what was done is read, the archive made, and imported where nothing of it is known."""

import shutil
from pathlib import Path

from playwright.sync_api import expect

from ispettore.core.certify.keys import KeyFolder
from ispettore.studio.settings import settings
from tests.ui import words
from tests.ui.interface import InterfaceCase


class ArchiveScreens(InterfaceCase):
    def made(self) -> tuple[str, Path]:
        """A production with one certified recording; its archive, downloaded."""
        self.open_production("Mill of tides")
        self.drop(self.wav("01 Sluice.wav", rms_dbfs=-29, room_dbfs=-80))
        self.page.get_by_role("button", name="Conform 01 Sluice.wav").click()
        expect(self.after("01 Sluice.wav")).to_contain_text(words.CERTIFIED)
        self.page.get_by_role("link", name=words.RECORD, exact=True).click()
        self.page.get_by_role("button", name=words.MAKE_THE_ARCHIVE).click()
        with self.page.expect_download() as one:
            self.page.get_by_role("link", name=words.DOWNLOAD_THE_ARCHIVE).click()
        path = self.application.folder / "mill.zip"
        one.value.save_as(path)
        return one.value.suggested_filename, path

    def elsewhere(self) -> None:
        """As if this were another installation: nothing is known, and another key seals."""
        self.application.empty()
        for number, folder in enumerate((Path(settings().store), settings().keys)):
            aside = self.application.folder / f"aside-{number}"  # whoever looks there just now may make the folder anew
            folder.rename(aside)
            shutil.rmtree(aside)
        (Path(settings().store) / "incoming").mkdir(parents=True, exist_ok=True)

    def bring_in(self, path: Path):
        self.page.get_by_label("Archive to import").set_input_files(path)
        return self.page.locator(f"[data-import='{path.name}']")

    def test_what_was_done_is_read_and_taken_along_and_everything_is_there_on_another_installation(self):
        name, archive = self.made()
        self.assertRegex(name, r"^Mill of tides archive \d{4}-\d\d-\d\d\.zip$")
        table = self.page.get_by_role("table", name="What was done, the newest first")
        expect(table).to_contain_text("“01 Sluice.mp3” was certified for Audiobook, retail, version")
        expect(table).to_contain_text("1. Gain. RMS level is")
        expect(table).to_contain_text("Production created with Audiobook, retail")
        self.accessible()
        self.page.get_by_label("About").select_option("Recordings")
        expect(table.get_by_role("row")).to_have_count(3)
        expect(table).to_contain_text("Added as “01 Sluice.wav”")
        for form, said in (("text", "Added as “01 Sluice.wav”"), ("JSON", '"format": "ispettore-record"')):
            with self.page.expect_download() as one:
                self.page.get_by_role("link", name=f"Record as {form}").click()
            self.assertIn(said, Path(one.value.path()).read_text(encoding="utf-8"))

        self.page.get_by_role("link", name="Mill of tides").click()
        self.page.get_by_role("button", name=words.RENAME).click()
        self.page.get_by_label(words.PRODUCTION_NAME).fill("Mill of the tides")
        self.page.keyboard.press("Enter")
        self.page.get_by_role("link", name=words.RECORD, exact=True).click()
        expect(self.page.get_by_role("region", name="Archive")).to_contain_text("It is no longer up to date.")
        expect(self.page.get_by_role("button", name="Make it again")).to_be_visible()

        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        row = self.bring_in(archive)
        expect(row).to_contain_text("Mill of tides is already here and was not changed.")
        row.get_by_role("button", name="Dismiss mill.zip").click()
        expect(row).to_have_count(0)

        self.elsewhere()
        self.page.reload()
        expect(self.page.get_by_role("region", name=words.FIRST_STEPS)).to_be_visible()
        row = self.bring_in(archive)
        expect(row).to_contain_text("“Mill of tides” is whole, but sealed with a key that is not trusted here.")
        expect(self.page.get_by_role("link", name="Mill of tides")).to_have_count(0)
        row.get_by_role("button", name="Compare and trust…").click()
        dialog = self.page.get_by_role("dialog", name="Trust what sealed this archive")
        expect(dialog).to_contain_text("sealed the archive and 1 certificate")
        self.accessible()
        dialog.get_by_role("button", name="It matches: trust and import").click()
        expect(row).to_contain_text("Mill of tides is here: 1 recording")
        self.accessible()
        row.get_by_role("link", name="Mill of tides").click()
        expect(self.after("01 Sluice.wav")).to_contain_text(words.CERTIFIED)
        self.page.get_by_role("link", name="01 Sluice.wav").first.click()
        expect(self.page.locator(".ribbon canvas")).to_have_attribute("data-settled", "true")
        self.assertEqual([key.role for key in KeyFolder(settings().keys).listed()], ["trusted"])

    def test_an_archive_that_was_changed_is_refused_with_the_name_of_what_was(self):
        self.page.goto(self.application.address)
        changed = self.application.folder / "changed.zip"
        changed.write_bytes(b"PK\x05\x06" + bytes(18))
        row = self.bring_in(changed)
        expect(row.get_by_role("alert")).to_contain_text(
            "“changed.zip” is not an archive of a production: there is no “archive.json” in it."
        )
        row.get_by_role("button", name="Discard changed.zip").click()
        expect(row).to_have_count(0)
