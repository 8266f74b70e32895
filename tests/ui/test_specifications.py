"""Specifications in the browser: read, changed in their sentences, and what that does to a sheet."""

import json
import re
from pathlib import Path

from playwright.sync_api import expect

from ispettore.studio.catalogue import productions, specifications
from tests.ui import words
from tests.ui.interface import PATIENCE_MS, InterfaceCase


class Specifications(InterfaceCase):
    def test_a_limit_is_changed_in_its_sentence_and_the_sheet_judges_at_once(self):
        self.page.goto(f"{self.application.address}#/specifications")
        expect(self.page.get_by_role("row")).to_have_count(9)
        self.accessible()
        self.page.get_by_role("link", name="Audiobook, retail").click()
        expect(self.page.get_by_text("built-in specification can't be edited")).to_be_visible()
        expect(self.page.get_by_label("RMS level, at least")).to_have_count(0)
        expect(self.page.get_by_role("region", name="Versions")).to_contain_text("built in before")
        expect(self.page.get_by_role("button", name=words.RESTORE)).to_have_count(0)
        self.accessible()
        self.page.get_by_role("button", name=words.COPY).click()
        self.page.get_by_label(words.COPY_NAME).fill("Mill house")
        self.page.keyboard.press("Enter")
        least = self.page.get_by_label("RMS level, at least")
        expect(least).to_have_value("−23")
        self.accessible()
        made = productions.create("Held", "mill-house")
        with self.page.context.new_page() as other:
            other.set_default_timeout(PATIENCE_MS)
            self.page, own = other, self.page
            other.goto(f"{self.application.address}#/productions/{made}")
            expect(other.get_by_role("heading", name="Held")).to_be_visible()
            self.drop(self.wav("one.wav", rms_dbfs=-21, room_dbfs=-75))
            expect(self.row("one.wav").locator(".verdict")).to_contain_text(words.INSIDE)
            self.page = own

            line, keep = self.page.locator("li[data-limit=rms_dbfs]"), self.page.get_by_role("button", name="Save as version 2")
            least.fill("-17")
            expect(line.get_by_role("alert")).to_contain_text("is above its maximum (−18)")
            expect(least).to_have_attribute("aria-invalid", "true")
            expect(keep).to_be_disabled()
            self.accessible()
            least.fill("loud")
            expect(line.get_by_role("alert")).to_contain_text("“loud” is not a number")
            least.fill("-20")
            expect(line.get_by_role("alert")).to_have_count(0)
            peak = self.page.get_by_label("Peak, at most")
            peak.fill("-30")
            expect(self.page.locator("li[data-limit=sample_peak_dbfs]").get_by_role("alert")).to_contain_text(
                words.NO_FILE_MEETS_BOTH
            )
            self.page.get_by_role("button", name=words.UNDO).click()
            expect(peak).to_have_value("−3")
            self.page.reload()
            expect(least).to_have_value("−20")
            keep.click()
            expect(self.page.get_by_role("button", name="Save as version 3")).to_be_disabled()
            expect(self.page.get_by_role("list", name=words.CHANGES)).to_contain_text("RMS level between −20 and −18 dBFS")
            expect(self.row_in(other, "one.wav").locator(".verdict")).to_contain_text(words.OUTSIDE)

            self.page.get_by_role("button", name="Restore version 1").click()
            expect(least).to_have_value("−23")
            self.page.get_by_role("button", name="Save as version 3").click()
            expect(self.row_in(other, "one.wav").locator(".verdict")).to_contain_text(words.INSIDE)
            expect(self.page.get_by_role("region", name="Used by")).to_contain_text("Held")

    def test_a_limit_on_the_package_is_added_and_holds_for_the_production(self):
        self.page.goto(f"{self.application.address}#/specifications/audiobook-retail")
        self.page.get_by_role("button", name=words.COPY).click()
        self.page.get_by_label(words.COPY_NAME).fill("Whole books")
        self.page.keyboard.press("Enter")
        self.page.get_by_label(words.ADD_LIMIT).select_option(label="Shop sample")
        line = self.page.locator("li[data-limit=sample_length_s]")
        expect(line).to_contain_text("in the package")
        expect(self.page.get_by_label("Shop sample, at most")).to_have_value("5:00")
        expect(line.get_by_label("Shop sample: holds for")).to_have_count(0)
        expect(self.page.get_by_label(words.ADD_LIMIT).get_by_role("option", name="Shop sample")).to_have_count(0)
        self.accessible()

    def test_changes_are_undone_redone_and_discarded(self):
        self.page.goto(f"{self.application.address}#/specifications/video-streaming")
        self.page.get_by_role("button", name=words.COPY).click()
        self.page.get_by_label(words.COPY_NAME).fill("Undone")
        self.page.keyboard.press("Enter")
        least, most = (
            self.page.get_by_label("Integrated loudness, at least"),
            self.page.get_by_label("Integrated loudness, at most"),
        )
        undo, redo = (self.page.get_by_role("button", name=name, exact=True) for name in ("Undo", "Redo"))
        expect(undo).to_be_disabled()
        least.fill("-16")
        most.fill("-14")
        self.page.get_by_role("checkbox", name="Loudness of mono").check()
        expect(undo).to_be_enabled()
        self.page.get_by_role("heading", name="Versions").click()
        self.page.keyboard.press("Control+z")
        expect(self.page.get_by_role("checkbox", name="Loudness of mono")).not_to_be_checked()
        undo.click()
        expect(most).to_have_value("−13")
        undo.click()
        expect(least).to_have_value("−15")
        expect(undo).to_be_disabled()
        redo.click()
        expect(least).to_have_value("−16")
        self.page.get_by_label("Name of the specification").fill("")
        expect(self.page.get_by_text("Enter a name")).to_be_visible()
        expect(self.page.get_by_role("button", name="Save as version 2")).to_be_disabled()
        self.page.get_by_role("button", name=words.DISCARD_CHANGES).click()
        expect(least).to_have_value("−15")
        expect(self.page.get_by_label("Name of the specification")).to_have_value("Undone")
        self.page.reload()
        expect(least).to_have_value("−15")
        expect(self.page.get_by_role("button", name=words.DISCARD_CHANGES)).to_have_count(0)

    def test_what_somebody_else_kept_meanwhile_is_said(self):
        self.page.goto(f"{self.application.address}#/specifications/video-streaming")
        self.page.get_by_role("button", name=words.COPY).click()
        self.page.get_by_label(words.COPY_NAME).fill("Contended")
        self.page.keyboard.press("Enter")
        peak = self.page.get_by_label("True peak, at most")
        peak.fill("-2")
        peak.blur()
        keep = self.page.get_by_role("button", name="Save as version")
        expect(keep).to_be_enabled()
        other = specifications.specification("contended")
        draft = other.model_dump(mode="json") | {"description": "Changed elsewhere"}
        specifications.keep("contended", draft, follows=1)
        expect(self.page.get_by_role("alert")).to_contain_text("Version 2 was saved elsewhere in the meantime")
        expect(peak).to_have_value("−2")
        expect(keep).to_be_disabled()
        self.accessible()
        self.page.get_by_role("button", name=words.DISCARD_CHANGES).click()
        expect(self.page.get_by_label("Purpose of the specification")).to_have_value("Changed elsewhere")
        expect(peak).to_have_value("−1")

    def test_limits_are_added_reshaped_and_taken_out_and_files_go_out_and_in(self):
        self.page.goto(f"{self.application.address}#/specifications/podcast-mono")
        self.page.get_by_role("button", name=words.COPY).click()
        self.page.get_by_label(words.COPY_NAME).fill("Tide times")
        self.page.keyboard.press("Enter")
        self.page.get_by_label(words.ADD_LIMIT).select_option("Noise floor")
        line = self.page.locator("li[data-limit=noise_floor_dbfs]")
        expect(line).to_contain_text("between the words")
        self.page.get_by_label("Noise floor, at most").fill("−55")
        self.page.get_by_label("Noise floor: bounds").select_option("between")
        expect(self.page.get_by_label("Noise floor, at least")).to_have_value("−65")
        self.page.get_by_label("Noise floor, at least").fill("")
        self.page.get_by_label("Noise floor, at least").blur()
        expect(self.page.get_by_label("Noise floor, at least")).to_have_count(0)
        self.page.get_by_label("Noise floor: severity").select_option("advice")
        self.page.get_by_label("Noise floor: Near when within").fill("2")
        self.page.get_by_label("Noise floor: purpose").fill("The quay is loud.")
        self.page.get_by_label(words.ADD_LIMIT).select_option("File format")
        self.page.get_by_label("File format: or").select_option("flac")
        expect(self.page.locator("li[data-limit=container]")).to_contain_text("or flac")
        self.page.get_by_label("File format: holds for").select_option("the delivered file")
        expect(self.page.get_by_role("region", name="Delivered file")).to_contain_text("flac")
        self.page.get_by_label(words.ADD_LIMIT).select_option("Duration")
        self.page.get_by_label("Duration, at most").fill("1:30:00")
        self.page.get_by_role("button", name="Remove True peak").click()
        self.accessible()
        self.page.get_by_role("button", name="Save as version 2").click()
        expect(self.page.get_by_role("button", name="Save as version 3")).to_be_disabled()
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name="JSON of version 2").click()
        content = Path(download.value.path()).read_bytes()
        limits = {limit["quantity"]: limit for limit in json.loads(content)["limits"]}
        self.assertEqual(
            limits["noise_floor_dbfs"],
            {"quantity": "noise_floor_dbfs", "high": -55, "guard": 2, "severity": "advice", "purpose": "The quay is loud."},
        )
        self.assertEqual(limits["duration_s"]["high"], 5400)
        self.assertEqual((limits["container"]["one_of"], "true_peak_dbtp" in limits), (["wav", "flac"], False))

        self.page.get_by_role("navigation").get_by_role("link", name="Specifications").click()
        self.drop(("broken.json", b"{"))
        expect(self.page.get_by_role("alert")).to_contain_text("“broken.json” can't be used: it is not JSON")
        self.drop(("tide.json", content.replace(b'"id": "tide-times"', b'"id": "tide-elsewhere"')))
        expect(self.page).to_have_url(re.compile("#/specifications/tide-elsewhere$"))
        expect(self.page.get_by_label("Noise floor, at most")).to_have_value("−55")

    def test_what_was_held_against_it_meanwhile_is_told_on_coming_back(self):
        self.page.goto(f"{self.application.address}#/specifications/podcast-mono")
        expect(self.page.get_by_role("heading", name="Podcast, mono")).to_be_visible()
        expect(self.page.get_by_text("Sea stories")).to_have_count(0)
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        productions.create("Sea stories", "podcast-mono")
        expect(self.page.get_by_role("link", name="Sea stories")).to_be_visible()
        self.page.get_by_role("link", name="Specifications").click()
        self.page.get_by_role("link", name="Podcast, mono").click()
        expect(self.page.get_by_text("Sea stories")).to_be_visible()
