"""Saved treatments in the browser: saved on the bench, in versions, applied from the sheet, imported, and where they were used."""

import json
import re

from playwright.sync_api import expect

from tests.ui import words
from tests.ui.interface import InterfaceCase

COMPRESSOR = {"kind": "compressor", "settings": {"threshold_dbfs": -18, "ratio": 2}}


class KeptTreatments(InterfaceCase):
    def add_step(self, title: str) -> None:
        self.page.get_by_role("button", name=words.ADD_STEP).click()
        self.page.get_by_role("group", name=words.STEPS_TO_ADD).get_by_role("button", name=re.compile(f"^{title} [A-Z]")).click()
        expect(self.page.get_by_role("button", name=f", {title}")).to_be_visible()

    def save(self, name: str, *, finish: str = "Set for each recording", reference: bool = True) -> None:
        self.page.get_by_role("button", name="Save treatment…").click()
        form = self.page.get_by_role("form", name=words.SAVE_TREATMENT)
        form.get_by_label(words.NAME).fill(name)
        form.get_by_role("radio", name=finish).check()
        box = form.get_by_role("checkbox")
        expect(box).to_be_checked()
        box.set_checked(reference)
        self.accessible()
        form.get_by_role("button", name=words.SAVE_TREATMENT).click()
        expect(self.page.get_by_text("Saved:")).to_be_visible()

    def select_all(self, *names: str):
        for name in names:
            self.page.get_by_label(f"Select {name}").check()
        return self.page.get_by_role("group", name=words.SELECTED_RECORDINGS)

    def test_a_draft_is_saved_changed_and_applied_to_many(self):
        self.open_recording("Saved", rms_dbfs=-29, room_dbfs=-80)
        self.add_step("Compressor")
        self.add_step("Gain")
        self.page.get_by_role("button", name="Save treatment…").click()
        form = self.page.get_by_role("form", name=words.SAVE_TREATMENT)
        expect(form).to_contain_text("Set for each recording: gain.")
        expect(form.get_by_role("button", name=words.SAVE_TREATMENT)).to_be_disabled()
        self.page.keyboard.press("Escape")
        expect(form).to_have_count(0)
        self.save("The mill")
        self.page.get_by_role("link", name="The mill, version 1").click()
        steps = self.page.get_by_role("region", name="Steps")
        expect(steps.locator("li[data-step]")).to_have_count(2)
        expect(steps.locator("li").first).to_have_attribute("data-step", "reference-level")
        self.accessible()
        steps.get_by_label("Compressor: Ratio").click()
        self.page.keyboard.press("Control+A")
        self.page.keyboard.type("3")
        self.page.keyboard.press("Enter")
        self.page.get_by_label("Description").fill("Its reading room.")
        self.page.get_by_role("button", name="Save as version 2").click()
        changes = self.page.get_by_role("list", name=words.CHANGES)
        expect(changes).to_contain_text("at 3 : 1")
        expect(changes).to_contain_text("Its reading room.")
        self.accessible()
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        self.page.get_by_role("link", name="Saved").click()
        self.drop(self.wav("two.wav", rms_dbfs=-20, room_dbfs=-75), self.wav("three.wav", rms_dbfs=-35, room_dbfs=-86))
        names = ("one.wav", "two.wav", "three.wav")
        for name in names:
            self.judged(name)
        bar = self.select_all(*names)
        bar.get_by_label(words.TREATMENT).select_option(label="The mill")
        bar.get_by_role("button", name=words.CONFORM).click()
        expect(bar).to_contain_text("3 recordings queued.")
        self.accessible()
        for name in names:
            expect(self.after(name)).to_contain_text(words.CERTIFIED)
            expect(self.after(name)).to_contain_text("The mill, version 2")
        bar.get_by_role("button", name=words.CONFORM).click()
        expect(bar).to_contain_text("3 recordings already up to date.")
        self.page.get_by_role("link", name=words.TREATMENTS).click()
        listed = self.page.locator("[data-treatment=the-mill]")
        expect(listed).to_contain_text("3 runs")
        listed.get_by_role("link").click()
        used = self.page.get_by_role("region", name=words.WHERE_IT_WAS_USED)
        expect(used.get_by_role("listitem")).to_have_count(3)
        expect(used).to_contain_text("Saved, version 2, certified")
        self.page.get_by_role("button", name="Restore version 1").click()
        self.page.get_by_role("button", name="Save as version 3").click()
        expect(self.page.get_by_role("list", name=words.CHANGES)).to_contain_text("at 2 : 1")
        used.get_by_role("link", name="three.wav").click()
        expect(self.turn_to(words.HISTORY).get_by_role("listitem").first).to_contain_text("MP3, The mill, version 2: certified")

    def test_without_a_reference_level_one_is_offered_wherever_it_is_applied(self):
        self.open_recording("Referred", rms_dbfs=-27, room_dbfs=-80)
        self.add_step("Compressor")
        self.save("As it comes", finish="Exactly as they are here", reference=False)
        offered = "of active speech first"
        self.page.get_by_label("Try a saved treatment").select_option(label="As it comes")
        expect(self.page.get_by_text(offered)).to_be_visible()
        self.page.get_by_role("button", name="Try it").click()
        expect(self.page.locator("li[data-step=reference-level]")).to_be_visible()
        expect(self.page.locator("li[data-step=compressor]")).to_be_visible()
        self.page.get_by_role("link", name=words.TREATMENTS).click()
        self.page.get_by_role("link", name="As it comes").click()
        self.page.get_by_role("button", name="Add one").click()
        expect(self.page.get_by_role("region", name="Steps").locator("li[data-step=reference-level]")).to_be_visible()
        expect(self.page.get_by_text(words.NO_REFERENCE_LEVEL)).to_have_count(0)
        self.page.get_by_role("button", name=words.DISCARD_CHANGES).click()
        expect(self.page.get_by_text(words.NO_REFERENCE_LEVEL)).to_be_visible()
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        self.page.get_by_role("link", name="Referred").click()
        bar = self.select_all("one.wav")
        bar.get_by_label(words.TREATMENT).select_option(label="As it comes")
        expect(bar.get_by_role("checkbox")).to_be_checked()
        expect(bar).to_contain_text("As it comes has thresholds and no reference level before them.")
        bar.get_by_label(words.FORMAT).select_option(label="FLAC, 24 bit")
        self.accessible()

    def test_a_starting_point_is_tried_beside_the_plans_and_copied(self):
        self.open_recording("Tried", rms_dbfs=-30, room_dbfs=-82)
        expect(self.page.locator("[data-plan=light]")).to_be_visible()
        self.page.get_by_label("Try a saved treatment").select_option(label="Two voices in one chapter")
        self.page.get_by_role("button", name="Try it").click()
        row = self.page.locator("[data-plan=two-voices]")
        expect(row).to_contain_text("level riding, compressor, gain")
        row.get_by_role("button", name="Use").click()
        expect(row).to_contain_text(words.IN_USE)
        expect(self.page.locator("li[data-step]")).to_have_count(5)
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        expect(self.page.locator(".stands")).to_contain_text("is certified")
        expect(self.turn_to(words.RESULT)).to_contain_text("By Two voices in one chapter, version 1.")
        self.page.get_by_role("link", name=words.TREATMENTS).click()
        self.page.get_by_role("button", name="Copy A quiet room").click()
        expect(self.page.get_by_label(words.TREATMENT_NAME)).to_have_value("Copy of A quiet room")
        self.page.get_by_role("button", name=words.REMOVE, exact=True).click()
        expect(self.page.get_by_text("This treatment was removed.")).to_be_visible()
        self.page.get_by_role("button", name=words.RESTORE).click()
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name="JSON of version 1").click()
        self.assertEqual(download.value.suggested_filename, "copy-of-a-quiet-room.v1.json")

    def test_files_are_imported_and_bad_ones_say_why(self):
        self.page.goto(f"{self.application.address}#/treatments")
        field = self.page.get_by_label("Treatments to import")
        bad = json.dumps({"steps": [{"kind": "compressor"}]}).encode()
        field.set_input_files({"name": "broken.json", "mimeType": "application/json", "buffer": bad})
        expect(self.page.get_by_role("alert")).to_contain_text("The treatment in “broken.json” can't be used")
        good = json.dumps({"name": "From a friend", "steps": [COMPRESSOR]}).encode()
        field.set_input_files({"name": "friend.json", "mimeType": "application/json", "buffer": good})
        expect(self.page.get_by_role("heading", name="From a friend")).to_have_count(1)
        expect(self.page.get_by_text(words.NO_REFERENCE_LEVEL)).to_be_visible()
        self.accessible()
        self.page.goto(f"{self.application.address}#/treatments")
        expect(self.page.get_by_role("link", name="From a friend")).to_be_visible()
        self.accessible()
