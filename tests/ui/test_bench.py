"""The bench in the browser: the ribbon from three hours to single samples, by keyboard and pointer, and a meter on it."""

import io
import itertools
import math
import re

import numpy as np
import soundfile
from playwright.sync_api import expect

from ispettore.core.measure import tracks
from tests.ui import words
from tests.ui.interface import RATE, InterfaceCase
from tests.ui.much import TURN, three_hours


class Bench(InterfaceCase):
    def test_it_is_zoomed_and_panned_by_keyboard_and_pointer(self):
        self.open_recording("Zoomed", rms_dbfs=-20, room_dbfs=-75)
        ribbon_said = self.page.locator(".ribbon svg[role=img]")
        expect(ribbon_said).to_have_attribute("aria-label", re.compile("shown from 0:00.0 to 0:12.0"))
        whole = self.picture()
        self.page.get_by_role("slider", name=words.PLAYHEAD).focus()
        for key, said in (
            ("End", "0:00.0 to 0:12.0"),
            ("+", "0:05.5 to 0:11.5"),
            ("+", "0:08.3 to 0:11.3"),
            (",", "0:06.8 to 0:09.8"),
            (".", "0:08.3 to 0:11.3"),
            ("-", "0:05.5 to 0:11.5"),
            ("0", "0:00.0 to 0:12.0"),
        ):
            self.page.keyboard.press(key)
            with self.subTest(key=key):
                expect(ribbon_said).to_have_attribute("aria-label", re.compile(said))
        self.assertEqual(self.picture(), whole)
        box = self.page.locator(".ribbon").bounding_box()
        self.page.mouse.move(box["x"] + 400, box["y"] + 80)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + 700, box["y"] + 90, steps=5)
        self.page.mouse.up()
        selection = self.page.get_by_label(words.SELECTION, exact=True)
        # 300 of the plot's pixels, which stand for 12 s
        plot = box["width"] - 2 - 44 - 132
        expect(selection).to_contain_text(f"{300 / plot * 12:.2f} s")
        self.accessible()
        self.page.get_by_role("button", name="Zoom to selection").click()
        self.assertNotEqual(self.picture(), whole)
        self.page.keyboard.press("Escape")
        expect(selection).to_have_count(0)
        self.page.get_by_role("button", name="Whole file").click()
        self.page.evaluate(TURN, [True, 0, -200, 5])
        expect(ribbon_said).not_to_have_attribute("aria-label", re.compile("0:00.0 to 0:12.0"))

    def test_close_enough_it_shows_the_samples_themselves(self):
        _, content = self.open_recording("Samples", rms_dbfs=-20, room_dbfs=-75)
        wave, _ = soundfile.read(io.BytesIO(content))
        self.page.keyboard.press("w")
        expect(self.page.get_by_role("button", name="Waveform")).to_have_attribute("aria-pressed", "true")
        for _ in range(4):
            self.page.keyboard.press("ArrowRight")
        with self.page.expect_response("**/sound?**"):
            for _ in range(13):
                self.page.keyboard.press("+")
        # 64 samples across the plot: the line through them is where the samples are.
        self.page.wait_for_timeout(500)
        expect(self.page.locator(".ribbon canvas")).to_have_attribute("data-settled", "true")
        image = self.page.evaluate(
            """() => {
              const canvas = document.querySelector('.ribbon canvas');
              const { width, height } = canvas;
              const data = canvas.getContext('2d').getImageData(0, 0, width, height).data;
              const rows = [];
              for (let x = 0; x < width; x++) {
                let [sum, weight] = [0, 0];
                for (let y = 0; y < height; y++) { const a = data[4 * (y * width + x) + 3]; sum += a * y; weight += a; }
                rows.push(weight ? sum / weight : null);
              }
              return rows;
            }"""
        )
        label = self.page.locator(".ribbon .under text").first.text_content()
        # Zoomed in around 8 s of 12, thirteen times by two.
        span = 12 / 2**13
        start = 8 - span * 8 / 12
        scale, middle, half = float(label), (6 + 222 - 22 - 17) / 2, (222 - 22 - 17 - 6) / 2
        found, wanted = [], []
        for frame in range(math.ceil(start * RATE) + 1, int((start + span) * RATE)):
            column = round((frame / RATE - start) / span * len(image))
            found.append((middle - image[column]) / half * scale)
            wanted.append(wave[frame])
        self.assertGreater(len(found), 60)
        self.assertGreater(np.corrcoef(found, wanted)[0, 1], 0.98)
        self.assertLess(np.abs(np.subtract(found, wanted)).max(), 0.1 * scale)

    def test_a_meter_at_the_playhead_reads_what_the_core_measured(self):
        _, content = self.open_recording("Read out", rms_dbfs=-20, room_dbfs=-75)
        run = tracks.of(self.measured(content))
        now = self.page.get_by_role("group", name=words.AT_THE_PLAYHEAD)
        for _ in range(3):
            self.page.keyboard.press("ArrowRight")
        for position, peak, momentary, short in ((6.0, 60, 56, 30), (8.0, 80, 76, 50)):
            if position > 6:
                self.page.keyboard.press("ArrowRight")
            measured = (run.sample_peak_dbfs[peak], run.momentary_lufs[momentary], run.short_term_lufs[short])
            with self.subTest(position=position):
                expect(self.page.get_by_label(words.POSITION)).to_contain_text(f"0:0{position:.0f}")
                shown = [float(figure) for figure in re.findall(r"-?[\d.]+", now.text_content().replace("−", "-"))]
                self.assertEqual(len(shown), 3)
                for read, value in zip(shown, measured, strict=True):
                    self.assertAlmostEqual(read, value, delta=0.06)

    def test_a_limit_marks_where_its_reading_was_taken_and_leads_there(self):
        _, content = self.open_recording("Marked", rms_dbfs=-8, room_dbfs=-60)
        peak = self.measured(content).inspection.readings["sample_peak_dbfs"]
        limits = self.page.get_by_role("region", name=words.LIMITS)
        self.assertEqual(limits.locator("h3").all_text_contents(), ["Level", "Between the words", "Recording faults", "File"])
        limits.locator(".rule").filter(has=self.page.get_by_text("Peak", exact=True)).hover()
        marked = self.page.locator(".ribbon .marked")
        plot = self.page.locator(".ribbon").bounding_box()["width"] - 2 - 44 - 132
        self.assertAlmostEqual(float(marked.get_attribute("x")), 44 + peak.start_s / 12 * plot, delta=1)
        limits.get_by_role("heading", name="Level").hover()
        expect(marked).to_have_count(0)
        figure = limits.get_by_role("button", name="Peak: go to where it was taken")
        figure.focus()
        expect(marked).to_be_visible()
        self.accessible()
        figure.click()
        line = self.page.locator(".playhead")
        self.assertAlmostEqual(float(line.get_attribute("x1")), 44 + peak.start_s / 12 * plot, delta=1)

    def test_every_reading_shows_before_and_after(self):
        self.open_recording("Both", rms_dbfs=-31, room_dbfs=-78)
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        readings = self.look_at(words.READINGS)
        level = readings.locator("dl div", has=self.page.get_by_role("button", name=words.RMS_LEVEL, exact=True))
        expect(level).to_contain_text("−20.5")
        expect(level).to_contain_text("before −31.0")
        noise = readings.locator("dl div", has=self.page.get_by_role("button", name=words.NOISE_FLOOR, exact=True))
        expect(noise).to_contain_text("before −78.0")
        self.accessible()

    def test_a_selection_is_played_over_and_over(self):
        self.open_recording("Looped", rms_dbfs=-20, room_dbfs=-75)
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("[")
        box = self.page.locator(".ribbon").bounding_box()
        plot = box["width"] - 2 - 44 - 132
        self.page.mouse.move(box["x"] + 1 + 44 + plot * 2 / 12, box["y"] + 80)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + 1 + 44 + plot * 3 / 12, box["y"] + 90, steps=5)
        self.page.mouse.up()
        self.page.get_by_label(words.LOOP).check()
        self.page.get_by_role("heading", name="one.wav").click()
        self.page.keyboard.press("h")
        strip = self.page.get_by_role("group", name=words.PLAYER)
        expect(strip.get_by_role("button", name=words.STOP)).to_be_visible()
        positions = self.page.evaluate(
            """async () => {
              const line = document.querySelector('.playhead');
              const seen = [];
              const until = performance.now() + 60000;
              const at = (index) => seen.at(index) ?? 0;
              // Until it began anew, however late a busy machine lets the sound start, and three seconds more.
              for (let end = until; performance.now() < end; ) {
                seen.push(Number(line.getAttribute('x1')));
                if (end === until && at(-1) < at(-2) - 20) end = performance.now() + 3000;
                await new Promise((done) => requestAnimationFrame(done));
              }
              return seen;
            }"""
        )
        seconds = [(position - 44) / plot * 12 for position in positions]
        self.assertGreaterEqual(min(seconds), 1.9)
        self.assertLessEqual(max(seconds), 3.1)
        self.assertGreaterEqual(sum(later < earlier - 0.5 for earlier, later in itertools.pairwise(seconds)), 1)
        self.page.keyboard.press("h")

    def test_findings_are_stepped_through_by_key_and_the_keys_are_listed(self):
        self.open_production("Stepped")
        self.drop(self.wav("loud.wav", rms_dbfs=-8, room_dbfs=-60))
        self.row("loud.wav").get_by_role("link", name="loud.wav").click()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.get_by_role("heading", name="loud.wav").click()
        position = self.page.get_by_label(words.POSITION)
        line = self.page.locator(".playhead")
        seen = []
        for key in ("n", "n", "p"):
            self.page.keyboard.press(key)
            seen.append(float(line.get_attribute("x1")))
        self.assertLess(seen[0], seen[1])
        self.assertAlmostEqual(seen[0], seen[2], delta=1)
        expect(position).to_be_visible()
        self.page.keyboard.press("?")
        keys = self.page.get_by_role("dialog", name="Keyboard shortcuts")
        expect(keys).to_contain_text("switch between original and processed")
        self.accessible()
        self.page.keyboard.press("Escape")
        expect(keys).to_have_count(0)

    def test_three_hours_open_and_are_zoomed_and_panned(self):
        recording, _ = three_hours(self.application.folder, self.application.store)
        # Its levels are made up, so there is no sound behind it: what comes closer than 5 ms a column is asked for in vain.
        self.page.route("**/sound?**", lambda route: route.fulfill(status=404, json={"error": "no sound"}))
        self.page.goto(f"{self.application.address}#/recordings/{recording}")
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        whole = self.picture()
        self.page.evaluate(TURN, [True, 0, -120, 10])
        closer = self.picture()
        self.page.evaluate(TURN, [False, 60, 0, 10])
        self.assertEqual(len({whole, closer, self.picture()}), 3)
