"""Every screen of the application, with something on each: for what has to hold on all of them."""

from playwright.sync_api import expect

from tests.ui.interface import InterfaceCase


class EveryScreenCase(InterfaceCase):
    def setUp(self):
        super().setUp()
        self.application.empty()

    def screens(self) -> list[str]:
        """Addresses of every screen, with something on each."""
        self.open_production("Tidal mill")
        sheet = self.page.url.partition("#")[2]
        self.drop(self.wav("one.wav", rms_dbfs=-20, room_dbfs=-75), self.wav("two.wav", rms_dbfs=-30, room_dbfs=-85))
        self.judged("one.wav")
        self.judged("two.wav")
        bench = self.row("one.wav").get_by_role("link", name="one.wav").get_attribute("href").removeprefix("#")
        recording = bench.removeprefix("/recordings/")
        below = [f"{sheet}/{one}" for one in ("whole", "consistency", "deliver", "record", "take-check")]
        lists = ["/", "/specifications", "/treatments", "/certificates", "/certificates/keys", "/verify", "/removed", "/settings"]
        lists += ["/account", "/people", "/trail", "/operation", "/outside"]
        ones = ["/specifications/audiobook-retail", "/treatments/quiet-room", f"/listen/recording/{recording}"]
        return [sheet, bench, *below, *lists, *ones, "/nowhere"]

    def visit(self, place: str) -> None:
        self.page.goto(f"{self.application.address}#{place}")
        expect(self.page.locator("h1").first).to_be_visible()
        self.page.wait_for_load_state("networkidle")
