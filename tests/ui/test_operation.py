"""The page for whoever keeps it running: what is there, what waits, what failed and can be tried again."""

import unittest

from playwright.sync_api import expect

from tests.support import until, work_for
from tests.ui import words
from tests.ui.interface import InterfaceCase


class Operation(InterfaceCase):
    def test_what_failed_says_why_and_is_tried_again(self):
        self.open_production("Tidal mill")
        self.drop(("broken.wav", b"RIFF"))
        expect(self.row("broken.wav")).to_contain_text("is not an audio file")
        self.page.get_by_role("link", name=words.SETTINGS).click()
        self.page.get_by_role("link", name="Show operation").click()
        for part in ("Database", "Versions", "Queue", "Workers", "Store"):
            expect(self.page.locator(f"tr[data-part={part}]")).to_be_visible()
        failures = self.page.get_by_role("table", name="Failures")
        expect(failures).to_contain_text("“broken.wav” is not an audio file")
        self.accessible()
        recording = failures.get_by_role("link", name="broken.wav").get_attribute("href").rpartition("/")[2]
        before = work_for(recording).id
        failures.get_by_role("button", name="Try again: Measuring, broken.wav").click()
        until(lambda: work_for(recording).id != before, what="it to be asked for once more")
        expect(failures).to_contain_text("“broken.wav” is not an audio file")  # it failed once more, and says so


if __name__ == "__main__":
    unittest.main()
