"""The recordings of a production against one another in the browser: what stands apart, small multiples, seams to hear."""

import re

from playwright.sync_api import expect

from tests.ui import words
from tests.ui.interface import InterfaceCase

COUNT = """() => {
  window.started = [];
  const start = AudioBufferSourceNode.prototype.start;
  AudioBufferSourceNode.prototype.start = function (when, ...rest) {
    window.started.push({ when, seconds: this.buffer.duration });
    return start.call(this, when, ...rest);
  };
  window.gains = [];
  const create = BaseAudioContext.prototype.createGain;
  BaseAudioContext.prototype.createGain = function () {
    const node = create.call(this);
    window.gains.push(node);
    return node;
  };
}"""


class ConsistencyScreen(InterfaceCase):
    def book(self) -> None:
        """Five chapters, of which the fourth is softer."""
        self.open_production("Book")
        levels = (-20, -20.2, -20.1, -30, -20.15)
        self.drop(*[self.wav(f"{number}.wav", rms_dbfs=level, room_dbfs=-75) for number, level in enumerate(levels, start=1)])
        for number in range(1, 6):
            self.judged(f"{number}.wav")
        self.page.get_by_role("link", name=words.CONSISTENCY).click()
        expect(self.page.get_by_role("heading", name=words.CONSISTENCY)).to_be_visible()

    def test_what_stands_apart_is_named_and_every_measure_drawn(self):
        self.book()
        apart = self.page.get_by_role("region", name="Outliers")
        expect(apart.get_by_role("listitem")).to_have_count(1)
        expect(apart).to_contain_text(re.compile(r"4\.wav\s*voice (9|10)\.\d dB softer"))
        dots = self.page.get_by_role("region", name="All measurements").get_by_role("img")
        expect(dots).to_have_count(6)
        expect(dots.first).to_have_attribute("aria-label", re.compile(r"Active speech level: .* outliers: 4\.wav"))
        expect(dots.first.locator("circle")).to_have_count(5)
        expect(self.page.get_by_role("region", name=words.SPECTRA).get_by_role("img")).to_have_count(5)
        self.accessible()
        dots.first.hover(position={"x": 10, "y": 30})
        expect(self.page.get_by_role("heading", name="In order: 1.wav")).to_be_visible()
        apart.get_by_role("link", name="4.wav").click()
        expect(self.page.get_by_role("heading", name="4.wav")).to_be_visible()

    def test_seams_are_heard_as_they_are_and_matched(self):
        self.page.add_init_script(f"({COUNT})()")
        self.book()
        seams = self.page.get_by_role("region", name="Joins")
        expect(seams.get_by_role("row")).to_have_count(5)
        row = seams.get_by_role("row", name=re.compile("3.wav then 4.wav"))
        expect(row).to_contain_text("−9.")
        asked = []
        self.page.on("request", lambda request: "/sound?" in request.url and asked.append(request.url.split("?")[1]))
        row.get_by_role("button", name=words.PLAY).click()
        self.page.wait_for_function("() => window.started.length === 2")
        self.assertEqual(sorted(asked), ["start=0&frames=220500", f"start={12 * 44_100 - 220_500}&frames=220500"])
        one, other = self.page.evaluate("() => window.started")
        self.assertEqual((one["seconds"], other["seconds"]), (5, 5))
        self.assertAlmostEqual(other["when"], one["when"] + 5, places=6, msg="the next begins where the last ends")
        self.assertEqual(self.page.evaluate("() => window.gains.map((one) => one.gain.value)"), [1, 1])
        row.get_by_role("button", name=words.STOP).click()
        seams.get_by_label("Match the level of the voice").check()
        row.get_by_role("button", name=words.PLAY).click()
        self.page.wait_for_function("() => window.started.length === 4")
        first, second = self.page.evaluate("() => window.gains.slice(2).map((one) => one.gain.value)")
        self.assertEqual(second, 1, "only the louder is turned down")
        self.assertAlmostEqual(first, 10 ** (-9.9 / 20), delta=0.03)
        row.get_by_role("button", name=words.STOP).click()

    def test_as_made_and_taken_away(self):
        self.book()
        self.page.get_by_label(words.COMPARE).select_option("the processed files (0)")
        expect(self.page.get_by_text("Not made: 1.wav, 2.wav, 3.wav, 4.wav, 5.wav.")).to_be_visible()
        self.assertIn("made=yes", self.page.url)
        self.page.get_by_label(words.COMPARE).select_option("the recordings")
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name=words.CSV).click()
        self.assertEqual(download.value.suggested_filename, "Book.consistency.csv")
