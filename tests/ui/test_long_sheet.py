"""Long sheets: two thousand rows are drawn as they come into view, and a change asks again for what it names alone."""

import re

from playwright.sync_api import expect

from ispettore.studio.catalogue import acceptances
from ispettore.studio.catalogue.views import FindingPlace
from tests.ui import words
from tests.ui.interface import InterfaceCase
from tests.ui.much import THOUSANDS, many_chapters

MOST_ROWS = 200
"""A screen shows a dozen; some more are drawn on either side."""


class LongSheet(InterfaceCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = many_chapters(cls.application.folder, THOUSANDS, long=20)

    def setUp(self):
        super().setUp()
        self.page.goto(f"{self.application.address}#/productions/{self.production}")
        self.judged("Chapter 1.wav")

    def drawn(self) -> int:
        return self.page.locator("tr[data-name]").count()

    def test_rows_are_drawn_as_they_come_into_view(self):
        expect(self.page.get_by_text(f"0 of {THOUSANDS} certified")).to_be_visible()
        self.assertLess(self.drawn(), MOST_ROWS)
        tall = self.page.evaluate("() => document.documentElement.scrollHeight")
        self.assertGreater(tall, THOUSANDS * 40, "there is room for all")
        last = self.row(f"Chapter {THOUSANDS}.wav")
        for _ in range(3):  # the room of what was never drawn is a guess
            self.page.evaluate("() => scrollTo(0, document.documentElement.scrollHeight)")
        expect(last.locator(".verdict")).to_contain_text("side")
        last.scroll_into_view_if_needed()
        expect(last).to_be_in_viewport()
        self.assertLess(self.drawn(), MOST_ROWS)
        expect(self.row("Chapter 1.wav")).to_have_count(0)
        self.page.evaluate("() => scrollTo(0, 0)")
        expect(self.row("Chapter 1.wav")).to_be_in_viewport()
        self.accessible()

    def test_one_of_two_thousand_is_found_by_name_and_status(self):
        self.page.get_by_label("Find").fill("chapter 1999")
        expect(self.page.locator("tr[data-name]")).to_have_count(1)
        expect(self.page.get_by_text(f"1 of {THOUSANDS} shown")).to_be_visible()
        self.page.get_by_label("Find").fill("")
        outside = self.page.get_by_role("group", name=words.VERDICT_COUNTS).get_by_role("button", name=re.compile("outside"))
        outside.click()
        expect(self.page.locator("tr[data-name]")).to_have_count(1)
        expect(self.row("Chapter 77.wav")).to_be_visible()
        self.accessible()
        outside.click()
        expect(self.row("Chapter 1.wav")).to_be_visible()

    def test_sorted_by_a_reading_the_server_tells_the_order(self):
        self.page.get_by_role("button", name="Sort by RMS level").click()
        expect(self.page.locator("tr[data-name]").first).to_have_attribute("data-name", "Chapter 77.wav")

    def test_all_are_chosen_though_few_are_drawn(self):
        self.page.get_by_label("Select all").click()
        expect(self.page.get_by_role("group", name=words.SELECTED_RECORDINGS)).to_contain_text(f"{THOUSANDS} selected")

    def test_a_change_asks_again_for_what_it_names_alone(self):
        asked = []
        self.page.on("request", lambda request: "/api/" in request.url and asked.append(request))
        link = self.row("Chapter 3.wav").get_by_role("link").get_attribute("href")
        recording = link.rsplit("/", 1)[-1]
        with self.page.expect_response(lambda answer: answer.url.endswith("/rows")):
            acceptances.accept(recording, [FindingPlace(kind="click", start_s=1, end_s=1.1)], "the mill")
        self.page.wait_for_timeout(1500)
        rows = [request for request in asked if request.url.endswith("/rows")]
        self.assertEqual([request.post_data_json for request in rows], [{"recordings": [recording]}])
        others = {re.sub(r"\?.*", "", request.url).rsplit("/", 1)[-1] for request in asked}
        self.assertLessEqual(others, {"rows", "sheet", "uploads"})

    def test_what_stands_apart_is_named(self):
        expect(self.page.locator("tfoot")).to_contain_text("1 outlier")
        self.page.get_by_label("Find").fill("chapter 77.")
        cell = self.row("Chapter 77.wav").locator(".cell.apart")
        said = "RMS level −26.77 dBFS; −23 to −18 dBFS; 3.8 dB too low; 5.8 dB below the median recording"
        expect(cell).to_have_attribute("data-said", said)
