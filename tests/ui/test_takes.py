"""A take recorded here as a reader does it, with the browser's own microphone: nothing that was read is lost, whatever happens."""

import base64
import json
import re
from collections.abc import Callable

import numpy as np
import soundfile
from playwright.sync_api import Locator, expect
from sqlmodel import col, select

from ispettore.core.audio import cues
from ispettore.demo.standin import Setting, StandIn
from ispettore.studio.database import transaction
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Recording
from tests.support import until
from tests.ui import words
from tests.ui.interface import BROWSER, FLAGS, InterfaceCase

RATE = 48_000
SEAM = "Recording went on here"
HOOKS = """() => {
  // All that the browser's microphone gives, as the page is given it.
  window.AudioWorkletNode = class extends window.AudioWorkletNode {
    constructor(context, name, options) {
      super(context, name, options);
      if (name === 'capture')
        this.port.addEventListener('message', ({ data }) => {
          window.captured(btoa(String.fromCharCode(...new Uint8Array(data.samples))));
        });
    }
  };
  // All that goes to the headphones.
  const connect = AudioNode.prototype.connect;
  const disconnect = AudioNode.prototype.disconnect;
  AudioNode.prototype.connect = function (to, ...rest) {
    if (to instanceof AudioDestinationNode) {
      window.ears ??= this.context.createAnalyser();
      if (window.ears.context === this.context) connect.call(this, window.ears);
    }
    return connect.call(this, to, ...rest);
  };
  AudioNode.prototype.disconnect = function (to, ...rest) {
    if (to instanceof AudioDestinationNode && window.ears.context === this.context) disconnect.call(this, window.ears);
    return disconnect.call(this, to, ...rest);
  };
  window.loudest = () => {
    const wave = new Float32Array(window.ears.fftSize);
    window.ears.getFloatTimeDomainData(wave);
    return Math.max(...wave.map(Math.abs));
  };
}"""
HELD = """() => new Promise((told, failed) => {
  const asked = indexedDB.open('ispettore-takes');
  asked.onerror = failed;
  asked.onsuccess = () => {
    const now = asked.result.transaction(['takes', 'pieces']);
    const takes = now.objectStore('takes').getAll();
    const keys = now.objectStore('pieces').getAllKeys();
    now.oncomplete = () => {
      asked.result.close();
      told([Math.max(0, ...keys.result.map(([, first]) => first)), takes.result[0]?.rate ?? 0]);
    };
  };
})"""


