"""Versions on the bench and disk use on the sheet: compared by eye, by ear and blind, made current, cleared."""

import re

from playwright.sync_api import expect

from tests.ui import words
from tests.ui.interface import InterfaceCase


class Versions(InterfaceCase):
    def conformed(self, container: str = "") -> None:
        """Conform the recording on the bench once more."""
        recording = re.search(r"recordings/([^/]+)", self.page.url)[1]
        body = {"container": container} if container else {}
        with self.page.expect_response(lambda answer: answer.url.endswith(recording) and answer.ok):
            self.page.request.post(f"{self.application.address}api/recordings/{recording}/conform", data=body)

    def current(self, *words: str) -> None:
        """The version that counts is told by these words."""
        rows = self.page.locator(".history li").filter(has=self.page.get_by_text("current", exact=True))
        expect(rows).to_have_count(1)
        for word in words:
            expect(rows).to_contain_text(word)

    def test_two_versions_are_compared_by_eye_by_ear_and_blind_and_either_is_made_current(self):
        self.open_recording("Versions", rms_dbfs=-29, room_dbfs=-78)
        history = self.turn_to(words.HISTORY)
        expect(history.locator("li")).to_have_count(1)
        self.conformed("wav")
        expect(history).to_contain_text("WAV, balanced plan: conformed")
        self.conformed()
        expect(history).to_contain_text("MP3, balanced plan: certified")
        self.current("2", "certified")

        history.get_by_role("button", name=words.COMPARE, exact=True).click()
        two = self.page.get_by_role("region", name=words.TWO_VERSIONS)
        expect(two.get_by_role("list", name="Different requests")).to_contain_text("WAV")
        expect(two.get_by_role("list", name=words.DONE_DIFFERENTLY).locator("del")).to_contain_text("Change the level by")
        expect(two.get_by_role("row", name="Sample rate")).to_have_count(0)
        self.accessible()
        sides = self.page.get_by_role("radiogroup", name=words.WHAT_IS_HEARD)
        expect(sides.locator("label")).to_have_text(["Version 1", "Version 2"])
        with self.page.expect_response(lambda answer: "/conformings/" in answer.url and "/sound" in answer.url):
            self.page.get_by_role("button", name=words.PLAY, exact=True).click()
        sides.get_by_role("radio", name="Version 2").click()
        expect(self.page.locator(".top .verdict")).to_contain_text("Version 2: inside Audiobook, retail")
        self.page.get_by_role("button", name=words.STOP, exact=True).click()

        self.page.get_by_label("First version").select_option("the recording")
        expect(two.get_by_role("list", name=words.DONE_DIFFERENTLY)).to_contain_text("Change the level by")
        expect(two.get_by_role("row", name=re.compile("RMS level"))).to_contain_text("+")
        expect(sides.locator("label")).to_have_text(["The recording", "Version 2"])
        self.page.get_by_role("button", name="Blind comparison…").click()
        dialog = self.page.get_by_role("dialog", name=words.BLIND_COMPARISON)
        expect(dialog).to_contain_text("You hear the recording and version 2 without their names")
        dialog.get_by_label(words.LENGTH).select_option("6 rounds")
        dialog.get_by_role("button", name=words.START).click()
        expect(self.page.get_by_role("radio", name="The recording")).to_have_count(0)
        for _ in range(6):
            dialog.get_by_role("radio", name=words.HEAR_THE_SECOND).click()
            dialog.get_by_role("button", name="The first is better").click()
        expect(dialog.get_by_role("status")).to_contain_text(re.compile("You preferred (the recording|version 2|each)"))
        dialog.get_by_role("button", name=words.CLOSE).click()

        history.get_by_role("button", name="Make version 1 current").click()
        self.current("1", "WAV")
        self.page.reload()
        expect(two).to_be_visible()
        self.current("1", "WAV")
        history.get_by_role("button", name="Stop comparing").click()
        expect(sides.locator("label")).to_have_text([words.ORIGINAL, words.PROCESSED])
        history.get_by_role("button", name="Make version 2 current").click()
        self.current("2", "certified")

    def test_disk_use_is_told_and_masters_are_cleared(self):
        self.open_recording("Room", rms_dbfs=-29, room_dbfs=-78)
        history = self.turn_to(words.HISTORY)
        self.conformed("wav")
        expect(history).to_contain_text("WAV, balanced plan: conformed")
        self.conformed()
        expect(history).to_contain_text("MP3, balanced plan: certified")
        self.page.get_by_role("link", name="Room", exact=True).click()
        self.page.get_by_role("button", name="Disk use").click()
        use = self.page.get_by_role("group", name="Disk use")
        expect(use).to_contain_text("masters and other files")
        self.accessible()
        use.get_by_role("button", name=re.compile("Clear 1 file")).click()
        dialog = self.page.get_by_role("dialog", name="Clear masters")
        expect(dialog).to_contain_text("None of them is the file that counts for its recording.")
        dialog.get_by_role("button", name="Clear", exact=True).click()
        expect(use).to_contain_text("1 file cleared")
        expect(use).not_to_contain_text("masters and other files")
        expect(self.after("one.wav")).to_contain_text(words.CERTIFIED)
        self.row("one.wav").get_by_role("link", name="one.wav").click()
        expect(self.turn_to(words.HISTORY)).to_contain_text("file cleared")
        expect(self.page.locator(".history").get_by_role("button", name="Make version 1 current")).to_have_count(0)
        expect(self.page.locator(".strip .time")).to_contain_text("of 0:12")
        self.page.get_by_role("button", name=words.COMPARE, exact=True).click()
        expect(self.page.get_by_role("region", name=words.TWO_VERSIONS)).to_contain_text("its file was cleared")
        expect(self.page.locator(".strip .time")).to_contain_text("of 0:00")  # nothing else is heard in its place

    def test_what_missed_its_limits_says_so_on_the_sheet(self):
        self.open_recording("Missed", rms_dbfs=-29, room_dbfs=-78)
        recording = re.search(r"recordings/([^/]+)", self.page.url)[1]
        where = f"{self.application.address}api/recordings/{recording}/draft"
        follows = self.page.request.get(where).json()["number"]
        step = {"kind": "gain", "settings": {"gain_db": 2}}
        view = self.page.request.put(where, data={"steps": [step], "follows": follows}).json()
        self.page.request.post(f"{where}/run", data={"follows": view["number"]})
        self.page.get_by_role("link", name="Missed", exact=True).click()
        expect(self.refused("one.wav")).to_contain_text("missed a limit")
        expect(self.refused("one.wav")).to_contain_text("Raise the last gain")
        expect(self.page.get_by_role("group", name=words.VERDICT_COUNTS)).to_contain_text("1 stuck")
