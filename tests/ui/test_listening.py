"""Listening a file through in the browser: faster with its pitch kept, what was heard, notes, and what the bench played."""

import re

import numpy as np
import soundfile
from playwright.sync_api import expect

from tests import signals
from tests.ui import words
from tests.ui.interface import RATE, InterfaceCase

HELD = """() => {
  const Real = window.Audio;
  window.Audio = function (address) {
    const element = new Real(address);
    window.held = element;
    return element;
  };
}"""
PITCH = """async () => {
  const context = new AudioContext();
  const analyser = context.createAnalyser();
  analyser.fftSize = 16384;
  context.createMediaElementSource(window.held).connect(analyser);
  analyser.connect(context.destination);
  await context.resume();
  await new Promise((resolve) => setTimeout(resolve, 1500));
  const bins = new Float32Array(analyser.frequencyBinCount);
  analyser.getFloatFrequencyData(bins);
  let best = 0;
  for (let bin = 1; bin < bins.length; bin++) if (bins[bin] > bins[best]) best = bin;
  return (best * context.sampleRate) / analyser.fftSize;
}"""


class ListenScreen(InterfaceCase):
    def listening(self, name: str, content: bytes | None = None) -> None:
        """A recording on its listening screen."""
        self.page.add_init_script(f"({HELD})()")
        self.open_production("Listened")
        self.drop((name, content) if content is not None else self.wav(name, rms_dbfs=-20, room_dbfs=-75))
        self.judged(name)
        link = self.row(name).get_by_role("link", name=name)
        recording = (link.get_attribute("href") or "").rpartition("/")[2]
        self.page.goto(f"{self.application.address}#/listen/recording/{recording}")
        expect(self.page.get_by_role("heading", name=f"Listen: {name}")).to_be_visible()

    def tone(self, seconds: float = 30, hertz: float = 440) -> bytes:
        wave = signals.sine(hertz, peak_dbfs=-12, seconds=seconds, rate=RATE)
        path = self.application.folder / "tone.wav"
        soundfile.write(path, np.asarray(wave), RATE, subtype="PCM_16")
        return path.read_bytes()

    def test_it_plays_three_times_as_fast_at_the_same_pitch(self):
        self.listening("tone.wav", self.tone())
        speed = self.page.get_by_label(words.SPEED)
        speed.select_option(label="3 ×")
        self.page.keyboard.press("h")
        expect(self.page.get_by_role("button", name=words.PAUSE)).to_be_visible()
        self.assertAlmostEqual(self.page.evaluate(PITCH), 440, delta=12)
        self.assertEqual(self.page.evaluate("() => window.held.playbackRate"), 3)
        self.page.keyboard.press(",")
        expect(speed).to_have_value("2.5")
        self.assertEqual(self.page.evaluate("() => window.held.playbackRate"), 2.5)

    def test_what_is_really_heard_is_noted_with_who_and_how_fast(self):
        self.listening("01 January.wav")
        self.page.get_by_label(words.LISTENER).fill("A. Reed")
        self.page.get_by_label(words.LISTENER).press("Enter")
        self.page.get_by_label(words.SPEED).select_option(label="2 ×")
        self.page.get_by_role("button", name=words.PLAY).click()
        self.page.wait_for_function("() => window.held.currentTime > 3")
        self.page.get_by_role("button", name=words.PAUSE).click()
        heard = self.page.get_by_role("region", name=words.CHECKED_BY_EAR)
        expect(heard).to_contain_text(re.compile(r"\d\d % heard by A\. Reed at up to 2 times its speed"))
        self.accessible()
        # What is jumped over was not heard.
        before = self.page.evaluate("() => window.held.currentTime")
        self.page.get_by_role("slider", name=words.POSITION).focus()
        self.page.keyboard.press("PageUp")
        self.page.wait_for_function(f"() => window.held.currentTime > {before} + 1")
        self.page.reload()
        expect(self.page.get_by_role("region", name=words.CHECKED_BY_EAR).get_by_role("listitem")).to_have_count(1)
        self.assertLess(float(re.search(r"(\d+) % heard of", self.page.locator("main").inner_text()).group(1)), 60)
        # Played to its end it is listened through, in a sitting of its own.
        self.page.get_by_label(words.SPEED).select_option(label="3 ×")
        self.page.keyboard.press("h")
        expect(heard).to_contain_text("Heard completely by A. Reed at up to 3 times its speed")

    def test_notes_are_made_by_a_key_jumped_to_ticked_off_and_taken_away(self):
        self.listening("01 January.wav")
        notes = self.page.get_by_role("region", name=words.NOTES)
        self.page.get_by_role("slider", name=words.POSITION).focus()
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("m")
        text = notes.get_by_label("Note at 0:05", exact=True)
        expect(text).to_be_focused()
        self.page.keyboard.type("says wier")
        self.page.keyboard.press("Enter")
        self.page.get_by_role("button", name="Needs a retake").click()
        expect(notes.get_by_role("listitem")).to_have_count(2)
        expect(self.page.locator("main")).to_contain_text("2 open notes")
        self.page.keyboard.press("Escape")
        notes.get_by_role("button", name="Go to 0:05.0").first.click()
        notes.get_by_label("Done: Misread at 0:05").check()
        expect(self.page.locator("main")).to_contain_text("1 open note")
        self.accessible()
        with self.page.expect_download() as table:
            notes.get_by_role("link", name=words.CSV).click()
        self.assertIn("Misread,says wier", table.value.path().read_text(encoding="utf-8-sig"))
        with self.page.expect_download() as marked:
            notes.get_by_role("link", name="WAV with markers").click()
        self.assertIn(b"Misread: says wier", marked.value.path().read_bytes())
        notes.get_by_role("button", name="Remove the note at 0:05").last.click()
        expect(notes.get_by_role("listitem")).to_have_count(1)
        self.page.get_by_role("button", name=words.UNDO).click()
        expect(notes.get_by_role("listitem")).to_have_count(2)
        self.page.reload()
        expect(text.first).to_have_value("says wier")

    def test_what_the_bench_plays_counts_as_well(self):
        self.listening("01 January.wav")
        self.page.get_by_role("link", name=words.BENCH).click()
        self.page.get_by_role("button", name=words.PLAY, exact=True).click()
        expect(self.page.get_by_label(words.POSITION)).to_contain_text(re.compile("^0:0[1-9]"))
        self.page.get_by_role("button", name=words.STOP, exact=True).click()
        self.page.go_back()
        expect(self.page.get_by_role("region", name=words.CHECKED_BY_EAR)).to_contain_text("% heard")
