"""What a page asks of the server: once for each thing that changed, and for nothing else; and what is asked for is done once."""

from collections import Counter
from urllib.parse import urlsplit

from playwright.sync_api import Route, expect

from tests.ui import words
from tests.ui.interface import PATIENCE_MS, InterfaceCase


class Asking(InterfaceCase):
    def setUp(self):
        super().setUp()
        self.application.empty()
        self.open_production("Almanac")
        self.drop(self.wav("one.wav", rms_dbfs=-20), self.wav("two.wav", rms_dbfs=-24))
        self.judged("one.wav")
        self.judged("two.wav")
        self.quiet()

    def quiet(self) -> None:
        """Until the page asks for nothing any more."""
        self.page.wait_for_load_state("networkidle")
        self.page.wait_for_timeout(600)

    def asked(self) -> Counter[str]:
        """Counts what is asked for from here on, by method and the last word of the address."""
        found: Counter[str] = Counter()
        self.page.on(
            "request", lambda one: "/api/" in one.url and found.update([f"{one.method} {urlsplit(one.url).path.rsplit('/', 1)[1]}"])
        )
        return found

    def rename(self, name: str, to: str) -> None:
        self.row(name).get_by_role("checkbox").check()
        self.page.get_by_role("button", name=words.RENAME_ONE).click()
        dialog = self.page.get_by_role("dialog")
        dialog.get_by_role("textbox").fill(to)
        dialog.get_by_role("button", name="Rename").click()
        expect(self.row(to)).to_be_visible()

    def test_what_an_act_changed_is_asked_for_once_and_nothing_else(self):
        asked = self.asked()
        self.rename("one.wav", "Frost.wav")
        self.quiet()
        recording = next(key for key in asked if key.startswith("PATCH")).removeprefix("PATCH ")
        self.assertNotEqual(recording, "")
        asked.pop("GET treatments", None)  # the bar of the selection opens with them
        asked.pop("GET defaults", None)
        self.assertEqual(asked, Counter({f"PATCH {recording}": 1, "GET sheet": 1, "POST rows": 1, "GET uploads": 1}))

    def test_another_page_learns_of_it_and_asks_once_too(self):
        other = self.context.new_page()
        other.goto(self.page.url)
        expect(self.row_in(other, "one.wav")).to_be_visible()
        other.wait_for_load_state("networkidle")
        other.wait_for_timeout(600)
        asked: Counter[str] = Counter()
        other.on("request", lambda one: "/sheet" in one.url and asked.update(["sheet"]))
        self.rename("one.wav", "Frost.wav")
        expect(self.row_in(other, "Frost.wav")).to_be_visible()
        other.wait_for_timeout(1_000)
        self.assertEqual(asked, Counter({"sheet": 1}))

    def test_a_button_that_is_pressed_twice_asks_once_and_says_that_it_is_at_work(self):
        held: list[Route] = []
        self.page.route("**/api/productions/*/order-by-name", lambda route: held.append(route))
        button = self.page.get_by_role("button", name="Reorder by name")
        with self.page.expect_request("**/order-by-name"):
            button.dblclick()
        expect(button).to_have_attribute("aria-busy", "true")
        button.press("Enter")
        self.assertEqual(len(held), 1)
        held[0].continue_()
        expect(self.page.get_by_text(words.REORDERED)).to_be_visible()
        expect(button).to_have_attribute("aria-busy", "false")
        self.assertEqual(len(held), 1)
        self.page.unroute_all(behavior="wait")

    def test_an_act_whose_answer_is_lost_is_shown_all_the_same(self):
        def lose(route: Route) -> None:
            if route.request.method == "PATCH":
                route.fetch()
                route.abort()
            else:
                route.continue_()

        self.page.route("**/api/recordings/*", lose)
        self.rename("one.wav", "Frost.wav")
        expect(self.page.get_by_role("alert").filter(has_text="did not answer")).to_be_visible()
        expect(self.page.get_by_role("button", name=words.TRY_AGAIN)).to_be_visible()
        self.page.unroute_all(behavior="wait")
        self.complaints.clear()


MOST_SCRIPT_BYTES = 120_000