class Takes(InterfaceCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        path = cls.application.folder / "microphone.wav"
        soundfile.write(path, StandIn(Setting(room_dbfs=-80, input_db=12)).reading(40 * RATE), RATE, subtype="PCM_16")
        fake = ["--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream", f"--use-file-for-fake-audio-capture={path}"]
        fake.append("--autoplay-policy=no-user-gesture-required")
        cls.browser = cls.enterClassContext(cls.browser.browser_type.launch(executable_path=BROWSER, args=[*FLAGS, *fake]))

    def setUp(self):
        super().setUp()
        self.captured: list[bytes] = []
        self.page.expose_function("captured", lambda text: self.captured.append(base64.b64decode(text)))
        self.page.add_init_script(f"({HOOKS})()")

    @property
    def take(self) -> Locator:
        return self.page.get_by_role("region", name="Take", exact=True)

    @property
    def status(self) -> Locator:
        return self.take.get_by_role("status")

    def press(self, name: str) -> None:
        self.take.get_by_role("button", name=name, exact=True).click()

    def open_takes(self) -> None:
        self.open_production(self._testMethodName[5:40])
        self.page.get_by_role("link", name=words.TAKE_CHECK).click()
        expect(self.take).to_be_visible()

    def begin(self) -> None:
        self.press("Record")
        expect(self.status).to_have_text("Recording.")

    def recorded_s(self) -> float:
        """What the clock shows."""
        minutes, seconds = self.take.locator(".clock").inner_text().split(":")
        return 60 * int(minutes) + float(seconds)

    def runs_to(self, seconds: float) -> None:
        until(lambda: self.page.wait_for_timeout(100) or self.recorded_s() >= seconds, what=f"{seconds} s")

    def pressed(self, press: Callable[[], None]) -> tuple[float, float]:
        """What the clock shows before and behind something."""
        before = self.recorded_s()
        press()
        return before, self.recorded_s()

    def written_down(self, seconds: float) -> bool:
        """Whether the browser holds what was recorded up to here where a reload does not reach it."""
        frames, rate = self.page.evaluate(HELD)
        return bool(rate and frames >= seconds * rate)

    def heard(self) -> np.ndarray:
        """All that the microphone gave since this was asked last."""
        found, self.captured = self.captured, []
        return np.frombuffer(b"".join(found), dtype="<f4")

    def became(self, name: str) -> tuple[np.ndarray, int, list[cues.Mark]]:
        """The samples of the recording that a take became, their rate, and its marks."""
        ended = self.take.get_by_text("is a recording of this production now").or_(self.take.get_by_role("alert"))
        expect(ended).to_be_visible()
        expect(ended).to_contain_text("is a recording of this production now")
        path = self.application.folder / "became.wav"
        with transaction() as session:
            [row] = session.exec(select(Recording).where(Recording.name == name).order_by(col(Recording.created_at))).all()[-1:]
            with Store(settings().store).open(row.sha256, name=row.name) as file:
                path.write_bytes(file.read())
        sound, rate = soundfile.read(path, dtype="float32")
        return sound, rate, cues.read(path)

    def lies_in(self, part: np.ndarray, whole: np.ndarray) -> int:
        """Where a part is, bit for bit, in what the microphone gave."""
        found = whole.tobytes().find(part.tobytes())
        self.assertGreaterEqual(found, 0, "not what the microphone gave")
        return found // 4

    def test_what_was_read_is_a_recording_sample_for_sample_with_the_marks_that_were_set(self):
        self.open_takes()
        self.accessible()
        self.take.get_by_label("Called").fill("Chapter 9")
        self.begin()
        expect(self.take.get_by_role("button", name="Mark", exact=True)).to_be_focused()
        expect(self.take.get_by_role("heading", name="Chapter 9")).to_be_visible()
        self.runs_to(2)
        pressed = [self.pressed(lambda: self.page.keyboard.press("m"))]
        self.accessible()
        self.runs_to(4)
        self.press("Pause")
        expect(self.status).to_have_text("Paused. Nothing is recorded.")
        stood = self.recorded_s()
        self.page.wait_for_timeout(600)
        self.assertEqual(self.recorded_s(), stood)
        self.press("Go on")
        self.runs_to(stood + 2)
        pressed.append(self.pressed(lambda: self.press("Mark")))
        expect(self.take.get_by_role("heading")).to_have_text("Chapter 9, 3 marks")
        expect(self.take.get_by_role("img")).to_have_accessible_name(
            re.compile(r"The level of this take, 0:\d\d so far; now peaks")
        )
        expect(self.take).to_contain_text(re.compile(r"Safe on the server up to 0:0\d\."))
        self.press("Finish take")
        sound, rate, marks = self.became("Chapter 9.wav")
        given = self.heard()
        seam = round(stood * 10) / 10
        self.assertEqual([mark.text for mark in marks], ["", SEAM, ""])
        self.assertAlmostEqual(marks[1].at_s, seam, delta=0.06)
        for mark, (before, after) in zip((marks[0], marks[2]), pressed, strict=True):
            self.assertGreater(mark.at_s, before - 0.1)
            self.assertLess(mark.at_s, after + 0.1)
        # Both parts, and nothing between them.
        there = round(marks[1].at_s * rate)
        first, second = self.lies_in(sound[:there], given), self.lies_in(sound[there:], given)
        self.assertGreater(second, first + there)
        self.assertGreater(len(sound) / rate, stood + 2)

        self.take.get_by_role("link", name="Open it").click()
        expect(self.page.get_by_role("heading", name="Chapter 9")).to_be_visible()
        findings = self.look_at("Findings")
        expect(findings.get_by_role("button", name=re.compile(r"Go to finding \d+ Mark set in the file"))).to_have_count(3)

    def test_a_server_that_is_killed_in_mid_take_loses_nothing(self):
        self.open_takes()
        self.begin()
        self.runs_to(2)
        self.stage.kill_web()
        at = self.recorded_s()
        expect(self.status).to_contain_text("Recording.")
        self.runs_to(at + 3)
        expect(self.status).to_have_text("Recording.")
        self.complaints.clear()
        self.press("Finish take")
        sound, rate, marks = self.became("Take 1.wav")
        self.assertEqual(marks, [])
        self.assertGreater(len(sound) / rate, at + 2.9)
        self.lies_in(sound, self.heard())

    def cut_off(self) -> dict:
        """The connection of takes, under the tests' hands: whether it is `away`, and how it ends."""
        line: dict = {"away": False, "says": ""}

        def route(page_side):
            if line["away"]:
                if line["says"]:
                    page_side.send(json.dumps({"levels": [], "problem": "", "error": line["says"], "again": True}))
                page_side.close()
                return
            server_side = page_side.connect_to_server()
            line["end"] = lambda: (page_side.close(), server_side.close())

        self.page.route_web_socket(re.compile(r"/take$"), route)
        return line

    def test_a_page_that_is_reloaded_while_the_server_is_away_loses_nothing(self):
        line = self.cut_off()
        self.open_takes()
        self.begin()
        self.runs_to(2)
        line["away"] = True
        line["end"]()
        expect(self.status).to_contain_text("this browser holds what comes until it can")
        at = self.recorded_s()
        self.runs_to(at + 5)
        expect(self.take).to_contain_text(re.compile(r"\d s wait in this browser\."))
        self.press("Mark")
        until(lambda: self.page.wait_for_timeout(100) or self.written_down(at + 4), what="what comes to be written down")
        first = self.heard()
        self.page.once("dialog", lambda dialog: dialog.accept())
        self.page.reload()
        line["away"] = False
        expect(self.take).to_contain_text(re.compile(r"“Take 1” was interrupted at 0:0\d"))
        self.accessible()
        first = np.concatenate((first, self.heard()))
        self.take.get_by_role("button", name="Go on with Take 1").click()
        expect(self.status).to_have_text("Recording.")
        before = self.recorded_s()
        self.assertGreater(before, at + 4)
        self.runs_to(before + 2)
        self.press("Finish take")
        sound, rate, marks = self.became("Take 1.wav")
        self.assertEqual([mark.text for mark in marks], ["", SEAM])
        there = round(marks[1].at_s * rate)
        self.lies_in(sound[:there], first)
        self.lies_in(sound[there:], self.heard())
        expect(self.take.get_by_role("list", name="Interrupted takes")).to_have_count(0)

    def test_a_server_without_room_is_told_and_what_comes_waits_in_the_browser(self):
        line = self.cut_off()
        self.open_takes()
        self.begin()
        self.runs_to(1)
        line["away"], line["says"] = True, "There is no room left here for “Take 1.wav”."
        line["end"]()
        expect(self.take.get_by_role("alert")).to_contain_text("There is no room left here")
        self.runs_to(self.recorded_s() + 3)
        line["away"] = False
        expect(self.take.get_by_role("alert")).to_have_count(0)
        expect(self.status).to_have_text("Recording.")
        self.press("Finish take")
        sound, rate, _ = self.became("Take 1.wav")
        self.assertGreater(len(sound) / rate, 4)
        self.lies_in(sound, self.heard())

    def test_an_interrupted_take_is_kept_as_it_is_or_discarded(self):
        self.open_takes()
        for name in ("One", "Two"):
            self.take.get_by_label("Called").fill(name)
            self.begin()
            self.runs_to(1.5)
            # Whoever leaves the screen finds it as it was.
            self.page.get_by_role("link", name=self._testMethodName[5:40]).click()
            expect(self.page.get_by_role("link", name=words.TAKE_CHECK)).to_be_visible()
            self.page.go_back()
            expect(self.take).to_contain_text(f"“{name}” was interrupted")
        given = self.heard()
        self.take.get_by_role("button", name="Keep as it is: One").click()
        sound, rate, _ = self.became("One.wav")
        self.assertGreater(len(sound) / rate, 1.4)
        self.lies_in(sound, given)
        self.take.get_by_role("button", name="Discard Two").click()
        question = self.page.get_by_role("dialog", name="Discard “Two”?")
        question.get_by_role("button", name="Discard").click()
        expect(question).to_be_hidden()
        expect(self.take.get_by_role("list", name="Interrupted takes")).to_have_count(0)
        self.page.reload()
        expect(self.take.get_by_role("button", name="Record")).to_be_visible()
        expect(self.take.get_by_role("list", name="Interrupted takes")).to_have_count(0)

    def test_a_microphone_that_goes_leaves_what_it_gave(self):
        self.page.add_init_script(
            """(() => {
              const given = navigator.mediaDevices.getUserMedia.bind(navigator.mediaDevices);
              navigator.mediaDevices.getUserMedia = async (wanted) => {
                const stream = await given(wanted);
                window.track = stream.getAudioTracks()[0];
                return stream;
              };
            })()"""
        )
        self.open_takes()
        self.begin()
        self.runs_to(1.5)
        self.page.evaluate("() => window.track.dispatchEvent(new Event('ended'))")
        expect(self.take.get_by_role("alert")).to_contain_text("was disconnected")
        expect(self.take).to_contain_text("“Take 1” was interrupted at 0:0")
        self.take.get_by_role("button", name="Go on with Take 1").click()
        expect(self.status).to_have_text("Recording.")
        self.runs_to(3)
        self.press("Finish take")
        self.became("Take 1.wav")

    def test_a_take_goes_on_in_one_window_alone(self):
        self.open_takes()
        self.begin()
        self.runs_to(1)
        other = self.context.new_page()
        other.goto(self.page.url)
        region = other.get_by_role("region", name="Take", exact=True)
        expect(region).to_contain_text("“Take 1” is being recorded in another window.")
        expect(region.get_by_label("Called")).to_have_value("Take 2")
        self.press("Finish take")
        self.became("Take 1.wav")
        expect(region.get_by_role("list", name="Interrupted takes")).to_have_count(0)

    def test_what_is_heard_on_headphones_and_how_much_later(self):
        self.open_takes()
        hears = self.take.get_by_label("On headphones")
        hears.select_option(label="A lively room")
        expect(self.take).to_contain_text("Use headphones")
        self.begin()
        figure = re.compile(r"Heard (\d+) ms after you speak\.")
        expect(self.take).to_contain_text(figure)
        expect(self.take).to_contain_text("Noise reduction, Expander, Reference level learn from a take check")
        until(lambda: self.page.wait_for_timeout(50) or self.page.evaluate("() => window.loudest()") > 0.01, what="sound")
        later = int(figure.search(self.take.inner_text()).group(1))
        self.assertGreater(later, 20)
        hears.select_option(label="The microphone as it is")
        until(lambda: self.page.wait_for_timeout(50) or self.page.evaluate("() => window.loudest()") > 0.01, what="sound")
        expect(self.take).to_contain_text(figure)
        hears.select_option(label="Nothing")
        expect(self.take).not_to_contain_text(figure)
        quiet = [self.page.wait_for_timeout(100) or self.page.evaluate("() => window.loudest()") for _ in range(8)]
        self.assertEqual(max(quiet[3:]), 0.0)
        self.runs_to(2)
        self.press("Finish take")
        sound, _, _ = self.became("Take 1.wav")
        self.lies_in(sound, self.heard())

    def test_the_stand_in_reads_where_there_is_no_microphone(self):
        self.open_takes()
        self.page.get_by_label(words.LISTEN_TO).select_option("stand-in")
        self.begin()
        self.runs_to(2)
        self.press("Finish take")
        sound, rate, _ = self.became("Take 1.wav")
        self.assertEqual(rate, RATE)
        setting = Setting(distance_cm=30, input_db=4, room_dbfs=-72, hum_dbfs=-74)
        wanted = np.round(StandIn(setting).reading(10 * RATE)[:, 0] * 32_767)
        there = np.round(sound * 32_768)
        begins = [at for at in range(8 * RATE) if np.array_equal(wanted[at : at + 50], there[:50])]
        apart = [np.abs(wanted[at : at + RATE] - there[:RATE]).max() for at in begins]
        self.assertLessEqual(min(apart, default=np.inf), 1, "not what the stand-in reads")

    def test_levels_grow_with_the_take(self):
        self.open_takes()
        self.begin()

        def reaches() -> float:
            path = self.take.locator("path.level").get_attribute("d") or "M0"
            return float(re.findall(r"[ML]([\d.]+)", path)[-1])

        for _ in range(3):
            now = reaches()
            until(lambda now=now: self.page.wait_for_timeout(50) or reaches() > now + 20, what="a level that grows")
        self.press("Finish take")
        self.became("Take 1.wav")
