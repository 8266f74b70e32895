"""By keyboard alone, with the accessibility tree, on a narrow screen: what axe-core does not see."""

import re
import unittest
from collections import Counter

import soundfile
from playwright.sync_api import expect

from ispettore.studio.locations import ROOT
from tests import signals
from tests.ui import words
from tests.ui.everywhere import EveryScreenCase
from tests.ui.interface import RATE

FOCUSED = "() => { const it = document.activeElement; return it.getAttribute('aria-label') ?? it.textContent.trim(); }"
SMALL = """() => {
  const front = document.querySelector('dialog[open]') ?? document;
  const all = [...front.querySelectorAll('a[href], button, input, select, textarea, [role=slider]')].filter((it) =>
    it.checkVisibility() && !it.closest('dialog:not([open]), .visually-hidden') && getComputedStyle(it).opacity !== '0');
  const box = (it) => (it.closest('label') ?? it).getBoundingClientRect();
  // WCAG 2.2, 2.5.8: at least 24 by 24 px; or nothing else within a circle of 24 px around its middle; or within a sentence.
  const small = (it) => box(it).width && Math.min(box(it).width, box(it).height) < 23.5;
  const spoken = (it) => {
    const sentence = it.closest('p, li, dd, td, h3, .setting');
    const inline = it.matches('a, button, .setting *') && getComputedStyle(it).display.startsWith('inline');
    return inline && sentence && (sentence.matches('.setting') || sentence.textContent.trim() !== it.textContent.trim());
  };
  const crowded = (it) => all.some((other) => {
    if (other === it || (it.closest('label') && other.closest('label') === it.closest('label'))) return false;
    const [mine, its] = [box(it), box(other)];
    const [x, y] = [mine.x + mine.width / 2, mine.y + mine.height / 2];
    return Math.hypot(Math.max(its.x - x, 0, x - its.right), Math.max(its.y - y, 0, y - its.bottom)) < 12;
  });
  return all.filter((it) => small(it) && !spoken(it) && crowded(it))
    .map((it) => `${it.outerHTML.slice(0, 110)} ${Math.round(box(it).width)}x${Math.round(box(it).height)}`);
}"""


