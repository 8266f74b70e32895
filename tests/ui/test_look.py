"""Light and dark, on paper, and at every width that people work at."""

from playwright.sync_api import expect

from tests.ui import words
from tests.ui.everywhere import EveryScreenCase

DAY, NIGHT = "rgb(245, 242, 236)", "rgb(28, 33, 38)"
LIGHTNESS = """() => {
  const canvas = document.querySelector('.ribbon canvas');
  const { data } = canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height);
  let [sum, count] = [0, 0];
  for (let at = 0; at < data.length; at += 4)
    if (data[at + 3] > 250 && Math.abs(data[at] - data[at + 2]) < 40) [sum, count] = [sum + data[at + 1], count + 1];
  return sum / count;
}"""
BEYOND = """() => [...document.querySelectorAll('main *')]
  .filter((it) => it.getBoundingClientRect().right > innerWidth + 1 && getComputedStyle(it).position !== 'absolute')
  .map((it) => it.outerHTML.slice(0, 100))"""


class Look(EveryScreenCase):
    def ground(self) -> str:
        return self.page.evaluate("() => getComputedStyle(document.body).backgroundColor")

    def test_dark_follows_the_system_is_accessible_and_can_be_chosen(self):
        self.page.emulate_media(color_scheme="dark")
        for place in self.screens():
            with self.subTest(place=place):
                self.visit(place)
                self.assertEqual(self.ground(), NIGHT)
                self.accessible()
        self.visit("/settings")
        choice = self.page.get_by_role("radiogroup", name="Colours")
        expect(choice.get_by_role("radio", name="As the system")).to_be_checked()
        choice.get_by_text("Light").click()
        self.assertEqual(self.ground(), DAY)
        self.page.reload()
        expect(self.page.get_by_role("radio", name="Light")).to_be_checked()
        self.assertEqual(self.ground(), DAY)
        self.accessible()
        self.page.emulate_media(color_scheme="light")
        self.page.get_by_text("Dark", exact=True).click()
        self.assertEqual(self.ground(), NIGHT)
        self.page.get_by_text("As the system").click()
        self.assertEqual(self.ground(), DAY)

    def test_the_ribbon_is_drawn_in_ink_by_day_in_chalk_by_night_and_in_ink_on_paper(self):
        self.open_recording("Tidal mill", rms_dbfs=-20)
        self.picture()
        by_day = self.page.evaluate(LIGHTNESS)
        self.page.emulate_media(color_scheme="dark")
        self.page.wait_for_function(f"() => ({LIGHTNESS})() > 150")
        wide = self.page.locator(".ribbon svg[role=img]").get_attribute("width")
        self.page.emulate_media(color_scheme="dark", media="print")
        self.page.wait_for_function(f"() => ({LIGHTNESS})() < 100")
        self.assertLess(by_day, 100)
        self.assertLess(int(self.page.locator(".ribbon svg[role=img]").get_attribute("width")), int(wide))

    def test_on_paper_stands_what_was_found_and_nothing_that_acts(self):
        sheet, bench, *_ = self.screens()
        for place, said in ((sheet, "RMS level"), (bench, "Noise floor")):
            self.visit(place)
            self.page.emulate_media(color_scheme="dark", media="print")
            expect(self.page.get_by_role("navigation", name="Main")).to_be_hidden()
            expect(self.page.get_by_text(said).filter(visible=True).first).to_be_visible()
            expect(self.page.get_by_role("button", name=words.RENAME, exact=True)).to_have_count(0)
            self.assertEqual(self.page.evaluate("() => getComputedStyle(document.documentElement).colorScheme"), "light")
            self.page.emulate_media(color_scheme="light", media="screen")

    def test_nothing_sticks_out_at_any_width_that_people_work_at(self):
        places = self.screens()
        for width in (1024, 1280, 1920):
            self.page.set_viewport_size({"width": width, "height": 800})
            for place in places:
                with self.subTest(place=place, width=width):
                    self.visit(place)
                    self.assertLessEqual(self.page.evaluate("() => document.documentElement.scrollWidth"), width)
                    self.assertEqual(self.page.evaluate(BEYOND), [])