class Loading(InterfaceCase):
    """How much a page loads before it shows something, and what it loads again."""

    def setUp(self):
        super().setUp()
        self.application.empty()
        # The screens that are fetched ahead, once the browser is idle, are no part of the first load.
        self.context.add_init_script("window.requestIdleCallback = () => 0")
        self.scripts: dict[str, str] = {}
        self.loaded: Counter[str] = Counter()
        self.from_network: list[str] = []
        network = self.context.new_cdp_session(self.page)
        network.send("Network.enable")
        network.on("Network.responseReceived", self.received)
        network.on("Network.loadingFinished", self.finished)

    def received(self, event: dict) -> None:
        answer = event["response"]
        if "/assets/" in answer["url"] and not answer.get("fromDiskCache"):
            self.from_network.append(answer["url"])
        if event["type"] == "Script":
            self.scripts[event["requestId"]] = answer["url"]

    def finished(self, event: dict) -> None:
        if event["requestId"] in self.scripts:
            self.loaded[self.scripts[event["requestId"]]] += int(event["encodedDataLength"])

    def test_the_first_screen_loads_little_script_and_the_next_only_its_own(self):
        self.open_production("Almanac")
        self.page.wait_for_load_state("networkidle")
        sheet = self.loaded.total()
        self.assertGreater(sheet, 10_000)
        self.assertLess(sheet, MOST_SCRIPT_BYTES, dict(self.loaded))
        before = set(self.loaded)
        self.page.get_by_role("link", name=words.PRODUCTIONS).click()
        expect(self.page.get_by_role("heading", name=words.PRODUCTIONS)).to_be_visible()
        more = set(self.loaded) - before
        self.assertLess(sum(self.loaded[url] for url in more), 40_000)
        self.assertTrue(all(count < MOST_SCRIPT_BYTES for count in self.loaded.values()))

    def test_the_bench_loads_little_script_too(self):
        self.open_recording("Almanac", rms_dbfs=-20)
        address = self.page.url
        self.page.goto("about:blank")
        self.loaded.clear()
        self.context.new_cdp_session(self.page).send("Network.clearBrowserCache")
        self.page.goto(address)
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.wait_for_load_state("networkidle")
        self.assertGreater(self.loaded.total(), 10_000)
        self.assertLess(self.loaded.total(), MOST_SCRIPT_BYTES, dict(self.loaded))

    def test_what_has_a_name_of_its_content_is_kept_for_good(self):
        self.open_production("Almanac")
        self.page.wait_for_load_state("networkidle")
        self.assertTrue(self.from_network)
        part = self.page.request.get(self.from_network[0])
        self.assertEqual(part.headers["cache-control"], "public, max-age=31536000, immutable")
        self.assertEqual(self.page.request.get(self.application.address).headers["cache-control"], "no-cache")
        self.from_network.clear()
        self.page.goto("about:blank")
        self.page.goto(self.application.address)
        expect(self.page.get_by_role("link", name="Almanac")).to_be_visible()
        shared = [url for url in self.from_network if "shared" in url or "index" in url]
        self.assertEqual(shared, [])

    def test_a_screen_that_does_not_come_says_so_and_offers_to_reload(self):
        self.open_production("Almanac")
        self.page.route("**/assets/Settings-*.js", lambda route: route.abort())
        self.page.get_by_role("link", name=words.SETTINGS).click()
        expect(self.page.get_by_role("heading", name="This screen did not load")).to_be_visible()
        self.accessible()
        self.page.unroute_all(behavior="wait")
        self.page.get_by_role("button", name="Reload the page").click()
        expect(self.page.get_by_role("heading", name=words.SETTINGS)).to_be_visible()

    def test_the_other_screens_are_fetched_while_nothing_else_is_done(self):
        page = self.browser.new_context().new_page()
        self.addCleanup(page.context.close)
        page.goto(self.application.address)
        there = "() => performance.getEntriesByType('resource').some((one) => one.name.includes('/assets/Settings-'))"
        page.wait_for_function(there, timeout=PATIENCE_MS)
        page.context.set_offline(True)
        page.get_by_role("link", name=words.SETTINGS).click()
        expect(page.get_by_role("heading", name=words.SETTINGS)).to_be_visible()
