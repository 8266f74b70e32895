"""Watched folders and webhooks as a person sets them and sees how they fare, in a real browser beside the process that attends."""

import tempfile
import threading
import unittest
from pathlib import Path

from playwright.sync_api import expect

from ispettore.studio.attending.process import Attending
from tests.studio.test_watching import sound
from tests.studio.test_webhooks import Receiver
from tests.support import until
from tests.ui import words
from tests.ui.interface import InterfaceCase


class Outside(InterfaceCase):
    def setUp(self):
        super().setUp()
        self.application.empty()
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.path = Path(held.name) / "in"
        self.path.mkdir()
        attending = Attending()
        thread = threading.Thread(target=attending.run)
        thread.start()
        self.addCleanup(thread.join, 30)
        self.addCleanup(attending.stop)

    def test_a_folder_is_watched_and_its_file_comes_in_and_its_result_goes_out(self):
        self.open_production("Tidal mill")
        self.page.goto(f"{self.application.address}#/settings")
        self.page.get_by_role("link", name="Show folders and webhooks").click()
        expect(self.page.get_by_role("heading", name="Folders and webhooks")).to_be_visible()
        self.page.get_by_role("button", name="Watch a folder…").click()
        dialog = self.page.get_by_role("dialog", name="Watch a folder")
        dialog.get_by_label("Folder, by its whole path").fill(str(self.path / "gone"))
        dialog.get_by_label("Folder for results, or empty").fill(str(self.path / "done"))
        dialog.get_by_role("button", name="Watch", exact=True).click()
        expect(dialog.get_by_role("alert")).to_contain_text("it is not there")
        dialog.get_by_label("Folder, by its whole path").fill(str(self.path))
        dialog.get_by_role("button", name="Watch", exact=True).click()
        expect(dialog).to_be_hidden()
        article = self.page.get_by_role("article", name=str(self.path))
        expect(article).to_contain_text("then conformed")
        self.accessible()
        sound(self.path / "01 Tide.wav")
        row = article.locator('[data-file="01 Tide.wav"]')
        expect(row.get_by_role("link", name="01 Tide.wav")).to_be_visible()
        made = lambda: [path.name for path in (self.path / "done").glob("01 Tide.*")]  # noqa: E731
        until(lambda: self.page.wait_for_timeout(50) or made(), what="the result", timeout_s=240)
        expect(row).to_contain_text(made()[0])
        (self.path / "01 Tide.wav").unlink()
        expect(row).to_contain_text("Left the folder")
        article.get_by_role("button", name=f"Stop watching {self.path}").click()
        self.page.get_by_role("dialog").get_by_role("button", name="Stop watching", exact=True).click()
        expect(article).to_be_hidden()
        self.page.goto(f"{self.application.address}#/")
        self.page.get_by_role("link", name="Tidal mill").first.click()
        expect(self.row("01 Tide.wav")).to_be_visible()

    def test_a_webhook_is_added_its_secret_shown_once_and_it_is_told(self):
        receiver = Receiver()
        self.addCleanup(receiver.close)
        self.open_production("Tidal mill")
        sheet = self.page.url
        self.page.goto(f"{self.application.address}#/outside")
        self.page.get_by_role("button", name="Add a webhook…").click()
        dialog = self.page.get_by_role("dialog", name="Add a webhook")
        dialog.get_by_label("Address").fill("ftp://example.test")
        dialog.get_by_role("button", name="Add", exact=True).click()
        expect(dialog.get_by_role("alert")).to_contain_text("https://")
        dialog.get_by_label("Address").fill(receiver.url)
        dialog.get_by_role("button", name="Add", exact=True).click()
        shown = self.page.get_by_role("dialog", name="Secret")
        self.assertRegex(shown.get_by_label("Secret", exact=True).input_value(), r"^whsec_.{32}$")
        shown.get_by_role("button", name="Close").click()
        row = self.page.locator(f'[data-url="{receiver.url}"]')
        expect(row).to_contain_text("Nothing to tell yet.")
        self.accessible()
        self.page.goto(sheet)
        self.drop(self.wav("one.wav", rms_dbfs=-20, room_dbfs=-75))
        self.judged("one.wav")
        until(lambda: self.page.wait_for_timeout(50) or any(one["data"]["status"] != "running" for one in receiver.told), what="it")
        self.page.goto(f"{self.application.address}#/outside")
        expect(row).to_contain_text("arrived, the last")
        row.get_by_role("button", name=f"Try now: {receiver.url}").click()
        tried = lambda: "webhook.try" in [one["type"] for one in receiver.told]  # noqa: E731
        until(lambda: self.page.wait_for_timeout(50) or tried(), what="a try")
        row.get_by_role("button", name=f"Remove {receiver.url}").click()
        self.page.get_by_role("dialog").get_by_role("button", name=words.REMOVE, exact=True).click()
        expect(row).to_be_hidden()


if __name__ == "__main__":
    unittest.main()
