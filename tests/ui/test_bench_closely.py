"""The bench looked at closely: what a selection reads, pitches, room tone by hand, and the processed version beside its source."""

import io
import json
import re

import numpy as np
import soundfile
from playwright.sync_api import expect
from scipy import stats

from ispettore.core.audio.broadcast import Broadcast
from ispettore.core.audio.writing import Sink, format_for
from ispettore.core.measure import span_levels, spectrogram
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.reading import Span
from ispettore.core.spec.specification import Specification
from ispettore.studio.catalogue import recordings
from ispettore.studio.database import transaction
from ispettore.studio.tables import InspectionRecord, Production
from tests import signals
from tests.support import until
from tests.ui import words
from tests.ui.interface import LEFT, RATE, RIGHT, InterfaceCase
from tests.ui.much import twelve_minutes


def figure(text: str) -> float:
    return float(re.search(r"-?[\d.]+", text.replace("−", "-"))[0])


class Closely(InterfaceCase):
    def test_a_selection_reads_what_the_core_measures_of_it(self):
        _, content = self.open_recording("Selected", rms_dbfs=-20, room_dbfs=-70)
        wave, _ = soundfile.read(io.BytesIO(content))
        readings = self.page.get_by_role("group", name=words.READINGS_OF_THE_SELECTION)
        for wanted in ((1.5, 9), (4, 4.5), (0, 12)):
            start, end = self.select(*wanted)
            expect(readings.locator("dd")).to_have_count(12)
            expect(readings).to_have_attribute("aria-busy", "false")
            first, last = int(start / 0.005 + 1e-6), min(int(np.ceil(end / 0.005 - 1e-6)), 2_400)
            part = wave[round(first * RATE / 200) : round(last * RATE / 200)]
            expected = measure_array(part, sample_rate_hz=RATE).inspection
            for quantity in ("sample_peak_dbfs", "true_peak_dbtp", "rms_dbfs", "integrated_loudness_lufs", "momentary_max_lufs"):
                with self.subTest(quantity=quantity, span=wanted):
                    shown = readings.locator(f"dd[data-quantity={quantity}]").text_content()
                    self.assertAlmostEqual(figure(shown), expected.value(quantity), delta=0.12)
        self.accessible()
        # By keyboard alone: the selection's edges are set at the playhead.
        self.page.keyboard.press("Escape")
        expect(readings).to_have_count(0)
        self.page.get_by_role("heading", name="one.wav").click()
        for key in ("ArrowRight", "[", "ArrowRight", "]"):
            self.page.keyboard.press(key)
        expect(self.page.get_by_label(words.SELECTION, exact=True)).to_contain_text("0:02.00 to 0:04.00")
        expect(readings.locator("dd")).to_have_count(12)

    def test_ten_minutes_are_read_and_more_are_too_many(self):
        recording = twelve_minutes(self.application.folder, self.application.store)
        self.page.goto(f"{self.application.address}#/recordings/{recording}")
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        readings = self.page.get_by_role("group", name=words.READINGS_OF_THE_SELECTION)
        self.select(30, 620, duration_s=720)
        expect(readings.locator("dd")).to_have_count(12)
        self.select(0, 715, duration_s=720)
        expect(readings).to_contain_text("at most 10 minutes long")

    def test_the_spectrogram_shows_what_the_core_computes_of_the_visible_span(self):
        self.open_production("Pitches")
        t = np.arange(12 * RATE) / RATE
        wave = signals.voice_like(12, rms_dbfs=-24, rate=RATE) + np.where((t > 6) & (t < 9), 0.1 * np.sin(2e4 * np.pi * t), 0)
        path = self.application.folder / "tone.wav"
        soundfile.write(path, wave, RATE, subtype="PCM_16")
        self.drop(("tone.wav", path.read_bytes()))
        self.row("tone.wav").get_by_role("link", name="tone.wav").click()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.get_by_role("heading", name="tone.wav").click()
        self.page.keyboard.press("s")
        image = self.page.get_by_role("img", name=re.compile("Spectrogram from 0:00 to 0:12"))
        expect(image).to_be_visible()
        self.assertEqual(self.page.locator(".frame + svg text").all_text_contents()[:3], ["50", "100", "200"])
        self.accessible()
        where = spectrogram.axes(0, 12, sample_rate_hz=RATE)
        dark = self.dark(image)
        rows, columns = dark.shape
        row = int((1 - np.log(10_000 / where.low_hz) / np.log(where.high_hz / where.low_hz)) * rows)
        tone = dark[row - 2 : row + 3].max(axis=0)
        self.assertGreater(tone[round(columns * 7.5 / 12)], tone[round(columns * 3 / 12)] + 60)
        self.assertGreater(tone[round(columns * 7.5 / 12)], tone[round(columns * 11 / 12)] + 60)
        # Closer: another picture, of what is seen now.
        self.page.keyboard.press("+")
        expect(self.page.get_by_role("img", name=re.compile("Spectrogram from 0:00 to 0:06"))).to_be_visible()
        self.page.keyboard.press("s")
        expect(image).to_have_count(0)

    def dark(self, image) -> np.ndarray:
        """How dark the picture is, shape (rows, columns)."""
        values = image.evaluate(
            """(picture) => {
              const canvas = new OffscreenCanvas(picture.naturalWidth, picture.naturalHeight);
              const context = canvas.getContext('2d');
              context.drawImage(picture, 0, 0);
              const data = context.getImageData(0, 0, canvas.width, canvas.height).data;
              return [canvas.height, canvas.width, Array.from(data.filter((_, index) => index % 4 === 3))];
            }"""
        )
        return np.array(values[2]).reshape(values[0], values[1])

    def test_room_tone_is_chosen_by_hand_and_left_to_the_meters_again(self):
        _, content = self.open_recording("By hand", rms_dbfs=-24, room_dbfs=-66, head=1.6)
        panel = self.look_at(words.ROOM_TONE)
        found = self.measured(content).inspection
        total = sum(span.length_s for span in found.room_tone)
        expect(panel).to_contain_text(f"Room tone detected in {len(found.room_tone)} places ({total:.1f} s in total).")
        start, end = self.select(0.2, 1.2)
        span = Span(start_s=round(start / 0.005) * 0.005, end_s=round(end / 0.005) * 0.005)
        again = self.measured(content, room_tone=[span]).inspection
        look = panel.get_by_role("group", name="The selection as room tone")
        expect(look).to_contain_text(words.NOISE_FLOOR)
        shown = [figure(text) for text in look.locator("dd b").all_text_contents()]
        self.assertAlmostEqual(shown[0], again.value("noise_floor_dbfs"), delta=0.06)
        self.assertAlmostEqual(shown[1], again.value("signal_to_noise_db"), delta=0.06)
        expect(panel.get_by_role("img")).to_have_attribute("aria-label", re.compile("selection: "))
        self.accessible()
        look.get_by_role("button", name="Use the selection as room tone").click()
        expect(panel).to_contain_text("Room tone set manually")
        readings = self.look_at(words.READINGS)
        noise = readings.locator("dl div", has=self.page.get_by_role("button", name=words.NOISE_FLOOR, exact=True))
        expect(noise).to_contain_text(f"{again.value('noise_floor_dbfs'):.1f}".replace("-", "−"))
        self.look_at(words.ROOM_TONE).get_by_role("button", name=words.DETECT).click()
        expect(panel).to_contain_text("Room tone detected in")
        # Where somebody speaks, that is said before.
        self.select(3, 8)
        expect(look).to_contain_text("Someone speaks in this selection.")

    def test_what_the_file_says_of_itself_is_shown(self):
        self.open_production("Tags")
        path = self.application.folder / "said.wav"
        stated = Broadcast(description="Tidal mill, take 3", levels={"integrated_loudness_lufs": -19.5})
        with Sink(path, sample_rate_hz=RATE, channels=1, form=format_for(path), broadcast=stated) as sink:
            sink.write(signals.voice_like(8, rms_dbfs=-24, rate=RATE)[:, None].astype(np.float32))
        self.drop(("said.wav", path.read_bytes()))
        self.row("said.wav").get_by_role("link", name="said.wav").click()
        self.look_at(words.READINGS)
        said = self.page.get_by_role("region", name="File tags")
        expect(said).to_contain_text("Tidal mill, take 3")
        expect(said.locator("div", has_text="stated loudness")).to_contain_text("−19.50 LUFS")
        self.accessible()

    def test_the_spectrum_panel_says_what_the_core_measured(self):
        _, content = self.open_recording("Spectrum", rms_dbfs=-24, room_dbfs=-60)
        spectrum = self.measured(content).inspection.spectrum
        picture = self.look_at(words.ROOM_TONE).get_by_role("img")
        said = picture.get_attribute("aria-label").replace("−", "-")
        for name, levels in (("voice", spectrum.speech_dbfs), ("room tone", spectrum.room_tone_dbfs)):
            level = levels[spectrum.centres_hz.index(1000.0)]
            self.assertRegex(said, rf"{name}: .*{level:.0f} at 1 kHz")
        # The drawn line stands where the levels are.
        path = picture.locator("path.voice").get_attribute("d")
        points = np.array([[float(number) for number in pair.split()] for pair in re.findall(r"[ML]([\d. -]+)", path)])
        self.assertEqual(len(points), len(spectrum.centres_hz))
        slope = stats.linregress(points[:, 1], spectrum.speech_dbfs)
        self.assertLess(slope.stderr / abs(slope.slope), 1e-3)

    def test_pins_are_clicked_and_kinds_are_shown_alone(self):
        self.open_recording("Pins", rms_dbfs=-8, room_dbfs=-60)
        findings = self.look_at(words.FINDINGS)
        kinds = findings.get_by_label(words.SHOW)
        names = kinds.locator("option").all_text_contents()
        self.assertGreater(len(names), 2)
        pins = self.page.locator(".ribbon .pin")
        all_of_them = pins.count()
        last = pins.last
        at, number = float(last.get_attribute("x")), last.text_content()
        box = self.page.locator(".ribbon").bounding_box()
        self.page.mouse.move(box["x"] + 1 + at, box["y"] + 222 - 30)
        expect(self.page.locator(".ribbon")).to_have_attribute("title", re.compile(f"^{number}: "))
        self.page.mouse.down()
        self.page.mouse.up()
        plot = box["width"] - 2 - LEFT - RIGHT
        playhead = (float(self.page.locator(".playhead").get_attribute("x1")) - LEFT) / plot * 12
        self.assertAlmostEqual(playhead, max((at - LEFT) / plot * 12 - 0.5, 0), delta=0.3)
        kinds.select_option(index=1)
        expect(findings.locator("li")).to_have_count(1)
        title = re.sub(r" \(\d+\)$", "", names[1])
        expect(findings.locator("li")).to_contain_text(title)
        self.assertLessEqual(pins.count(), all_of_them)
        expect(findings.locator("li .number")).to_have_count(min(12, int(re.search(r"\((\d+)\)$", names[1])[1])))
        kinds.select_option(index=0)
        expect(pins).to_have_count(all_of_them)

    def test_the_treated_version_is_drawn_with_the_gain_that_moved_and_loudness_over_both(self):
        self.open_production("Treated")
        wave = signals.voice_like(12, rms_dbfs=-21, rate=RATE, room_dbfs=-78)
        wave[4 * RATE : 4 * RATE + 40] = 0.95
        path = self.application.folder / "peak.wav"
        soundfile.write(path, wave, RATE, subtype="PCM_16")
        self.drop(("peak.wav", path.read_bytes()))
        self.row("peak.wav").get_by_role("link", name="peak.wav").click()
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        self.turn_to(words.RESULT)
        self.page.get_by_role("heading", name="peak.wav").click()
        moved = self.page.locator(".ribbon text.gain")
        expect(moved).to_contain_text("gain moved to −")
        recording = re.search(r"recordings/([0-9a-f-]+)", self.page.url)[1]
        [attempt] = recordings.detail(recording).conformings
        self.assertAlmostEqual(-figure(moved.text_content().split("to")[1]), attempt.touch.depth_max_db, delta=0.06)
        # What each step left, from the same run.
        ledger = self.page.get_by_role("table", name="Level after each step")
        for line, row in zip(attempt.ledger, ledger.locator("tbody tr").all()[1:], strict=True):
            for quantity, cell in zip(("sample_peak_dbfs", "rms_dbfs"), row.locator("td").all_text_contents()[:2], strict=True):
                self.assertAlmostEqual(figure(cell), line.readings[quantity].value, delta=0.06)
        self.page.wait_for_timeout(600)
        source = self.picture()
        with self.page.expect_response("**/conformings/*/tiles/**"):
            self.page.keyboard.press("x")
        expect(self.page.locator(".verdict")).to_contain_text("Processed: inside")
        self.page.wait_for_timeout(600)
        treated = self.picture()
        self.assertNotEqual(source, treated)
        now = self.page.get_by_role("group", name=words.AT_THE_PLAYHEAD)
        expect(now).to_be_visible()
        self.page.keyboard.press("u")
        expect(self.page.get_by_role("button", name="Loudness", exact=True)).to_have_attribute("aria-pressed", "true")
        until(lambda: self.picture() != treated, what="loudness to be drawn")
        self.page.keyboard.press("u")
        self.page.keyboard.press("x")
        until(lambda: self.picture() == source, what="the source's picture again")
        self.accessible()

    def test_two_versions_are_compared_blind_and_chance_is_told_apart(self):
        self.open_recording("Blind", rms_dbfs=-31, room_dbfs=-78)
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        self.page.get_by_role("button", name="Blind comparison").click()
        dialog = self.page.get_by_role("dialog", name=words.BLIND_COMPARISON)
        dialog.get_by_label(words.LENGTH).select_option("6")
        with self.page.expect_response("**/api/blind/draw**") as drawn:
            dialog.get_by_role("button", name=words.START).click()
        order = drawn.value.json()
        self.assertEqual(len(order), 6)
        self.accessible()
        for round_of, first in enumerate(order, start=1):
            expect(dialog).to_contain_text(f"Round {round_of} of 6")
            # Nothing on the page tells which is heard.
            expect(self.page.get_by_role("radio", name=words.PROCESSED)).to_have_count(0)
            self.assertNotRegex(dialog.inner_text().lower(), "source|treated")
            better = dialog.get_by_role("button", name=f"The {'first' if first == 'treated' else 'second'} is better")
            expect(better).to_be_disabled()
            dialog.press("2")
            expect(dialog.get_by_role("radio", name=words.HEAR_THE_SECOND)).to_be_checked()
            better.click()
        expect(dialog.get_by_role("status")).to_have_text(
            "You preferred the processed version in 6 of 6 rounds: unlikely to be luck (3 % odds)."
        )
        self.accessible()
        dialog.get_by_role("button", name=words.CLOSE).click()
        expect(self.page.get_by_role("radio", name=words.ORIGINAL)).to_be_checked()

    def test_every_limit_on_a_level_is_drawn(self):
        self.open_recording("Limits", rms_dbfs=-24, room_dbfs=-66)
        limits = ({"quantity": "sample_peak_dbfs", "high": -3}, {"quantity": "true_peak_dbtp", "high": -2},
                  {"quantity": "integrated_loudness_lufs", "low": -24, "high": -20}, {"quantity": "rms_dbfs", "low": -30},
                  {"quantity": "noise_floor_dbfs", "high": -60}, {"quantity": "duration_s", "high": 60})  # fmt: skip
        specification = {"id": "all", "version": 1, "name": "All", "limits": list(limits)}
        with transaction() as session:
            production = session.query(Production).order_by(Production.created_at.desc()).first()
            production.specification = Specification.model_validate(specification).model_dump(mode="json")
        self.page.reload()
        expect(self.page.locator(".ribbon line.limit")).to_have_count(4)
        expect(self.page.locator(".ribbon .corridor")).to_have_count(1)
        labels = self.page.locator(".ribbon text.label")
        expect(labels).to_have_count(5)
        places = [float(label.get_attribute("y")) for label in labels.all()]
        self.assertGreaterEqual(min(np.diff(places)), 13)
        levels = sorted(float(line.get_attribute("y1")) for line in self.page.locator(".ribbon line.limit").all())
        wanted = [6 + 177 * level / 80 for level in (2, 3, 30, 60)]
        np.testing.assert_allclose(levels, wanted, atol=0.1)

    def test_all_of_it_is_useful_at_1024_pixels(self):
        self.page.set_viewport_size({"width": 1024, "height": 768})
        self.open_recording("Narrow", rms_dbfs=-8, room_dbfs=-60)
        self.select(2, 6)
        expect(self.page.get_by_role("group", name=words.READINGS_OF_THE_SELECTION).locator("dd")).to_have_count(12)
        self.assertLessEqual(self.page.evaluate("() => document.documentElement.scrollWidth"), 1024)
        self.accessible()

    def test_what_was_kept_is_exact_to_a_hundredth(self):
        """The levels that the page's readings come from are those of the inspection."""
        with transaction() as session:
            records = session.query(InspectionRecord).filter(InspectionRecord.levels_sha256.isnot(None)).all()
            known = [(record.levels_sha256, record.data) for record in records]
        self.assertTrue(known)
        for sha256, data in known[:4]:
            content = b"".join(self.application.store.read(sha256, name="levels"))
            line, body = content.split(b"\n", 1)
            header = json.loads(line)
            end = min(header["frames"] / header["rate"], 600)
            levels = span_levels.cut(header, lambda first, last, body=body: body[first:last], start_s=0, end_s=end)
            if end < 600:
                found = span_levels.readings(levels, lambda first, frames: np.zeros((0, 1)))
                for quantity in ("sample_peak_dbfs", "rms_dbfs", "integrated_loudness_lufs", "active_speech_level_dbfs"):
                    value = data["readings"][quantity]["value"]
                    if value is not None:
                        self.assertAlmostEqual(found[quantity].value, value, delta=0.01)
