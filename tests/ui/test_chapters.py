"""Head, tail and chapter marks moved on the ribbon, by pointer and key; a recording split at its marks; a retake dropped."""

import base64
import re

from playwright.sync_api import expect

from tests.support import until
from tests.ui import words
from tests.ui.interface import DROP, LEFT, RIGHT, InterfaceCase

LENGTH_S = 12


class Chapters(InterfaceCase):
    def open_edits(self):
        self.open_recording("Chapters", rms_dbfs=-24, room_dbfs=-72)
        panel = self.look_at(words.EDITS)
        self.lasts(LENGTH_S)
        return panel

    def lasts(self, seconds: int) -> None:
        expect(self.page.locator(".stay")).to_contain_text(f"of 0:{seconds:02}")

    def asked(self, path: str) -> object:
        """What the server says of the recording that is shown."""
        return self.page.evaluate(
            "async (path) => (await fetch(`/api/recordings/${location.hash.split('/')[2]}${path}`)).json()", path
        )

    def ends(self) -> dict[str, float]:
        """Once it is measured as it is now."""
        measured = until(lambda: self.page.wait_for_timeout(50) or self.asked("")["inspection"], what="the readings")
        readings = measured["readings"]
        return {name: readings[name]["value"] for name in ("head_s", "tail_s")}

    def grip(self, name: str):
        return self.page.get_by_role("slider", name=name, exact=True)

    def drag(self, name: str, by_s: float, *, duration_s: float = LENGTH_S) -> None:
        grip = self.grip(name)
        grip.scroll_into_view_if_needed()
        box, ribbon = grip.bounding_box(), self.page.locator(".ribbon").bounding_box()
        by = (ribbon["width"] - 2 - LEFT - RIGHT) * by_s / duration_s
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        self.page.mouse.move(x, y)
        self.page.mouse.down()
        self.page.mouse.move(x + by, y, steps=4)
        self.page.mouse.up()

    def mark(self, panel, at: str, title: str) -> None:
        chapters = panel.get_by_role("group", name="Chapter marks")
        chapters.get_by_label("Title of the chapter", exact=True).fill(title)
        chapters.get_by_role("button", name=f"Mark at {at}").click()
        expect(chapters.get_by_label(f"Title of the chapter at {at}")).to_have_value(title)

    def test_head_and_tail_are_drawn_and_measured(self):
        panel = self.open_edits()
        before = self.ends()
        self.drag("Head", 0.8)
        expect(panel).to_contain_text(re.compile(r"Head lengthened by 0\.\d+ s"))
        self.lasts(13)
        expect(self.grip("Head")).to_be_visible()
        after = self.ends()
        self.assertAlmostEqual(after["head_s"], before["head_s"] + 0.8, delta=0.06)
        self.assertAlmostEqual(after["tail_s"], before["tail_s"], delta=0.011)
        # Nothing was selected, and the playhead did not go anywhere.
        expect(self.page.locator(".ribbon .selection")).to_have_count(0)
        self.accessible()
        panel.get_by_role("button", name=words.UNDO_EDIT).click()
        expect(panel).to_contain_text(words.NOTHING_EDITED)
        self.lasts(12)

        # By key: moved, left alone, moved and set.
        tail = self.grip("Tail")
        tail.focus()
        self.page.keyboard.press("Shift+ArrowLeft")
        expect(tail).to_have_attribute("aria-valuetext", re.compile(r"\d\.\d\d s after the last word, set with Enter"))
        self.page.keyboard.press("Escape")
        expect(tail).to_have_attribute("aria-valuetext", re.compile(r"after the last word$"))
        self.page.keyboard.press("Shift+ArrowLeft")
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("Enter")
        expect(panel).to_contain_text(re.compile(r"Tail lengthened by 0\.45 s"))
        expect(self.grip("Tail")).to_be_visible()
        self.assertAlmostEqual(self.ends()["tail_s"], before["tail_s"] + 0.45, delta=0.011)

    def test_head_and_tail_are_written_as_figures(self):
        panel = self.open_edits()
        group = panel.get_by_role("group", name="Head and tail")
        button = group.get_by_role("button", name="Set head and tail")
        expect(button).to_be_disabled()
        group.get_by_label("Head in seconds").fill("many")
        expect(button).to_be_disabled()
        group.get_by_label("Head in seconds").fill("1.25")
        group.get_by_label("Tail in seconds").fill("0.1")
        button.click()
        expect(panel).to_contain_text("2 edits")
        expect(group.get_by_label("Head in seconds")).to_have_value(re.compile(r"1\.2[45]"))
        expect(group.get_by_label("Tail in seconds")).to_have_value(re.compile(r"0\.(09|1)"))
        expect(button).to_be_disabled()

    def test_marks_are_set_named_moved_and_the_recording_is_split_at_them(self):
        panel = self.open_edits()
        self.mark(panel, "0:00.00", "Opening")
        for _ in range(2):
            self.page.locator("h1").click()
            self.page.keyboard.press("ArrowRight")
        self.mark(panel, "0:04.00", "Sowing")
        self.page.locator("h1").click()
        self.page.keyboard.press("ArrowRight")
        self.mark(panel, "0:06.00", "")
        expect(self.page.locator(".ribbon text.chapter")).to_have_text(["Opening", "Sowing", "Chapter 3"])
        self.accessible()

        self.drag("Chapter mark Sowing", -1.0)
        group = panel.get_by_role("group", name="Chapter marks")
        moved = group.get_by_label(re.compile(r"Title of the chapter at 0:0[23]\.\d\d"))
        expect(moved).to_have_value("Sowing")
        self.grip("Chapter mark Chapter 3").focus()
        self.page.keyboard.press("Shift+ArrowRight")
        self.page.keyboard.press("Enter")
        last = group.get_by_label("Title of the chapter at 0:06.50")
        last.fill("Harvest")
        last.press("Tab")
        expect(self.grip("Chapter mark Harvest")).to_be_visible()
        at = [one["at_s"] for one in self.asked("/chapters")]
        for found, wanted in zip(at, (0.0, 3.0, 6.5), strict=True):
            self.assertAlmostEqual(found, wanted, delta=0.05)

        # A grip that is pressed and not moved goes there.
        self.grip("Chapter mark Harvest").click()
        expect(group.get_by_role("button", name="Mark at 0:06.50")).to_be_visible()
        group.get_by_role("button", name="Split at the marks").click()
        self.lasts(round(at[1]))
        self.page.get_by_role("link", name="Chapters", exact=True).first.click()
        for name in ("one.wav", "Sowing.wav", "Harvest.wav"):
            self.judged(name)
        self.row("Harvest.wav").get_by_role("link", name="Harvest.wav").click()
        self.lasts(round(LENGTH_S - at[2]))
        expect(self.page.locator(".ribbon text.chapter")).to_have_text(["Harvest"])

    def test_a_mark_is_removed(self):
        panel = self.open_edits()
        self.mark(panel, "0:00.00", "Opening")
        group = panel.get_by_role("group", name="Chapter marks")
        expect(group.get_by_role("button", name="Split at the marks")).to_be_disabled()
        group.get_by_role("button", name="Remove the mark Opening").click()
        expect(group.get_by_role("listitem")).to_have_count(0)
        expect(self.page.locator(".ribbon .chapter")).to_have_count(0)

    def test_a_retake_is_dropped_onto_the_ribbon(self):
        panel = self.open_edits()
        start, end = self.select(3.0, 5.0, duration_s=LENGTH_S)
        name, content = self.wav("again.wav", rms_dbfs=-30, room_dbfs=-80, seed=8)
        with self.page.expect_request(re.compile("/takes")) as asked:
            self.page.evaluate(DROP, [".ribbon", [[name, base64.b64encode(content).decode()]]])
        self.assertAlmostEqual(float(re.search(r"start_s=([\d.]+)", asked.value.url).group(1)), start, delta=0.01)
        self.assertAlmostEqual(float(re.search(r"end_s=([\d.]+)", asked.value.url).group(1)), end, delta=0.01)
        expect(panel.get_by_role("listitem")).to_contain_text("replaced by a retake")
