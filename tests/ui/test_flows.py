"""The ways of every day in the browser: finding, renaming, undoing, removing and restoring, shortcuts, and leaving."""

import re
from datetime import timedelta

from playwright.sync_api import expect

from ispettore.studio.catalogue import productions, specifications
from ispettore.studio.database import transaction
from ispettore.studio.tables import Production
from tests.support import until
from tests.ui import words
from tests.ui.interface import InterfaceCase

STRAY = """() => {
  const carried = new DataTransfer();
  carried.items.add(new File(['x'], 'stray.wav'));
  const made = { dataTransfer: carried, bubbles: true, cancelable: true };
  return ['dragover', 'drop'].map((kind) => document.querySelector('main').dispatchEvent(new DragEvent(kind, made)));
}"""


class Flows(InterfaceCase):
    def setUp(self):
        super().setUp()
        self.application.empty()

    def listed(self, *names: str) -> None:
        """The productions on their screen, in this order."""
        expect(self.page.locator("tbody tr td:first-child a")).to_have_text(list(names))

    def test_productions_and_recordings_are_found_and_sorted(self):
        for name, specification in (("Tidal mill", "audiobook-retail"), ("Harbour bulletin", "broadcast-r128")):
            productions.create(name, specification)
        self.open_production("Museum guide")
        self.drop(("01 Tide gauge.wav", b"Dear listener, " * 100))
        expect(self.row("01 Tide gauge.wav")).to_be_visible()
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        self.listed("Museum guide", "Harbour bulletin", "Tidal mill")
        self.page.get_by_role("button", name=words.SORT_BY_NAME).click()
        self.listed("Harbour bulletin", "Museum guide", "Tidal mill")
        expect(self.page.get_by_role("columnheader", name=re.compile("^Name"))).to_have_attribute("aria-sort", "ascending")
        self.page.get_by_role("button", name="Sort by recordings").click()
        self.page.get_by_role("button", name="Sort by recordings").click()
        expect(self.page.locator("tbody tr td:first-child a").first).to_have_text("Museum guide")
        self.accessible()
        find = self.page.get_by_label("Find a production or recording")
        find.fill("TIDA")
        self.listed("Tidal mill")
        find.fill("tide")
        found = self.page.get_by_role("region", name="Recordings found")
        expect(found).to_contain_text("1 recording found")
        expect(found).to_contain_text("in Museum guide")
        expect(self.page.get_by_text("No production has this name.")).to_be_visible()
        self.accessible()
        found.get_by_role("link", name="01 Tide gauge.wav").click()
        expect(self.page.get_by_role("heading", name="01 Tide gauge.wav")).to_be_visible()

    def test_a_removed_production_is_restored_from_the_list_of_what_was_removed(self):
        self.open_production("Tidal mill")
        self.page.get_by_role("button", name=words.REMOVE_PRODUCTION).click()
        question = self.page.get_by_role("dialog", name="Remove Tidal mill")
        expect(question).to_contain_text("You can restore it under Removed")
        self.accessible()
        question.get_by_role("button", name=words.REMOVE_PRODUCTION).click()
        expect(self.page.get_by_text("This production was removed.")).to_be_visible()
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        expect(self.page.get_by_role("region", name=words.FIRST_STEPS)).to_be_visible()
        self.page.get_by_role("link", name="Removed").click()
        row = self.page.locator("tr[data-removed='Tidal mill']")
        expect(row).to_contain_text("Production")
        self.accessible()
        row.get_by_role("button", name="Restore Tidal mill").click()
        expect(row).to_have_count(0)
        self.page.get_by_role("link", name=words.PRODUCTIONS).first.click()
        self.listed("Tidal mill")

    def test_what_was_removed_long_ago_is_erased_once_that_is_asked_and_told(self):
        self.open_production("Museum guide")
        self.drop(("01 Tide gauge.wav", b"Dear listener, " * 100))
        expect(self.row("01 Tide gauge.wav")).to_be_visible()
        [museum] = [one.id for one in productions.summaries()]
        productions.remove(museum, removed=True)
        self.page.goto(f"{self.application.address}#/removed")
        row = self.page.locator("tr[data-removed='Museum guide']")
        expect(row.get_by_role("button", name="Erase Museum guide")).to_be_visible()
        expect(self.page.get_by_role("button", name="over 30 days ago")).to_have_count(0)
        with transaction() as session:
            production = session.get_one(Production, museum)
            production.removed_at -= timedelta(days=31)
            session.add(production)
        self.page.reload()
        self.page.get_by_role("button", name="Erase 1 item removed over 30 days ago").click()
        question = self.page.get_by_role("dialog", name="Erase Museum guide for good")
        expect(question).to_contain_text("None of it can be played, delivered or restored afterwards")
        self.accessible()
        question.get_by_role("button", name="Back").click()
        expect(row).to_be_visible()
        row.get_by_role("button", name="Erase Museum guide").click()
        question.get_by_role("button", name="Erase for good").click()
        expect(row).to_have_count(0)
        expect(self.page.get_by_text("1 item erased;")).to_be_visible()
        self.assertNotEqual(self.page.evaluate("() => document.activeElement.tagName"), "BODY")
        self.page.goto(f"{self.application.address}#/productions/{museum}")
        expect(self.page.get_by_text("This production was erased")).to_be_visible()
        self.accessible()
        self.page.get_by_role("link", name="record").click()
        expect(self.page.get_by_text("Production erased.")).to_be_visible()

    def test_a_specification_says_who_uses_it_before_it_is_removed_and_comes_back(self):
        own = specifications.copy("podcast-mono", "Tide tables")
        productions.create("Tidal mill", own.id)
        self.page.goto(f"{self.application.address}#/specifications/{own.id}")
        self.page.get_by_role("button", name="Remove…").click()
        question = self.page.get_by_role("dialog", name="Remove Tide tables")
        expect(question).to_contain_text("Tidal mill uses it and will keep it")
        self.accessible()
        question.get_by_role("button", name="Remove specification").click()
        expect(self.page.get_by_text("This specification was removed.")).to_be_visible()
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        self.page.get_by_role("link", name="Tidal mill").click()
        chosen = self.page.get_by_role("combobox", name=words.SPECIFICATION)
        expect(chosen.locator("option:checked")).to_have_text("Tide tables")
        self.page.goto(f"{self.application.address}#/specifications/{own.id}")
        self.page.get_by_role("button", name=words.RESTORE, exact=True).click()
        expect(self.page.get_by_role("button", name="Remove…")).to_be_visible()

    def test_recordings_are_renamed_on_the_bench_and_on_the_sheet(self):
        self.open_production("Renamed")
        self.drop(self.wav("one.wav", rms_dbfs=-20, room_dbfs=-75))
        self.judged("one.wav")
        self.page.get_by_label("Select one.wav").check()
        self.page.get_by_role("button", name=words.RENAME_ONE).click()
        dialog = self.page.get_by_role("dialog", name="Rename recording")
        self.accessible()
        dialog.get_by_label(words.RECORDING_NAME).fill("01 Ebb")
        dialog.get_by_role("button", name=words.RENAME).click()
        self.row("01 Ebb.wav").get_by_role("link", name="01 Ebb.wav").click()
        self.page.get_by_role("button", name=words.RENAME, exact=True).click()
        field = self.page.get_by_label(words.RECORDING_NAME)
        expect(field).to_be_focused()
        field.fill("thrown away")
        self.page.keyboard.press("Escape")
        expect(self.page.get_by_role("heading", name="01 Ebb.wav")).to_be_visible()
        self.page.get_by_role("button", name=words.RENAME).click()
        field.fill("02 Flood")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="02 Flood.wav")).to_be_visible()
        self.accessible()

    def test_order_and_specification_are_undone(self):
        self.open_production("Undone")
        content = self.wav("x.wav", rms_dbfs=-20, room_dbfs=-75)[1]
        self.drop(("b.wav", content))
        self.judged("b.wav")
        self.drop(("a.wav", content + b"\0"))
        self.judged("a.wav")
        rows = self.page.locator("tr[data-name] th a")
        undo, done = self.page.get_by_role("button", name=words.UNDO, exact=True), self.page.locator("p.note")
        for act, said in (
            (lambda: self.page.get_by_role("button", name=words.REORDER_BY_NAME).click(), words.REORDERED),
            (lambda: self.page.get_by_role("button", name="Move a.wav").press("ArrowUp"), "Moved a.wav."),
        ):
            with self.subTest(said=said):
                expect(rows).to_have_text(["b.wav", "a.wav"])
                act()
                expect(rows).to_have_text(["a.wav", "b.wav"])
                expect(done).to_contain_text(said)
                self.accessible()
                undo.click()
                expect(rows).to_have_text(["b.wav", "a.wav"])
                expect(done).to_have_count(0)
        self.page.get_by_role("combobox", name=words.SPECIFICATION).select_option(label="Podcast, mono")
        expect(done).to_contain_text("Specification changed to Podcast, mono.")
        undo.click()
        expect(self.page.get_by_role("columnheader", name=re.compile("^RMS level"))).to_be_visible()
        expect(done).to_have_count(0)

    def test_every_screen_lists_its_shortcuts_and_single_keys_can_be_switched_off(self):
        self.open_recording("Keys", rms_dbfs=-20, room_dbfs=-75)
        bench = self.page.url
        zoom = self.page.get_by_role("button", name="Zoom out")
        self.page.evaluate(
            "() => window.dispatchEvent(new KeyboardEvent('keydown', { key: '+', modifierAltGraph: true, bubbles: true }))"
        )
        expect(zoom).to_be_disabled()
        for where, lists in (
            (bench, ["Every screen", "Bench", "With the focus on the ribbon"]),
            ("#/", ["Every screen"]),
            (f"#/productions/{productions.summaries()[0].id}", ["Every screen", "Sheet"]),
            (f"#/specifications/{specifications.copy('podcast-mono', 'Own').id}", ["Every screen", "Specification"]),
        ):
            with self.subTest(where=where):
                self.page.goto(where if where == bench else f"{self.application.address}{where}")
                expect(self.page.locator("h1").first).to_be_attached()
                self.page.get_by_role("button", name=words.SHORTCUTS).click()
                dialog = self.page.get_by_role("dialog", name=words.SHORTCUTS)
                expect(dialog.get_by_role("heading", level=3)).to_have_text(lists)
                self.accessible()
                self.page.keyboard.press("Escape")
        self.page.goto(bench)
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.keyboard.press("?")
        self.page.get_by_label("Use single letters, digits and signs as shortcuts").uncheck()
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("+")
        expect(zoom).to_be_disabled()
        self.page.reload()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.keyboard.press("?")
        expect(self.page.get_by_role("dialog")).to_have_count(0)
        self.page.get_by_role("button", name=words.SHORTCUTS).click()
        self.page.get_by_label("Use single letters, digits and signs as shortcuts").check()
        self.page.keyboard.press("Escape")
        self.page.get_by_role("heading", name="one.wav").click()
        self.page.keyboard.press("+")
        expect(zoom).to_be_enabled()

    def test_addresses_that_lead_nowhere_say_so_and_stray_files_are_not_opened(self):
        self.page.goto(f"{self.application.address}#/prodctions/1")
        expect(self.page.get_by_role("heading", name="Page not found")).to_be_visible()
        expect(self.page.get_by_text("There is no page at “/prodctions/1”.")).to_be_visible()
        self.accessible()
        self.assertEqual(self.page.evaluate(STRAY), [False, False], "the browser would have opened the file")
        self.page.get_by_role("link", name="Go to productions").click()
        expect(self.page.get_by_role("heading", name=words.PRODUCTIONS)).to_be_visible()

    def test_leaving_is_warned_of_while_files_are_on_their_way(self):
        self.open_production("Leaving")
        asked, held = [], []
        self.page.on("dialog", lambda dialog: asked.append(dialog.type) or dialog.dismiss())
        self.page.route("**/api/uploads/**", lambda route: held.append(route))
        self.drop(self.wav("one.wav", rms_dbfs=-20, room_dbfs=-75))
        expect(self.page.get_by_role("progressbar").first).to_be_visible()
        self.page.get_by_role("heading", name="Leaving").click()
        self.page.close(run_before_unload=True)
        until(lambda: self.page.wait_for_timeout(50) or asked, what="the question")
        self.assertEqual(asked, ["beforeunload"])
        self.assertFalse(self.page.is_closed())
        self.page.get_by_role("button", name="Cancel one.wav").click()
        for route in held:
            route.abort()
        self.page.unroute_all(behavior="wait")
        self.page.close(run_before_unload=True)
        self.page.wait_for_event("close") if not self.page.is_closed() else None
        self.assertEqual(asked, ["beforeunload"])
