"""A sheet of two hundred chapters: all of them there, and what stands apart named."""

from playwright.sync_api import expect

from tests.ui.interface import InterfaceCase
from tests.ui.much import CHAPTERS, two_hundred_chapters


class LongSheet(InterfaceCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = two_hundred_chapters(cls.application.folder)

    def test_every_chapter_is_there_and_can_be_scrolled_to(self):
        self.page.goto(f"{self.application.address}#/productions/{self.production}")
        expect(self.page.locator("tr[data-name] .verdict")).to_have_count(CHAPTERS)
        last = self.row(f"Chapter {CHAPTERS}.wav")
        last.scroll_into_view_if_needed()
        expect(last).to_be_in_viewport()

    def test_what_stands_apart_is_named(self):
        self.page.goto(f"{self.application.address}#/productions/{self.production}")
        foot = self.page.locator("tfoot")
        expect(foot).to_contain_text("1 apart")
        cell = self.row("Chapter 77.wav").locator(".cell.apart")
        said = "RMS level −26.77 dBFS; −23 to −18 dBFS; 3.8 dB under; stands apart, 5.8 dB below the middle of all"
        expect(cell).to_have_attribute("data-said", said)
