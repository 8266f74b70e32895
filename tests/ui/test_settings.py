"""In the browser: settings, the first minute with nothing here yet, and errors with a button that helps."""

from playwright.sync_api import Route, expect
from sqlmodel import select

from ispettore.studio.catalogue import defaults, productions
from ispettore.studio.database import transaction
from ispettore.studio.tables import Conforming
from tests.ui import words
from tests.ui.interface import PATIENCE_MS, InterfaceCase


class Settings(InterfaceCase):
    def setUp(self):
        super().setUp()
        self.application.empty()

    def open(self, place: str) -> None:
        self.page.goto(f"{self.application.address}#{place}")

    def test_settings_are_saved_as_they_are_changed_and_new_work_begins_with_them(self):
        self.open("/settings")
        name = self.page.get_by_label("Your name, shown in certificates")
        name.fill("Elspeth Sluice")
        name.press("Tab")
        saved = self.page.get_by_role("status")
        expect(saved).to_have_text("Name saved.")
        self.page.get_by_role("combobox", name=words.SPECIFICATION).select_option("Broadcast, R 128")
        expect(saved).to_have_text("Specification saved.")
        self.page.get_by_role("combobox", name="Conform with").select_option("Light")
        expect(saved).to_have_text("Plan saved.")
        limiting = self.page.get_by_label("Limiting, dB")
        limiting.fill("3.5")
        limiting.press("Tab")
        expect(saved).to_have_text("Bounds saved.")
        self.accessible()
        limiting.fill("90")
        limiting.press("Tab")
        expect(limiting).to_have_value("3.5")
        self.page.reload()
        expect(limiting).to_have_value("3.5")
        expect(name).to_have_value("Elspeth Sluice")
        self.page.get_by_role("button", name="Restore standard bounds").click()
        expect(limiting).to_have_value("6")
        self.assertEqual(defaults.here().preference, "light")
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        chosen = self.page.get_by_role("combobox", name=words.SPECIFICATION)
        expect(chosen.locator("option:checked")).to_have_text("Broadcast, R 128")

    def test_where_everything_lies_is_listed_and_the_keys_are_a_link_away(self):
        self.open("/")
        self.page.get_by_role("link", name=words.SETTINGS).click()
        table = self.page.get_by_role("region", name="Data on disk").get_by_role("table")
        expect(table.get_by_role("row").filter(has_text="Recordings, masters")).to_contain_text(str(self.application.store.folder))
        expect(table.get_by_role("row").filter(has_text="Readings, certificates")).to_contain_text("postgresql://")
        self.page.get_by_role("link", name="Show keys").click()
        expect(self.page.get_by_role("heading", name="Keys")).to_be_visible()

    def test_the_usual_plan_and_bounds_are_those_of_the_sheet_and_of_a_whole_production(self):
        defaults.change(preference="light", bounds=defaults.Defaults().bounds.model_copy(update={"limiting_db": 2.5}))
        self.open_production("Tidal mill")
        self.drop(self.wav("one.wav", rms_dbfs=-26, room_dbfs=-80))
        self.judged("one.wav")
        self.page.get_by_label("Select one.wav").check()
        expect(
            self.page.get_by_role("group", name="Selected recordings")
            .get_by_role("combobox", name="Treatment")
            .locator("option:checked")
        ).to_have_text("A light plan for each")
        self.page.get_by_role("button", name="Conform one.wav").click()
        expect(self.after("one.wav")).to_be_visible()
        with transaction() as session:
            made = session.exec(select(Conforming)).one()
        self.assertEqual((made.preference, made.bounds["limiting_db"]), ("light", 2.5))
        self.page.goto(f"{self.page.url}/whole")
        expect(self.page.get_by_role("combobox", name="Treatment").locator("option:checked")).to_have_text("A light plan for each")
        self.page.get_by_role("button", name=words.BOUNDS, exact=True).click()
        limiting = self.page.get_by_label("Limiting, dB")
        expect(limiting).to_have_value("2.5")
        limiting.fill("4")
        limiting.press("Tab")
        expect(self.page.get_by_role("button", name="Bounds, changed")).to_be_visible()
        self.assertIn("limiting_db=4", self.page.url)
        self.page.get_by_role("button", name="Restore defaults").click()
        expect(limiting).to_have_value("2.5")
        self.assertNotIn("limiting_db", self.page.url)

    def test_where_nothing_is_here_yet_the_demo_is_one_click_away(self):
        self.open("/")
        steps = self.page.get_by_role("region", name=words.FIRST_STEPS)
        expect(steps).to_contain_text("Open the demo production to see that on ten chapters")
        self.accessible()
        steps.get_by_role("button", name=words.OPEN_DEMO).click()
        expect(self.page.get_by_role("heading", name="Almanac of a Tidal Mill")).to_be_visible()
        self.judged("01 January.wav", patience_ms=6 * PATIENCE_MS)  # every reading is made first
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        expect(self.page.get_by_role("link", name="Almanac of a Tidal Mill")).to_be_visible()
        expect(steps).to_have_count(0)


