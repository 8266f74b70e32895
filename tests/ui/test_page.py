"""The real interface in a real browser, from a dropped file to a verified certificate."""

import json
import time
import urllib.request
from pathlib import Path
from uuid import UUID

import soundfile
from playwright.sync_api import expect

from ispettore.core.spec.methods import methods
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.studio.catalogue import productions
from tests import signals
from tests.ui import words
from tests.ui.interface import RATE, InterfaceCase


class Interface(InterfaceCase):
    def test_from_a_dropped_file_to_a_verified_certificate(self):
        self.open_production("Almanac of a Tidal Mill")
        expect(self.page.get_by_text("Drop recordings anywhere on this page")).to_be_visible()
        self.drop(self.wav("02 February.wav", rms_dbfs=-31, room_dbfs=-78))
        row = self.row("02 February.wav")
        expect(row.locator(".verdict")).to_contain_text(words.OUTSIDE)
        expect(row.get_by_role("img", name="under").first).to_be_visible()
        expect(row).to_contain_text("−31.0")
        self.accessible()

        row.get_by_role("button", name="Conform 02 February.wav").click()
        done = self.after("02 February.wav")
        expect(done).to_contain_text(words.CERTIFIED)
        expect(done).to_contain_text("−20.5")
        self.accessible()
        with self.page.expect_download() as deliverable:
            done.get_by_role("link", name=words.MP3).click()
        with self.page.expect_download() as certificate:
            done.get_by_role("link", name="Certificate").click()
        file = Path(deliverable.value.path()).read_bytes()
        paper = Path(certificate.value.path()).read_bytes()
        self.assertEqual(deliverable.value.suggested_filename, "02 February.mp3")
        self.assertTrue(json.loads(paper)["certificate"]["verdict"]["passes"])

        row.get_by_role("link", name="02 February.wav").click()
        expect(self.page.get_by_role("heading", name="02 February.wav")).to_be_visible()
        expect(self.page.get_by_text("Every limit allows a gain")).to_be_visible()
        rule = self.page.locator(".rule", has_text=words.RMS_LEVEL)
        expect(rule).to_contain_text("−31.0")
        expect(rule).to_contain_text("−20.5")
        expect(rule).to_contain_text("2.5 dB inside")
        self.accessible()

        self.listen()
        self.page.get_by_role("link", name=words.VERIFY).click()
        self.drop(("02 February.mp3", file), ("certificate.json", paper))
        expect(self.page.get_by_text(words.GENUINE, exact=True)).to_be_visible()
        self.accessible()
        self.drop(("02 February.mp3", file[:-1] + bytes([file[-1] ^ 1])), ("certificate.json", paper))
        expect(self.page.get_by_text(words.NOT_GENUINE, exact=True)).to_be_visible()
        expect(self.page.get_by_text("SHA-256 differs")).to_be_visible()
        self.drop(("02 February.mp3", file), ("certificate.json", paper.replace(b"-20.", b"-19.")))
        expect(self.page.get_by_text("changed after it was sealed")).to_be_visible()

    def listen(self) -> None:
        """On a conformed recording: play, swap in lockstep at matched loudness, move, stop; by keyboard."""
        strip = self.page.get_by_role("group", name=words.PLAYER)
        expect(strip).to_contain_text("processed −10.4 dB")
        self.page.get_by_role("heading", name="02 February.wav").click()
        self.page.keyboard.press("h")
        expect(strip.get_by_role("button", name=words.STOP)).to_be_visible()
        expect(strip.get_by_label(words.POSITION)).to_contain_text("0:01")
        self.page.keyboard.press("x")
        expect(strip.get_by_role("radio", name=words.PROCESSED)).to_be_checked()
        strip.get_by_label(words.MATCHED_LOUDNESS).uncheck()
        expect(strip).to_contain_text("original levels")
        self.page.get_by_role("heading", name="02 February.wav").click()
        for _ in range(3):
            self.page.keyboard.press("ArrowRight")
        expect(strip.get_by_label(words.POSITION)).to_contain_text("0:08")
        self.page.keyboard.press("h")
        expect(strip.get_by_role("button", name=words.PLAY)).to_be_visible()
        self.accessible()

    def test_a_master_of_chosen_format_and_the_history(self):
        self.open_production("Masters")
        self.drop(self.wav("one.wav", rms_dbfs=-29, room_dbfs=-78))
        self.row("one.wav").get_by_role("link", name="one.wav").click()
        self.page.get_by_label(words.FORMAT).select_option("flac")
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        self.turn_to(words.HISTORY)
        history = self.page.locator(".history")
        expect(history).to_contain_text("FLAC, balanced plan: conformed")
        expect(history).to_contain_text("added")
        with self.page.expect_download() as download:
            history.get_by_role("link", name="conformed").click()
        facts = soundfile.info(download.value.path())
        self.assertEqual((facts.format, facts.subtype), ("FLAC", "PCM_24"))

    def test_findings_are_numbered_listed_and_led_to(self):
        self.open_production("Gated")
        path = self.application.folder / "gated.wav"
        wave = signals.voice_like(12, rate=RATE, rms_dbfs=-22, room_dbfs=-120)
        wave[abs(wave) < 1e-4] = 0
        soundfile.write(path, wave, RATE, subtype="PCM_16")
        self.drop(("gated.wav", path.read_bytes()))
        self.row("gated.wav").get_by_role("link", name="gated.wav").click()
        findings = self.look_at(words.FINDINGS)
        expect(findings).to_contain_text("Dead silence")
        expect(findings).to_contain_text("own room tone")
        expect(findings.get_by_role("button", name="Go to finding 1 Dead silence at 0:00")).to_be_visible()
        count = self.page.locator("rect.finding").count()
        self.assertGreater(count, 5)
        findings.get_by_role("button", name=f"Go to finding {count}").click()
        expect(self.page.get_by_label(words.POSITION)).to_contain_text("0:1")
        self.accessible()

    def test_a_finding_is_accepted_with_a_reason_and_taken_back(self):
        self.open_production("Accepted")
        path = self.application.folder / "gated.wav"
        wave = signals.voice_like(12, rate=RATE, rms_dbfs=-22, room_dbfs=-120)
        wave[abs(wave) < 1e-4] = 0
        soundfile.write(path, wave, RATE, subtype="PCM_16")
        self.drop(("gated.wav", path.read_bytes()))
        self.row("gated.wav").get_by_role("link", name="gated.wav").click()
        findings = self.look_at(words.FINDINGS)
        findings.get_by_role("button", name="Accept Dead silence").click()
        why = findings.get_by_label("Reason for accepting Dead silence")
        expect(why).to_be_focused()
        self.accessible()
        why.fill("Meant as a scene break.")
        self.page.keyboard.press("Enter")
        expect(findings).to_contain_text("Accepted: Meant as a scene break.")
        self.page.reload()
        expect(findings).to_contain_text("Accepted: Meant as a scene break.")
        self.accessible()
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name="HTML", exact=True).click()
        self.assertEqual(download.value.suggested_filename, "gated.wav.report.html")
        self.assertIn("accepted: Meant as a scene break.", Path(download.value.path()).read_text(encoding="utf-8"))
        findings.get_by_role("button", name="Undo accept Dead silence").click()
        expect(findings.get_by_role("button", name="Accept Dead silence")).to_be_visible()

    def test_every_figure_says_what_it_is_in_the_words_of_the_methods(self):
        self.open_production("Explained")
        self.drop(self.wav("one.wav", rms_dbfs=-33, room_dbfs=-75))
        self.row("one.wav").get_by_role("link", name="one.wav").click()
        address = self.page.url.split("#")[1]
        readings = self.look_at(words.READINGS)
        expect(readings.get_by_role("heading", name="Recording faults")).to_be_visible()
        with urllib.request.urlopen(f"{self.application.address}api{address}") as answer:
            measured = json.load(answer)["inspection"]["readings"]
        expect(readings.locator("dt")).to_have_count(len(measured))
        for name, decimals in (("integrated_loudness_lufs", 1), ("noise_floor_dbfs", 1), ("head_s", 2), ("hum_db", 1)):
            shown = readings.locator("dl div", has=self.page.get_by_role("button", name=QUANTITIES[name].title, exact=True))
            expect(shown).to_contain_text(f"{measured[name]['value']:.{decimals}f}".replace("-", "−"))
        for section, title in (("Limits", "RMS level"), ("Readings", "Signal to noise")):
            place = self.look_at(section)
            entry = next(entry for entry in methods()["readings"].values() if entry.title == title)
            word = place.get_by_role("button", name=title, exact=True)
            note = place.get_by_role("tooltip").filter(has_text=entry.meaning)
            expect(note).to_be_hidden()
            word.hover()
            expect(note).to_be_visible()
            expect(note).to_contain_text(entry.definition)
            expect(note).to_contain_text(f"In this file: {measured[entry.name]['method']}")
            self.page.mouse.move(5, 5)
            expect(note).to_be_hidden()
            self.page.keyboard.press("Tab")
            word.focus()
            expect(note).to_be_visible()
            self.page.keyboard.press("Escape")
            expect(note).to_be_hidden()
        self.accessible()

    def test_a_limit_that_is_passed_is_shown_where(self):
        self.open_production("Passed")
        path = self.application.folder / "loud.wav"
        wave = signals.voice_like(12, rate=RATE, rms_dbfs=-24, room_dbfs=-70)
        wave *= 0.3 / abs(wave).max()
        for second in (4, 8):
            wave[second * RATE + 4_000] = 0.9
        soundfile.write(path, wave, RATE, subtype="PCM_16")
        self.drop(("loud.wav", path.read_bytes()))
        self.row("loud.wav").get_by_role("link", name="loud.wav").click()
        findings = self.look_at(words.FINDINGS)
        peak = findings.get_by_role("listitem").filter(has_text="Peak above −3 dBFS")
        expect(peak).to_contain_text("2 places")
        expect(peak).to_contain_text("by 2.1 dB")
        expect(self.page.locator("rect.finding.outside")).to_have_count(2)
        peak.get_by_role("button", name="0:08").click()
        expect(self.page.get_by_label(words.POSITION)).to_contain_text("0:08")
        self.page.reload()
        self.page.get_by_role("link", name="Passed").click()
        self.page.get_by_label(words.SPECIFICATION).select_option(label="Video streaming")
        self.row("loud.wav").get_by_role("link", name="loud.wav").click()
        findings = self.look_at(words.FINDINGS)
        expect(findings).not_to_contain_text("Peak above −3 dBFS")
        expect(findings).to_contain_text("True peak above −1 dBTP")

    def test_it_is_useful_at_1024(self):
        self.page.set_viewport_size({"width": 1024, "height": 768})
        self.open_production("Narrow")
        self.drop(self.wav("one.wav", rms_dbfs=-29, room_dbfs=-78))
        expect(self.row("one.wav").locator(".verdict")).to_contain_text(words.OUTSIDE)
        for _ in range(2):
            wide = self.page.evaluate("() => document.documentElement.scrollWidth")
            self.assertLessEqual(wide, 1024)
            self.row("one.wav").get_by_role("link", name="one.wav").click()
            expect(self.page.get_by_role("heading", name="one.wav")).to_be_visible()
            expect(self.page.locator(".rule").first).to_be_visible()
            wide = self.page.evaluate("() => document.documentElement.scrollWidth")
            self.assertLessEqual(wide, 1024)
            self.page.go_back()

    def test_what_cannot_be_conformed_says_so_in_figures(self):
        self.open_production("Noisy")
        self.drop(self.wav("04 April.wav", rms_dbfs=-21, room_dbfs=-34))
        self.row("04 April.wav").get_by_role("button", name="Conform 04 April.wav").click()
        expect(self.refused("04 April.wav")).to_contain_text("it is 23.8 dB too loud relative to the voice")

    def test_a_change_while_a_screen_loads_for_the_first_time_is_not_missed(self):
        self.open_production("Before")
        self.drop(self.wav("one.wav", rms_dbfs=-20, room_dbfs=-75))
        expect(self.row("one.wav").locator(".verdict")).to_contain_text(words.INSIDE)
        production = UUID(self.page.url.rsplit("/", 1)[1])
        late = []

        def hold(route):
            response = route.fetch()  # what was true before the change, and arrives after the message of it
            if not late:
                late.append(response)
                productions.change(production, name="After")
                time.sleep(1.5)
            route.fulfill(response=response)

        self.page.route("**/api/recordings/*", hold)
        self.row("one.wav").get_by_role("link", name="one.wav").click()
        expect(self.page.get_by_role("link", name=words.AFTER)).to_be_visible()
        self.page.unroute_all(behavior="wait")  # one that is held still would fail whatever test comes next

    def test_a_reload_loses_nothing(self):
        self.open_production("Reloaded")
        self.drop(self.wav("one.wav", rms_dbfs=-30, room_dbfs=-75))
        self.row("one.wav").get_by_role("button", name="Conform one.wav").click()
        self.page.reload()
        expect(self.after("one.wav")).to_contain_text(words.CERTIFIED)