class Access(EveryScreenCase):
    def test_every_target_is_large_enough_or_stands_apart(self):
        small = {}
        places = self.screens()
        for width in (1280, 320):
            self.page.set_viewport_size({"width": width, "height": 800})
            for place in places:
                self.visit(place)
                if found := self.page.evaluate(SMALL):
                    small[f"{place} at {width} px"] = found
        self.assertEqual(small, {}, "\n".join(f"{place}\n  " + "\n  ".join(found) for place, found in small.items()))

    def test_nothing_is_lost_on_a_narrow_screen(self):
        places = self.screens()
        for width in (320, 640):
            self.page.set_viewport_size({"width": width, "height": 640})
            for place in places:
                with self.subTest(place=place, width=width):
                    self.visit(place)
                    wide = self.page.evaluate("() => document.documentElement.scrollWidth")
                    self.assertLessEqual(wide, width)

    def test_on_a_phone_the_sheet_is_read_from_top_to_bottom_and_is_still_a_grid(self):
        sheet, *_ = self.screens()
        self.page.set_viewport_size({"width": 360, "height": 740})
        self.visit(sheet)
        self.judged("two.wav")
        across = self.page.evaluate("() => [...document.querySelectorAll('.across')].map(it => it.scrollWidth - it.clientWidth)")
        self.assertEqual(across, [0])
        row = self.row("two.wav")
        for title in (words.RMS_LEVEL, "Tail", words.NOISE_FLOOR):
            expect(row.get_by_text(title, exact=True)).to_be_visible()
        expect(row.get_by_role("button", name="Conform two.wav")).to_be_visible()
        tree = self.context.new_cdp_session(self.page).send("Accessibility.getFullAXTree")["nodes"]
        roles = Counter(node["role"]["value"] for node in tree if not node["ignored"])
        self.assertEqual((roles["grid"], roles["row"], roles["rowheader"]), (1, 4, 3), "headings, two recordings and the whole")
        self.assertGreater(roles["gridcell"], 20)

        rename = self.page.get_by_role("button", name=words.RENAME)
        more = self.page.get_by_role("button", name="More")
        expect(rename).to_be_hidden()
        more.click()
        expect(rename).to_be_visible()
        expect(more).to_have_attribute("aria-expanded", "true")
        self.accessible()
        self.page.set_viewport_size({"width": 1280, "height": 800})
        expect(row.get_by_text("Tail", exact=True)).to_be_hidden()
        expect(more).to_be_hidden()

    def test_a_link_skips_to_the_content_and_a_new_screen_has_the_focus_at_its_head(self):
        self.screens()
        self.visit("/")
        self.page.keyboard.press("Tab")
        expect(self.page.get_by_role("button", name="Skip to content")).to_be_focused()
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name=words.PRODUCTIONS)).to_be_focused()
        link = self.page.get_by_role("link", name="Tidal mill")
        link.focus()
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Tidal mill")).to_be_focused()
        self.page.go_back()
        expect(self.page.get_by_role("heading", name=words.PRODUCTIONS)).to_be_focused()

    def test_the_sheet_is_one_stop_of_tab_and_is_used_by_keys_alone(self):
        sheet, *_ = self.screens()
        self.visit(sheet)
        self.judged("two.wav")
        grid = self.page.get_by_role("grid", name="Inspection sheet of Tidal mill")
        grid.get_by_role("rowheader").first.focus()
        self.page.keyboard.press("Shift+Tab")
        self.assertFalse(self.in_grid())
        self.page.keyboard.press("Tab")
        expect(grid.get_by_role("rowheader", name=re.compile("one.wav"))).to_be_focused()
        self.page.keyboard.press("Tab")
        self.assertFalse(self.in_grid())
        self.page.keyboard.press("Shift+Tab")
        self.page.keyboard.press("ArrowUp")
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("F2")
        self.page.keyboard.press("ArrowRight")
        self.assertEqual(self.page.evaluate(FOCUSED), f"Sort by {words.RMS_LEVEL}")
        self.page.keyboard.press("Enter")
        expect(grid.get_by_role("columnheader", name=words.RMS_LEVEL)).to_have_attribute("aria-sort", "ascending")
        expect(grid.locator("tbody a")).to_have_text(["two.wav", "one.wav"])
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("End")
        self.page.keyboard.press("Enter")  # the cell's only button: conform
        expect(self.after("two.wav")).to_be_visible()
        self.page.keyboard.press("Home")
        self.page.keyboard.press("Space")
        chosen = self.page.get_by_role("group", name=words.SELECTED_RECORDINGS)
        expect(chosen).to_contain_text("1 selected")
        self.page.keyboard.press("Shift+Tab")
        self.assertTrue(chosen.evaluate("it => it.contains(document.activeElement)"), "what can be done comes before the sheet")

    def in_grid(self) -> bool:
        return self.page.evaluate("() => Boolean(document.activeElement.closest('[role=grid]'))")

    def test_the_pointer_is_not_repeated_and_the_focus_is(self):
        sheet, *_ = self.screens()
        self.visit(sheet)
        self.judged("two.wav")
        spoken = self.page.locator(".foot [aria-live]")
        cell = self.row("two.wav").locator("td").nth(1)
        cell.hover()
        expect(self.page.locator(".told")).to_contain_text(words.RMS_LEVEL)
        expect(spoken).to_have_text("")
        cell.focus()
        expect(spoken).to_contain_text(f"{words.RMS_LEVEL} −30.00 dBFS")

    def test_keys_that_scroll_a_page_act_on_the_ribbon_alone(self):
        _, bench, *_ = self.screens()
        self.visit(bench)
        strip = self.page.get_by_role("group", name=words.PLAYER)
        self.page.evaluate("""() => {
          window.caught = [];
          window.addEventListener('keydown', (event) => window.caught.push([event.key, event.defaultPrevented]));
          document.activeElement.blur();
        }""")
        for key in ("Space", "End", "Home", "PageDown"):
            self.page.keyboard.press(key)
        left = [[" ", False], ["End", False], ["Home", False], ["PageDown", False]]
        self.assertEqual(self.page.evaluate("() => window.caught"), left)
        expect(strip.get_by_role("button", name="Play")).to_be_visible()
        ribbon = self.page.get_by_role("slider", name=words.PLAYHEAD)
        ribbon.focus()
        self.page.keyboard.press("End")
        expect(ribbon).to_have_attribute("aria-valuenow", "11")
        self.page.keyboard.press("Home")
        expect(ribbon).to_have_attribute("aria-valuenow", "0")
        self.page.keyboard.press("PageUp")
        expect(ribbon).to_have_attribute("aria-valuenow", "12")
        self.page.keyboard.press("PageDown")
        self.page.keyboard.press("Space")
        expect(strip.get_by_role("button", name=words.STOP)).to_be_visible()
        self.page.keyboard.press("Space")
        self.page.evaluate("() => document.activeElement.blur()")
        self.page.keyboard.press("h")
        expect(strip.get_by_role("button", name=words.STOP)).to_be_visible()
        self.page.keyboard.press("h")

    def test_the_ribbon_says_where_the_playhead_is_and_what_lies_ahead(self):
        self.open_production("Clicks")
        name, content = self.clicked()
        self.drop((name, content))
        self.row(name).get_by_role("link", name=name).click()
        ribbon = self.page.get_by_role("slider", name=words.PLAYHEAD)
        expect(ribbon).to_have_attribute("aria-valuetext", re.compile(r"^0:00\.0 of 0:12\.0; .*next \d+, .*, in [\d.]+ s"))
        ribbon.focus()
        self.page.keyboard.press("n")
        expect(ribbon).to_have_attribute("aria-valuetext", re.compile(r"here \d+, "))
        self.page.keyboard.press("End")
        expect(ribbon).to_have_attribute("aria-valuetext", re.compile("nothing is marked ahead$"))
        self.accessible()

    def clicked(self) -> tuple[str, bytes]:
        """A voice with two clicks in it."""
        wave = signals.voice_like(12, rate=RATE, rms_dbfs=-20, room_dbfs=-75)
        for at in (4.0, 8.0):
            wave[int(at * RATE)] += 0.7
        path = self.application.folder / "clicked.wav"
        soundfile.write(path, wave, RATE, subtype="PCM_16")
        return "clicked.wav", path.read_bytes()

    def test_what_is_heard_is_chosen_by_arrows(self):
        self.open_recording("Heard", rms_dbfs=-30, room_dbfs=-85)
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        sides = self.page.get_by_role("radiogroup", name=words.WHAT_IS_HEARD)
        original, processed = (sides.get_by_role("radio", name=name) for name in (words.ORIGINAL, words.PROCESSED))
        expect(original).to_be_checked()
        original.focus()
        self.page.keyboard.press("ArrowRight")
        expect(processed).to_be_checked()
        expect(processed).to_be_focused()
        self.page.keyboard.press("ArrowRight")
        expect(original).to_be_checked()
        self.page.keyboard.press("x")
        expect(processed).to_be_checked()

    def test_the_focus_stays_near_what_was_removed(self):
        sheet, *_ = self.screens()
        self.visit(sheet)
        self.judged("two.wav")
        self.row("one.wav").locator("th").focus()
        self.page.keyboard.press("Space")
        self.page.get_by_role("button", name=words.REMOVE, exact=True).last.focus()
        self.page.keyboard.press("Enter")
        expect(self.row("one.wav")).to_have_count(0)
        self.assertNotEqual(self.page.evaluate("() => document.activeElement.tagName"), "BODY")
        self.visit("/removed")
        restore = self.page.get_by_role("button", name="Restore one.wav")
        restore.focus()
        self.page.keyboard.press("Enter")
        expect(restore).to_have_count(0)
        expect(self.page.locator("h1:focus, main a:focus, main button:focus")).to_have_count(1)

    def test_nothing_moves_where_less_motion_is_wanted(self):
        self.page.emulate_media(reduced_motion="reduce")
        places = self.screens()
        moving = """() => [...document.querySelectorAll('*')].filter((it) => {
          const how = getComputedStyle(it);
          return how.transitionDuration.split(', ').some((one) => one !== '0s') || how.animationName !== 'none';
        }).map((it) => it.outerHTML.slice(0, 80))"""
        for place in places:
            with self.subTest(place=place):
                self.visit(place)
                self.assertEqual(self.page.evaluate(moving), [])

    def test_what_opens_in_front_has_targets_for_fingers_and_fits_a_phone(self):
        places = self.screens()
        sheet, bench = places[:2]
        [deliver] = [place for place in places if place.endswith("/deliver")]
        fronts = (
            (sheet, lambda: self.page.get_by_role("button", name=words.SHORTCUTS)),
            (sheet, lambda: self.page.get_by_role("button", name=words.REMOVE_PRODUCTION)),
            (bench, lambda: self.page.get_by_role("button", name=words.SHORTCUTS)),
            (deliver, lambda: self.page.get_by_role("button", name=words.PASTE_TITLES)),
            ("/certificates/keys", lambda: self.page.get_by_role("button", name=words.MAKE_A_KEY)),
        )
        for width in (1280, 320):
            self.page.set_viewport_size({"width": width, "height": 640})
            for place, button in fronts:
                with self.subTest(place=place, width=width):
                    self.visit(place)
                    if place == sheet and width == 320:  # there, what is done less often is opened first
                        more = self.page.get_by_role("button", name="More", exact=True)
                        if more.get_attribute("aria-expanded") == "false":
                            more.click()
                    button().click()
                    front = self.page.locator("dialog[open]")
                    expect(front).to_be_visible()
                    self.assertEqual(self.page.evaluate(SMALL), [])
                    self.assertLessEqual(self.page.evaluate("() => document.documentElement.scrollWidth"), width)
                    box = front.bounding_box()
                    self.assertGreaterEqual(box["x"], 0)
                    self.assertLessEqual(box["x"] + box["width"], width)
                    self.accessible()
                    self.page.keyboard.press("Escape")
                    expect(front).to_have_count(0)
                    expect(button()).to_be_focused()


