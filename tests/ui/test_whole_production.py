"""A whole production in the browser: thirty dropped files, forecast as one sound, conformed together, thirty certificates."""

import re

from playwright.sync_api import expect
from sqlmodel import select

from ispettore.studio.catalogue import productions
from ispettore.studio.database import transaction
from ispettore.studio.tables import Work, WorkKind, WorkState
from tests import signals
from tests.support import until
from tests.ui import words
from tests.ui.interface import RATE, InterfaceCase

CHAPTERS = 30


def conforming(state: WorkState) -> int:
    """How many recordings' conforming stands so."""
    asked = select(Work).where(Work.kind == WorkKind.CONFORM, Work.state == state)
    with transaction() as session:
        return len(session.exec(asked).all())


class WholeProduction(InterfaceCase):
    def chapters(self, count: int) -> list[tuple[str, bytes]]:
        """Short chapters by one voice, each at its own level in its own room."""
        found = []
        for number in range(1, count + 1):
            level, room = -20.0 - 2 * (number * 7 % 6), 44.0 + number * 5 % 7
            wave = signals.voice_like(6, rms_dbfs=level, rate=RATE, room_dbfs=level - room, seed=number)
            path = signals.write(self.application.folder / "chapter.wav", wave, RATE, subtype="PCM_16")
            found.append((f"{number:02} chapter.wav", path.read_bytes()))
        return found

    def open_all(self, name: str, count: int) -> list[str]:
        self.open_production(name)
        files = self.chapters(count)
        for first in range(0, count, 10):
            self.drop(*files[first : first + 10])
        self.grows_to(self.page.locator("tr[data-name] .verdict > span"), count)
        return [name for name, _ in files]

    def test_thirty_dropped_files_become_thirty_certificates_of_one_sound(self):
        names = self.open_all("Thirty", CHAPTERS)
        self.page.get_by_role("link", name=words.CONFORM_ALL).click()
        expect(self.page.get_by_role("heading", name="Conform the whole production")).to_be_visible()
        self.grows_to(self.page.locator("tr[data-forecast] .steps"), CHAPTERS)
        expect(self.page.get_by_text("30 recordings will conform")).to_be_visible()
        spreads = self.page.locator("dl")
        expect(spreads).to_contain_text("Active speech level, spread")
        before, after = (float(part) for part in re.findall(r"\d+\.\d", spreads.locator("dd").first.inner_text()))
        self.assertGreater(before, 8)
        self.assertLess(after, 1.0)
        self.accessible()
        self.page.get_by_role("button", name="Conform 30 recordings").click()
        expect(self.page.get_by_role("heading", name="Thirty")).to_be_visible()
        expect(self.page.get_by_role("progressbar", name="everything under way")).to_be_visible()
        self.grows_to(self.page.locator("tr[data-after] .verdict", has_text=words.CERTIFIED), CHAPTERS)
        expect(self.page.get_by_role("progressbar")).to_have_count(0)
        expect(self.after(names[0])).to_contain_text("balanced plan, one sound")
        self.page.get_by_role("link", name=words.CONFORM_ALL).click()
        expect(self.page.get_by_text("30 already up to date")).to_be_visible()
        expect(self.page.get_by_role("button", name="Conform 0 recordings")).to_be_disabled()

    def test_what_is_chosen_stands_in_the_address_and_changes_what_is_foretold(self):
        names = self.open_all("Chosen", 3)
        self.page.get_by_role("link", name=words.CONFORM_ALL).click()
        expect(self.page.get_by_text("3 recordings will conform")).to_be_visible()
        self.page.get_by_label(f"Include {names[1]}").uncheck()
        expect(self.page.get_by_text("2 recordings will conform")).to_be_visible()
        expect(self.page.locator(f"tr[data-forecast='{names[1]}']")).to_contain_text("left out")
        self.page.get_by_label(words.TREATMENT).select_option(label="A quiet room")
        expect(self.page.locator(f"tr[data-forecast='{names[0]}']")).to_contain_text("rumble filter, reference level, compressor")
        self.page.get_by_label("Sound like").select_option(label=names[2])
        self.page.get_by_role("button", name=words.BOUNDS).click()
        self.page.get_by_label("noise reduction").fill("9")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("button", name="Bounds, changed")).to_be_visible()
        expect(self.page.get_by_text("2 recordings will conform")).to_be_visible()
        self.accessible()
        address = self.page.url
        for said in ("by=%3Aquiet-room", "like=", "noise_reduction_db=9", "without="):
            self.assertIn(said, address)
        self.page.reload()
        expect(self.page.get_by_label(words.TREATMENT)).to_have_value(":quiet-room")
        expect(self.page.get_by_text("2 recordings will conform")).to_be_visible()
        self.page.get_by_role("group", name="How").get_by_label("Sound").first.select_option(label="Each on its own")
        expect(self.page.get_by_label("Sound like")).to_have_count(0)
        expect(self.page.get_by_text("2 recordings will conform")).to_be_visible()
        self.page.get_by_role("button", name="Conform 2 recordings").click()
        for name in (names[0], names[2]):
            expect(self.after(name)).to_contain_text(words.CERTIFIED)
            expect(self.after(name)).to_contain_text("A quiet room, version 1")
        expect(self.after(names[1])).to_have_count(0)

    def test_everything_under_way_is_cancelled_at_once(self):
        production = productions.create("Cancelled", "audiobook-retail")
        self.page.goto(f"{self.application.address}#/productions/{production}")
        wave = signals.long_voice(240, rms_dbfs=-27, rate=RATE)
        path = signals.write(self.application.folder / "long.wav", wave, RATE, subtype="PCM_16")
        content = path.read_bytes()
        for number in range(3):
            self.drop((f"{number} long.wav", content + bytes(2 * number)))
        self.grows_to(self.page.locator("tr[data-name] .verdict > span"), 3)
        for number in range(3):
            self.page.get_by_label(f"Select {number} long.wav").check()
        bar = self.page.get_by_role("group", name=words.SELECTED_RECORDINGS)
        bar.get_by_role("button", name=words.CONFORM).click()
        until(lambda: conforming(WorkState.RUNNING), what="one to be in hand")
        with self.stage.worker_asleep():
            self.assertEqual(conforming(WorkState.DONE), 0)
            with self.page.expect_response(lambda answer: "cancel" in answer.url):
                self.page.get_by_role("button", name="Cancel everything under way").click()
        expect(self.page.get_by_role("progressbar")).to_have_count(0)
        expect(self.page.locator("tr[data-after]")).to_have_count(0)
        expect(self.page.get_by_role("button", name="Conform 1 long.wav")).to_have_text(words.TRY_AGAIN)
