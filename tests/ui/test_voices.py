"""Two voices on the bench: found, marked on the ribbon, corrected by hand, brought together; and a reference on the sheet."""

import re

import numpy as np
import soundfile
from playwright.sync_api import expect

from tests.core.test_turns import laid
from tests.ui import words
from tests.ui.interface import RATE, InterfaceCase


class Voices(InterfaceCase):
    def sound(self, name: str, wave: np.ndarray) -> tuple[str, bytes]:
        path = self.application.folder / "made.wav"
        soundfile.write(path, wave * 0.5, RATE, subtype="PCM_16")
        return name, path.read_bytes()

    def open_two(self) -> None:
        wave, _ = laid([("reed", 0, None), ("wren", -7, None)] * 2)
        self.length_s = wave.size / RATE
        self.open_production("Two voices")
        self.drop(self.sound("two.wav", wave))
        self.row("two.wav").get_by_role("link", name="two.wav").click()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()

    def test_passages_are_marked_corrected_and_brought_together(self):
        self.open_two()
        panel = self.look_at("Voices")
        expect(panel.get_by_role("listitem")).to_have_count(4)
        expect(self.page.locator(".ribbon rect.turn")).to_have_count(2)
        expect(panel).to_contain_text(re.compile("A.*speaks for"))
        self.accessible()

        panel.get_by_role("button", name=re.compile("It is A")).first.click()
        expect(panel.get_by_role("listitem")).to_have_count(2)
        expect(self.page.locator(".ribbon rect.turn")).to_have_count(1)
        expect(panel).to_contain_text("Set manually.")
        self.select(1.0, 2.0, duration_s=self.length_s)
        panel.get_by_role("button", name="voice B").click()
        expect(panel.get_by_role("listitem")).to_have_count(4)
        panel.get_by_role("button", name=words.DETECT).click()
        expect(panel.get_by_role("listitem")).to_have_count(4)
        expect(panel).not_to_contain_text("Set manually.")

        together = panel.get_by_role("group", name="Bring the voices together")
        together.get_by_label(words.IN_TONE_TOO).check()
        together.get_by_role("button", name=words.PUT_INTO_THE_TREATMENT).click()
        self.turn_to(words.TREATMENT)
        for kind in ("tone-match", "spot-gain"):
            expect(self.page.locator(f"li[data-step={kind}]")).to_be_visible()
        self.accessible()
        self.page.get_by_role("button", name=words.UNDO).click()
        expect(self.page.locator("li[data-step=spot-gain]")).to_have_count(0)

    def test_a_reference_is_named_on_the_sheet_and_offered(self):
        self.open_two()
        self.page.get_by_role("link", name="Two voices", exact=True).click()
        one, _ = laid([("wren", 0, None)], phrases=8)
        self.drop(self.sound("one.wav", one))
        self.judged("one.wav")
        self.page.get_by_label("Select one.wav").click()
        self.page.get_by_role("button", name="Use as reference").click()
        expect(self.row("one.wav")).to_contain_text("reference for the others")
        expect(self.page.get_by_role("link", name=words.CONFORM_ALL)).to_have_attribute("href", re.compile("like="))
        self.row("two.wav").get_by_role("link", name="two.wav").click()
        ways = self.look_at("Voices").get_by_label("Bring")
        expect(ways.get_by_role("option")).to_have_text(["B to A", "A to B", "both to one.wav"])
        self.page.get_by_role("link", name="Two voices", exact=True).click()
        self.page.get_by_label("Select one.wav").click()
        self.page.get_by_role("button", name="No longer the reference").click()
        expect(self.row("one.wav")).not_to_contain_text("reference for the others")