class Written(unittest.TestCase):
    """What the sources say of names, regions and colours."""

    NAMED = re.compile(r"<(span|p|div|li|b|em|dl|dd|dt|td|ol|ul|figure|label)\b((?:[^<>{]|\{(?:[^{}]|\{[^{}]*\})*\})*)>")
    SOURCES = ROOT / "frontend" / "src"

    def test_no_name_is_given_to_what_has_no_role(self):
        wrong = []
        for path in sorted(self.SOURCES.rglob("*.svelte")):
            for tag, attributes in self.NAMED.findall(path.read_text()):
                lists = tag in ("ol", "ul", "dl", "figure")  # have a role by nature
                if "aria-label" in attributes and "role=" not in attributes and not lists:
                    wrong.append((path.name, tag, " ".join(attributes.split())[:80]))
        self.assertEqual(wrong, [])

    def test_what_speaks_politely_is_there_before_it_speaks(self):
        """No element with a polite region is itself put in by a condition."""
        begins = re.compile(r"\{(?:#if|:else)[^{}\n]*\}\s*<\w+[^<>]*(?:role=\"status\"|aria-live)")
        wrong = [(path.name, found) for path in self.SOURCES.rglob("*.svelte") for found in begins.findall(path.read_text())]
        self.assertEqual(wrong, [])
