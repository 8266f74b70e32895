"""Treating with the keyboard alone: from the sheet to a certificate without a pointer."""

import re

from playwright.sync_api import expect

from ispettore.studio.catalogue import drafts, recordings
from tests.support import until
from tests.ui import words
from tests.ui.interface import InterfaceCase

FOCUSED = """() => {
  const at = document.activeElement;
  return at && at !== document.body ? (at.getAttribute('aria-label') || at.innerText || at.value || '').trim() : '';
}"""


class ByKeys(InterfaceCase):
    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)

    def focused(self) -> str:
        return re.sub(r"\s+", " ", self.page.evaluate(FOCUSED))

    def tab_to(self, pattern: str, *, key: str = "Tab") -> None:
        """Press Tab until what is focused is called so."""
        seen = []
        for _ in range(160):
            if re.search(pattern, self.focused()):
                return
            self.press(key)
            seen.append(self.focused())
        raise AssertionError(f"Tab never came to {pattern}; it came to {seen}")

    def kinds(self, recording: str) -> list[str]:
        return [step.kind for step in drafts.get(recording).steps]

    def test_from_the_sheet_to_a_certificate(self):
        self.open_production("By keys")
        name, content = self.wav("one.wav", rms_dbfs=-29, room_dbfs=-78)
        self.drop((name, content))
        expect(self.row(name).get_by_role("link", name=name)).to_be_visible()
        self.tab_to("^one.wav")
        self.press("Enter")
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        recording = re.search(r"recordings/([0-9a-f-]+)", self.page.url)[1]
        # A list that was opened in vain closes, and one is where one was.
        self.tab_to("^Add step$")
        self.press("Enter", "Tab", "Tab", "Escape")
        self.assertEqual(self.focused(), "Add step")
        for title in ("Compressor", "Gain"):
            self.tab_to("^Add step$")
            self.press("Enter")
            self.tab_to(f"^{title} [A-Z]")
            self.press("Enter")
            until(
                lambda title=title: re.fullmatch(rf"Step \d, {title}", self.focused()), what=f"the new step {title} to be focused"
            )
        self.tab_to("^Compressor: threshold$", key="Shift+Tab")
        self.page.keyboard.type("-20")
        self.press("Enter")
        until(lambda: drafts.get(recording).steps[0].settings["threshold_dbfs"] == -20, what="the threshold")
        # A step moves by keys and stays under the hand; one that was removed leaves it on its neighbour.
        self.tab_to("^Step 1, Compressor$", key="Shift+Tab")
        self.press("Alt+ArrowDown")
        until(lambda: self.kinds(recording) == ["gain", "compressor"], what="the move")
        until(lambda: self.focused() == "Step 2, Compressor", what="the moved step to be focused")
        self.press("Delete")
        until(lambda: self.kinds(recording) == ["gain"], what="the step to go")
        until(lambda: self.focused() == "Step 1, Gain", what="its neighbour to be focused")
        # Heard and compared.
        self.page.evaluate("() => document.activeElement.blur()")
        self.press("x", "h")
        strip = self.page.get_by_role("group", name=words.PLAYER)
        expect(strip.get_by_role("radio", name=words.PROCESSED)).to_be_checked()
        expect(strip.get_by_role("button", name=words.STOP)).to_be_visible()
        self.press("h")
        # The last gain is a hand on the gain window's axis.
        self.tab_to("^Gain: gain$")
        self.press("Enter")
        hand = self.page.get_by_role("slider", name=words.LAST_GAIN)
        expect(hand).to_be_visible()
        self.tab_to("^Last gain$")
        before = float(hand.get_attribute("aria-valuenow"))
        self.press("ArrowRight")
        until(lambda: drafts.get(recording).steps[0].settings["gain_db"] == before + 0.5, what="the hand")
        self.tab_to("^Gain: gain$", key="Shift+Tab")
        self.press("Control+a")
        self.page.keyboard.type("8")
        self.press("Enter")
        until(lambda: drafts.get(recording).steps[0].settings["gain_db"] == 8, what="the gain")
        self.tab_to("^Conform$")
        self.press("Enter")
        expect(self.page.get_by_label(words.WHERE_IT_STANDS)).to_contain_text(words.ALL_DONE)
        [made] = recordings.detail(recording).conformings
        self.assertTrue(made.certified and made.own)
        self.tab_to("^Result$", key="Shift+Tab")
        self.press("Enter")
        expect(self.page.get_by_role("region", name=words.RESULT)).to_contain_text("one.mp3")