class Errors(InterfaceCase):
    def setUp(self):
        super().setUp()
        self.application.empty()

    def tearDown(self):
        self.page.unroute_all(behavior="wait")
        super().tearDown()

    def answers(self, path: str, *refusals: dict, status: int = 409) -> None:
        """Refuse the first of these acts, each as it says; let the others through."""
        left = list(refusals)

        def refused(route: Route) -> None:
            if left and route.request.method != "GET":
                route.fulfill(status=status, json=left.pop(0))
            else:
                route.continue_()

        self.page.route(path, refused)

    def make(self, name: str):
        self.page.get_by_role("textbox", name=words.NAME).fill(name)
        self.page.get_by_role("button", name=words.CREATE_PRODUCTION).click()
        return self.page.get_by_role("alert")

    def test_what_may_work_a_moment_later_is_tried_again_with_a_button(self):
        self.page.goto(f"{self.application.address}#/")
        self.answers("**/api/productions", {"error": "The database is not answering.", "act": "again"}, status=503)
        told = self.make("Harbour report")
        expect(told).to_contain_text("The database is not answering.")
        self.accessible()
        told.get_by_role("button", name="Try again").click()
        expect(self.page.get_by_role("heading", name="Harbour report")).to_be_visible()
        self.assertEqual([one.name for one in productions.summaries()], ["Harbour report"])
        self.complaints.clear()  # the 503 was ours

    def test_a_full_disk_leads_to_where_everything_lies(self):
        self.page.goto(f"{self.application.address}#/")
        self.answers("**/api/productions", {"error": "There is no room left here for “Mill”.", "act": "disk"}, status=507)
        self.make("Mill").get_by_role("link", name="Show disk use").click()
        expect(self.page.get_by_role("heading", name=words.SETTINGS)).to_be_visible()
        self.complaints.clear()  # the 507 was ours

    def test_what_changed_meanwhile_is_shown_with_a_button(self):
        self.open_production("Tidal mill")
        [identifier] = [one.id for one in productions.summaries()]
        self.answers("**/api/productions/*", {"error": "The list of recordings changed.", "act": "reload"})
        self.page.get_by_role("button", name=words.RENAME, exact=True).click()
        self.page.get_by_label("Name of the production").fill("Other mill")
        self.page.keyboard.press("Enter")
        told = self.page.get_by_role("alert")
        expect(told).to_contain_text("The list of recordings changed.")
        self.page.unroute_all(behavior="wait")
        productions.change(identifier, name="Third mill")
        told.get_by_role("button", name="Show the current state").click()
        expect(told).to_have_count(0)
        expect(self.page.get_by_role("heading", name="Third mill")).to_be_visible()

    def test_a_server_that_is_away_is_told_in_a_sentence(self):
        self.page.goto(f"{self.application.address}#/")
        expect(self.page.get_by_role("button", name=words.OPEN_DEMO)).to_be_visible()
        self.page.route("**/api/productions", lambda route: route.abort())
        told = self.make("Mill")
        expect(told).to_contain_text("The server did not answer. Check that Ispettore is running, then try again.")
        self.page.unroute_all(behavior="wait")
        told.get_by_role("button", name="Try again").click()
        expect(self.page.get_by_role("heading", name="Mill")).to_be_visible()
