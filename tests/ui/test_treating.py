"""Treating on the bench in the browser: sentences, plans, what is heard and expected, the ledger, spots; against the core."""

import io
import itertools
import re
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import Locator, expect

from ispettore.core.audio.writing import read_span
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import catalogue
from ispettore.core.treat import runner
from ispettore.core.treat.treatment import Step, Treatment
from ispettore.studio.catalogue import drafts, recordings
from tests import signals
from tests.support import until
from tests.ui import words
from tests.ui.interface import RATE, InterfaceCase
from tests.ui.test_bench_closely import figure

TAP = """() => {
  // Everything that goes to the loudspeakers is also kept here, with the moment it belongs to.
  const connect = AudioNode.prototype.connect;
  window.heard = [];
  const taps = new WeakMap();
  AudioNode.prototype.connect = function (to, ...rest) {
    if (to === this.context.destination && !(this instanceof ScriptProcessorNode)) {
      let tap = taps.get(this.context);
      if (!tap) {
        tap = this.context.createScriptProcessor(4096, 1, 1);
        tap.onaudioprocess = (event) =>
          window.heard.push([event.playbackTime, Array.from(event.inputBuffer.getChannelData(0))]);
        connect.call(tap, this.context.destination);
        taps.set(this.context, tap);
      }
      connect.call(this, tap);
    }
    return connect.call(this, to, ...rest);
  };
}"""

SCHEDULE = """() => {
  // When each piece of sound begins and ends by the audio clock, and where it goes; rehearsed sound can be made to come slowly.
  window.scheduled = [];
  const { start, stop } = AudioBufferSourceNode.prototype;
  const connect = AudioNode.prototype.connect;
  const names = new Map();
  const pieces = new WeakMap();
  AudioNode.prototype.connect = function (to, ...rest) {
    if (this instanceof AudioBufferSourceNode) {
      if (!names.has(to)) names.set(to, names.size);
      const piece = { to: names.get(to), from: 0, until: 0 };
      pieces.set(this, piece);
      window.scheduled.push(piece);
    }
    return connect.call(this, to, ...rest);
  };
  AudioBufferSourceNode.prototype.start = function (when, offset = 0) {
    const piece = pieces.get(this);
    piece.from = when;
    piece.until = when + this.buffer.duration - offset;
    return start.call(this, when, offset);
  };
  AudioBufferSourceNode.prototype.stop = function (when = this.context.currentTime) {
    const piece = pieces.get(this);
    piece.until = Math.max(piece.from, Math.min(piece.until, when));
    return stop.call(this, when);
  };
  const fetched = window.fetch;
  window.fetch = async (what, ...rest) => {
    if (window.slow && String(what?.url ?? what).includes('draft/sound'))
      await new Promise((done) => setTimeout(done, window.slow));
    return fetched(what, ...rest);
  };
}"""


class Treating(InterfaceCase):
    def recording(self) -> str:
        return re.search(r"recordings/([0-9a-f-]+)", self.page.url)[1]

    def line(self, kind: str) -> Locator:
        return self.page.locator(f"li[data-step='{kind}']")

    def add(self, *titles: str) -> None:
        for title in titles:
            self.page.get_by_role("button", name=words.ADD_STEP).click()
            offered = self.page.get_by_role("group", name=words.STEPS_TO_ADD)
            offered.get_by_role("button", name=re.compile(f"^{title} [A-Z]")).click()
            expect(self.page.get_by_role("link", name=re.compile(rf"^\d+\. {title}$"))).to_be_visible()

    def steps(self) -> list[tuple[str, dict, bool]]:
        """The draft as it is kept."""
        return [(step.kind, dict(step.settings), step.on) for step in drafts.get(self.recording()).steps]

    def kinds(self) -> list[str]:
        return [kind for kind, _, _ in self.steps()]

    def set(self, label: str, text: str) -> None:
        field = self.page.locator("ol").get_by_label(label, exact=True)
        field.fill(text)
        field.press("Enter")

    def test_steps_are_sentences_with_figures_edited_in_place(self):
        self.open_recording("Sentences", rms_dbfs=-29, room_dbfs=-78)
        self.add("Compressor", "Gain")
        self.assertEqual(self.kinds(), ["compressor", "gain"])
        self.set("Compressor: threshold", "-26")
        until(lambda: self.steps()[0][1]["threshold_dbfs"] == -26, what="the threshold to be kept")
        undo = self.page.get_by_role("button", name="Undo: compressor: threshold −26 dBFS")
        expect(undo).to_be_visible()
        self.accessible()
        # What is wrong is said beside the step in words, and what was written stays.
        self.set("Compressor: ratio", "50")
        expect(self.line("compressor").get_by_role("alert")).to_have_text("Ratio: enter 1 to 20 : 1.")
        expect(self.page.get_by_role("button", name=words.CONFORM, exact=True)).to_be_disabled()
        expect(self.page.locator("ol").get_by_label("Compressor: ratio", exact=True)).to_have_value("50")
        self.accessible()
        self.page.reload()
        expect(self.line("compressor").get_by_role("alert")).to_have_text("Ratio: enter 1 to 20 : 1.")
        self.page.keyboard.press("Control+z")
        expect(self.line("compressor").get_by_role("alert")).to_have_count(0)
        # A drag sideways turns the figure; arrow keys nudge it, and a burst of them is one change.
        ratio = self.page.locator("ol").get_by_label("Compressor: ratio", exact=True)
        box = ratio.bounding_box()
        self.page.mouse.move(box["x"] + 5, box["y"] + 5)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + 45, box["y"] + 5, steps=6)
        self.page.mouse.up()
        until(lambda: self.steps()[0][1]["ratio"] == 3.0, what="ten notches of a tenth")
        gain = self.page.locator("ol").get_by_label("Gain: gain", exact=True)
        before = float(gain.input_value())
        number = drafts.get(self.recording()).number
        gain.focus()
        for _ in range(4):
            self.page.keyboard.press("ArrowUp")
        until(lambda: abs(self.steps()[1][1]["gain_db"] - before - 2) < 1e-6, what="four notches of half a decibel")
        self.assertEqual(drafts.get(self.recording()).number, number + 1)

    def test_what_is_typed_while_an_answer_is_awaited_stays_whole(self):
        self.open_recording("Typed", rms_dbfs=-29, room_dbfs=-78)
        self.add("Gain")
        held = []
        self.page.route(
            re.compile("/draft$"), lambda route: held.append(route) if route.request.method == "PUT" else route.continue_()
        )
        self.set("Gain: gain", "2")
        self.page.wait_for_timeout(50)
        field = self.page.locator("ol").get_by_label("Gain: gain", exact=True)
        expect(field).to_have_value("2")
        field.select_text()
        held.pop().continue_()
        expect(self.page.get_by_role("button", name="Undo: gain 2 dB")).to_be_visible()
        self.page.unroute_all()
        self.page.keyboard.type("10")
        self.page.keyboard.press("Enter")
        until(lambda: self.steps()[0][1] == {"gain_db": 10}, what="what was typed")
        # Written back to what the server still says, it is a change as well.
        self.page.route(
            re.compile("/draft$"), lambda route: held.append(route) if route.request.method == "PUT" else route.continue_()
        )
        self.set("Gain: gain", "4")
        self.set("Gain: gain", "10")
        self.page.wait_for_timeout(50)
        held.pop().continue_()
        self.page.unroute_all()
        expect(field).to_have_value("10")
        until(lambda: self.steps()[0][1] == {"gain_db": 10} and drafts.get(self.recording()).number == 5, what="the last word")

    def test_steps_are_added_where_they_belong_moved_switched_off_and_removed(self):
        self.open_recording("Order", rms_dbfs=-29, room_dbfs=-78)
        self.add("Gain", "Rumble filter", "Compressor")
        self.assertEqual(self.kinds(), ["rumble-filter", "compressor", "gain"])
        handle = self.line("compressor").locator(".handle")
        handle.focus()
        self.page.keyboard.press("Alt+ArrowUp")
        until(lambda: self.kinds() == ["compressor", "rumble-filter", "gain"], what="the step to move")
        expect(self.line("rumble-filter")).to_contain_text("Rumble filter comes after compressor: ")
        expect(self.line("compressor").locator(".handle")).to_be_focused()
        self.accessible()
        # By the pointer: the first goes behind the last.
        self.page.set_viewport_size({"width": 1280, "height": 1000})
        first, last = (self.line(kind).bounding_box() for kind in ("compressor", "gain"))
        self.page.mouse.move(first["x"] + 18, first["y"] + 16)
        self.page.mouse.down()
        self.page.mouse.move(first["x"] + 18, last["y"] + last["height"] - 3, steps=8)
        self.page.mouse.up()
        until(lambda: self.kinds() == ["rumble-filter", "gain", "compressor"], what="the step to be dropped")
        self.line("gain").locator(".handle").click()
        detail = self.page.get_by_role("region", name="Step 2, Gain")
        detail.get_by_role("button", name="Switch off").click()
        until(lambda: [on for _, _, on in self.steps()] == [True, False, True], what="the step to be off")
        detail.get_by_role("button", name="Duplicate").click()
        until(lambda: self.kinds() == ["rumble-filter", "gain", "gain", "compressor"], what="the copy")
        self.line("gain").first.hover()
        self.line("gain").first.get_by_role("button", name="Remove Gain").click()
        until(lambda: self.kinds() == ["rumble-filter", "gain", "compressor"], what="the step to go")
        for kinds in (["rumble-filter", "gain", "gain", "compressor"], ["rumble-filter", "gain", "compressor"]):
            self.page.get_by_role("button", name=re.compile("^Undo: ")).click()
            until(lambda kinds=kinds: self.kinds() == kinds, what="undoing")
        self.page.get_by_role("button", name=re.compile("^Redo: duplicate|^Redo: add")).click()
        until(lambda: len(self.kinds()) == 4, what="redoing")

    def test_plans_stand_beside_one_another_and_one_becomes_the_draft(self):
        _, content = self.open_recording("Plans", rms_dbfs=-29, room_dbfs=-78)
        path = self.application.folder / "plans.wav"
        path.write_bytes(content)
        retail = catalogue.find("audiobook-retail")
        made = dict(proposed(path, retail, known=inspect(path).basis))
        plans = self.page.get_by_role("list", name="Plans")
        expect(plans.locator("> li")).to_have_count(len(made))
        expect(self.page.get_by_label(words.WHERE_IT_STANDS)).to_contain_text(
            "One limit is not met: RMS level is 6.0 dB too low. The light plan"
        )
        light = plans.locator("[data-plan=light]")
        light.get_by_role("button", name="Light least processing").click()
        for step in made["light"].treatment.steps:
            expect(light).to_contain_text(step.reason)
        level = light.locator("tr", has_text=words.RMS_LEVEL).locator(".expected")
        self.assertAlmostEqual(figure(level.inner_text()), made["light"].predicted["rms_dbfs"], delta=0.06)
        self.accessible()
        light.get_by_role("button", name="Use the light plan").click()
        expect(light).to_contain_text(words.IN_USE)
        [gain] = [step for step in made["light"].treatment.steps if step.kind == "gain"]
        until(lambda: self.steps()[-1][1] == gain.settings, what="the plan's gain")
        self.set("Gain: gain", "9")
        expect(self.page.get_by_text("Changed from the light plan: gain 9 dB.")).to_be_visible()

    def foretold(self, *steps: Step):
        """What the core measures of a run of these steps over the recording."""
        with tempfile.TemporaryDirectory() as folder:
            path = self.application.folder / "foretold.wav"
            run = runner.run(path, Treatment(steps=steps), folder=Path(folder))
            return inspect(run.path).inspection, read_span(run.path, 0, 10**7)[:, 0]

    def test_what_is_expected_follows_every_change_and_the_hand_on_the_gain_window(self):
        _, content = self.open_recording("Expected", rms_dbfs=-29, room_dbfs=-72)
        (self.application.folder / "foretold.wav").write_bytes(content)
        expect(self.page.get_by_role("list", name="Plans")).to_be_visible()
        self.add("Gain")
        self.look_at(words.LIMITS)
        level = self.page.locator(".rule", has_text=words.RMS_LEVEL)
        for gain in (6.0, 12.0):
            self.set("Gain: gain", str(gain))
            after, _ = self.foretold(Step(kind="gain", settings={"gain_db": gain}))
            # The encoder's own loss is foretold with it: planning found it out.
            until(
                lambda after=after: abs(figure(level.locator(".value").inner_text()) - after.value("rms_dbfs")) < 0.4,
                what=f"the level expected at {gain} dB",
            )
            expect(level.locator(".wedge.expected")).to_be_visible()
        hand = self.page.get_by_role("slider", name=words.LAST_GAIN)
        expect(hand).to_have_attribute("aria-valuenow", "12")
        hand.focus()
        for _ in range(3):
            self.page.keyboard.press("ArrowLeft")
        until(lambda: self.steps()[0][1] == {"gain_db": 10.5}, what="the hand to set the gain")
        expect(self.page.get_by_role("group", name=re.compile("^Gain window"))).to_be_visible()
        self.accessible()
        expect(self.page.locator("figcaption", has_text="The last gain is")).to_contain_text("(RMS level)")
        # The ribbon that is expected is dashed over the recording's own while the treated side is looked at.
        source = self.picture()
        self.page.get_by_role("radio", name=words.PROCESSED).click()
        until(lambda: self.picture() != source, what="the expected ribbon")
        expect(self.page.locator(".top .verdict")).to_contain_text("Expected: ")

    def test_what_is_heard_of_a_draft_is_the_cores_own_sound(self):
        self.context.add_init_script(f"({TAP})()")
        self.open_production("Heard")
        path = self.application.folder / "foretold.wav"
        soundfile.write(path, signals.voice_like(90, rms_dbfs=-29, rate=RATE, room_dbfs=-72), RATE, subtype="PCM_16")
        self.drop(("one.wav", path.read_bytes()))
        self.row("one.wav").get_by_role("link", name="one.wav").click()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.add("Compressor", "Gain")
        self.set("Compressor: threshold", "-34")
        self.set("Gain: gain", "4")
        until(lambda: self.steps()[1][1] == {"gain_db": 4}, what="the draft")
        compressor, gain = (Step(kind=kind, settings=settings) for kind, settings, _ in self.steps())
        _, written = self.foretold(compressor, gain)
        strip = self.page.get_by_role("group", name=words.PLAYER)
        strip.get_by_label(words.MATCHED_LOUDNESS).uncheck()
        strip.get_by_role("radio", name=words.PROCESSED).click()
        self.page.get_by_role("heading", name="one.wav").click()
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("h")
        expect(strip.get_by_label(words.POSITION)).to_contain_text(re.compile(r"0:0[7-9]|0:[1-8]\d of"))
        self.until_heard(written, within=1e-4)
        # While it plays, a change is heard without the source starting anew; the newest of several wins.
        before = self.page.get_by_label(words.POSITION).inner_text()
        for value in ("0", "2", "10"):
            self.set("Gain: gain", value)
        until(lambda: self.steps()[1][1] == {"gain_db": 10}, what="the newest change")
        number = drafts.get(self.recording()).number
        expect(self.page.locator(f".strip[data-heard$=' {number}']")).to_be_visible()
        _, louder = self.foretold(compressor, Step(kind="gain", settings={"gain_db": 10}))
        self.until_heard(louder, within=2e-4)
        self.page.keyboard.press("Escape")
        self.assertNotEqual(self.page.get_by_label(words.POSITION).inner_text(), before)

    def test_a_change_that_comes_slowly_is_heard_once(self):
        self.context.add_init_script(f"({SCHEDULE})()")
        self.open_recording("Slowly", rms_dbfs=-29, room_dbfs=-72)
        self.add("Gain")
        self.set("Gain: gain", "2")
        until(lambda: self.steps()[0][1] == {"gain_db": 2}, what="the draft")
        strip = self.page.get_by_role("group", name=words.PLAYER)
        strip.get_by_role("radio", name=words.PROCESSED).click()
        self.page.get_by_role("heading", name="one.wav").click()
        self.page.keyboard.press("h")
        expect(strip.get_by_label(words.POSITION)).to_contain_text(re.compile("0:0[1-9] of"))
        # Slower than it is played: pieces of the new sound that were asked for at the change meet those that follow anyway.
        self.page.evaluate("() => (window.slow = 700)")
        self.set("Gain: gain", "6")
        until(lambda: self.steps()[0][1] == {"gain_db": 6}, what="the change")
        number = drafts.get(self.recording()).number
        expect(self.page.locator(f".strip[data-heard$=' {number}']")).to_be_visible()
        self.page.evaluate("() => new Promise((done) => setTimeout(done, 4000))")
        sounds = self.page.evaluate("() => window.scheduled")
        for side in {one["to"] for one in sounds}:
            pieces = sorted((one["from"], one["until"]) for one in sounds if one["to"] == side and one["until"] > one["from"])
            self.assertGreater(pieces[-1][1], pieces[0][0] + 6)
            for (_, end), (begin, _) in itertools.pairwise(pieces):
                self.assertLess(end - begin, 1e-3, pieces)
                # The sound before went on until the new one was there.
                self.assertLess(begin - end, 0.5, pieces)

    def test_a_selection_goes_round_while_a_setting_is_turned(self):
        self.open_recording("Looped", rms_dbfs=-29, room_dbfs=-72)
        self.add("Gain")
        self.select(4, 6)
        self.page.get_by_label(words.LOOP).check()
        strip = self.page.get_by_role("group", name=words.PLAYER)
        strip.get_by_role("radio", name=words.PROCESSED).click()
        self.page.get_by_role("heading", name="one.wav").click()
        self.page.keyboard.press("h")
        for gain in ("2", "5"):
            self.set("Gain: gain", gain)
            until(lambda gain=gain: self.steps()[0][1] == {"gain_db": float(gain)}, what="the gain")
            number = drafts.get(self.recording()).number
            with self.page.expect_request(re.compile(rf"draft/sound\?number={number}&")) as asked:
                pass
            at = float(re.search(r"at_s=([\d.]+)", asked.value.url)[1])
            self.assertTrue(3.9 <= at <= 6.1, at)
            expect(strip.get_by_role("button", name=words.STOP)).to_be_visible()
            expect(strip.get_by_label(words.POSITION)).to_contain_text(re.compile("0:0[456] of"))
        strip.get_by_role("button", name=words.STOP).click()

    def until_heard(self, written: np.ndarray, *, within: float) -> None:
        """Wait until what goes to the loudspeakers is, sample for sample, what was written: on a busy machine some of it is
        dropped on the way."""

        def same() -> bool:
            self.page.evaluate("() => (window.heard.length = 0)")
            self.page.evaluate("() => new Promise((done) => setTimeout(done, 1200))")
            heard = self.sound()
            return heard.size > RATE and self.unlike(heard, written) < within

        until(same, what="the sound that was written", timeout_s=50)

    def sound(self) -> np.ndarray:
        """What went to the loudspeakers so far."""
        return np.concatenate([np.array(block, dtype=np.float64) for _, block in self.page.evaluate("() => window.heard")])

    def unlike(self, heard: np.ndarray, written: np.ndarray) -> float:
        """The largest difference where one second of what was heard lies in what was written, the level left aside where it was
        still being turned."""
        sound = heard[np.flatnonzero(np.abs(heard) > 1e-3)[0] :][: RATE // 2]
        wave = written.astype(np.float64)
        size = 1 << int(np.ceil(np.log2(wave.size + sound.size)))
        match = np.fft.irfft(np.fft.rfft(wave, size) * np.conj(np.fft.rfft(sound, size)), size)[: wave.size]
        energy = np.concatenate(([0.0], np.cumsum(wave**2)))
        own = energy[np.minimum(np.arange(wave.size) + sound.size, wave.size)] - energy[:-1]
        at = int(np.argmin(own - 2 * match))
        return float(np.abs(wave[at : at + sound.size] - sound[: wave.size - at]).max())

    def test_a_draft_runs_to_a_certificate_or_says_what_closes_it(self):
        self.open_recording("Run", rms_dbfs=-29, room_dbfs=-78)
        self.add("Gain")
        self.set("Gain: gain", "2")
        until(lambda: self.steps()[0][1] == {"gain_db": 2}, what="the draft")
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        missing = self.page.get_by_role("region", name="What is missing")
        expect(missing).to_contain_text("outside its limit")
        expect(missing).to_contain_text("Raise the last gain by")
        self.accessible()
        missing.get_by_role("button", name="Make this change").click()
        until(lambda: self.steps()[0][1]["gain_db"] > 5, what="the change")
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        expect(self.page.get_by_label(words.WHERE_IT_STANDS)).to_contain_text(words.ALL_DONE)
        [certified, refused] = recordings.detail(self.recording()).conformings
        self.assertTrue(certified.certified and certified.own and not refused.sha256)
        expect(self.turn_to(words.HISTORY).get_by_role("listitem").first).to_contain_text("MP3, own treatment: certified")
        # What was made of the draft is now what is treated; another change makes it a draft again.
        expect(self.turn_to(words.RESULT)).to_contain_text("one.mp3")
        self.turn_to(words.TREATMENT)
        self.set("Gain: gain", "7")
        expect(
            self.page.get_by_role("navigation", name=words.TREAT_SECTIONS).get_by_role("link", name=words.LEDGER)
        ).to_be_visible()

    def test_the_ledger_tells_what_each_step_leaves_and_lets_it_be_heard(self):
        _, content = self.open_recording("Ledger", rms_dbfs=-29, room_dbfs=-55)
        (self.application.folder / "foretold.wav").write_bytes(content)
        self.add("Noise reduction", "Gain")
        self.set("Gain: gain", "7")
        until(lambda: self.steps()[1][1] == {"gain_db": 7}, what="the draft")
        ledger = self.turn_to(words.LEDGER)
        noise = next(step for step in self.steps() if step[0] == "noise-reduction")
        first, _ = self.foretold(Step(kind="noise-reduction", settings=noise[1]))
        head = ledger.locator("thead th").all_inner_texts()
        column = next(place for place, text in enumerate(head) if text.startswith("Noise floor")) - 1
        row = ledger.locator("tbody tr", has_text="1. Noise reduction")
        until(
            lambda: (
                abs(figure(row.locator("td").nth(column).locator(".figure").inner_text()) - first.value("noise_floor_dbfs")) < 0.06
            ),
            what="the noise floor after the first step",
        )
        expect(row.locator("td").nth(column)).to_have_class(re.compile("in"))
        self.accessible()
        with self.page.expect_request(re.compile(r"draft/sound.*upto=")):
            row.get_by_role("button", name="Hear the sound after Noise reduction").click()
        expect(row.get_by_role("button", name="Heard the sound after Noise reduction")).to_be_visible()
        self.page.keyboard.press("Escape")

    def test_what_is_heard_after_a_step_is_as_loud_as_the_source(self):
        self.context.add_init_script(f"({TAP})()")
        _, content = self.open_recording("Matched", rms_dbfs=-33, room_dbfs=-72)
        (self.application.folder / "foretold.wav").write_bytes(content)
        source, _ = soundfile.read(io.BytesIO(content))
        self.select(1, 11)
        self.page.get_by_label(words.LOOP).check()
        self.add("Gain")
        self.set("Gain: gain", "5")
        self.add("Compressor")
        self.set("Compressor: threshold", "-30")
        self.set("Compressor: ratio", "8")
        until(lambda: self.steps()[0][1].get("ratio") == 8 and self.steps()[1][1] == {"gain_db": 5}, what="the draft")
        after = self.foretold(*(Step(kind=kind, settings=settings) for kind, settings, _ in self.steps()[:1]))
        ledger = self.turn_to(words.LEDGER)
        for name, written in (("Compressor", after), ("Gain", self.foretold(*self.of_draft()))):
            ledger.get_by_role("button", name=f"Hear the sound after {name}").click()
            inspection, wave = written
            louder = inspection.value("integrated_loudness_lufs") - self.loudness(content)
            # The louder of the two is turned down, and nothing is turned up.
            self.until_heard(wave * 10 ** (min(0.0, -louder) / 20), within=1e-3)
            expect(ledger.get_by_role("button", name=f"Heard the sound after {name}")).to_be_visible()
            if louder > 0.5:
                self.page.get_by_role("radio", name=words.ORIGINAL).click()
                self.until_heard(source, within=1e-4)

    def of_draft(self) -> list[Step]:
        return [Step(kind=kind, settings=settings) for kind, settings, on in self.steps() if on]

    def loudness(self, content: bytes) -> float:
        return self.measured(content).inspection.value("integrated_loudness_lufs")

    def test_the_ribbon_of_a_long_recording_is_expected_as_well(self):
        self.open_production("Long")
        path = self.application.folder / "long.wav"
        soundfile.write(path, signals.voice_like(250, rms_dbfs=-29, rate=22_050, room_dbfs=-72), 22_050, subtype="PCM_16")
        self.drop(("long.wav", path.read_bytes()))
        self.row("long.wav").get_by_role("link", name="long.wav").click()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.add("Level riding", "Gain")
        self.set("Gain: gain", "6")
        with self.page.expect_response(re.compile("draft/foretold")) as answered:
            self.set("Gain: gain", "9")
        told = answered.value.json()
        self.assertFalse(told["whole"])
        self.assertEqual(len(told["peak_dbfs"]), len(told["rms_dbfs"]))
        self.assertGreater(len(told["peak_dbfs"]), 400)
        source = self.picture()
        self.page.get_by_role("radio", name=words.PROCESSED).click()
        until(lambda: self.picture() != source, what="the expected ribbon")

    def test_each_step_opens_to_its_picture_with_a_mark_to_drag_and_a_table(self):
        self.open_recording("Pictures", rms_dbfs=-24, room_dbfs=-60)
        self.add("Compressor")
        detail = self.page.get_by_role("region", name="Step 1, Compressor")
        threshold = detail.get_by_role("slider", name="threshold")
        at = float(threshold.get_attribute("aria-valuenow"))
        threshold.focus()
        self.page.keyboard.press("ArrowLeft")
        until(lambda: self.steps()[0][1]["threshold_dbfs"] == at - 0.5, what="the mark to set the threshold")
        self.page.locator("figure[data-form=curve]").get_by_role("button", name="Table").click()
        expect(detail.get_by_role("rowheader", name="comes out").first).to_be_visible()
        self.accessible()
        self.assertIn("/step-1/", self.page.url)
        # A bell stands on the response and is moved in both directions, as one change.
        self.add("Tone")
        bell = self.page.get_by_role("region", name=re.compile("Tone$")).get_by_role("slider", name=re.compile("^bell"))
        box = bell.locator("circle").bounding_box()
        number = drafts.get(self.recording()).number
        self.page.mouse.move(box["x"] + 5, box["y"] + 5)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] - 60, box["y"] - 20, steps=6)
        self.page.mouse.up()
        until(lambda: drafts.get(self.recording()).number == number + 1, what="the bell to be moved")
        [band] = next(settings for kind, settings, _ in self.steps() if kind == "tone")["bands"]
        self.assertLess(band["frequency_hz"], 2_900)
        self.assertGreater(band["gain_db"], 3)
        expect(bell).to_have_attribute("aria-valuenow", f"{band['frequency_hz']:g}")
        for title, form in (("Noise reduction", "spectrum"), ("True-peak limiter", "time"), ("Head and tail", "time")):
            self.add(title)
            expect(self.page.locator(f"figure[data-form={form}]").first).to_be_visible()
        self.accessible()

    def test_a_spot_is_worked_on_from_a_finding_and_from_a_selection(self):
        self.open_production("Spots")
        wave = signals.voice_like(12, rms_dbfs=-24, rate=RATE, room_dbfs=-70)
        wave[round(5.2 * RATE) : round(5.2 * RATE) + 4] += [0.5, -0.4, 0.3, -0.2]
        path = self.application.folder / "clicked.wav"
        soundfile.write(path, wave, RATE, subtype="PCM_24")
        self.drop(("clicked.wav", path.read_bytes()))
        self.row("clicked.wav").get_by_role("link", name="clicked.wav").click()
        findings = self.look_at(words.FINDINGS)
        findings.locator("li", has_text="Click").get_by_role("button", name=re.compile("Go to finding")).first.click()
        spot = self.page.get_by_role("group", name=words.WORK_ON_THE_SELECTION)
        spot.get_by_role("button", name="Rebuild the clicks").click()
        until(lambda: self.kinds() == ["click-repair"], what="the step")
        self.accessible()
        [entry] = self.steps()[0][1]["spans"]
        self.assertTrue(entry["start_s"] < 5.2 < entry["end_s"] < 5.3)
        start, end = self.select(7, 8)
        spot.get_by_role("button", name="Lower by 3 dB").click()
        until(lambda: self.kinds() == ["click-repair", "spot-gain"], what="the second step")
        [lowered] = self.steps()[1][1]["spots"]
        self.assertAlmostEqual(lowered["start_s"], start, delta=0.01)
        self.assertAlmostEqual(lowered["end_s"], end, delta=0.01)
        self.select(9, 9.5)
        spot.get_by_role("button", name="Raise by 3 dB").click()
        until(lambda: len(self.steps()[1][1]["spots"]) == 2, what="the second spot")
        detail = self.page.get_by_role("region", name="Step 2, Spot gain")
        detail.get_by_role("listitem").first.get_by_role("button", name="Go there").click()
        expect(self.page.get_by_label(words.POSITION)).to_contain_text("0:07")
        detail.get_by_role("listitem").first.get_by_role("button", name=words.REMOVE).click()
        until(lambda: len(self.steps()[1][1]["spots"]) == 1, what="one spot to go")
        self.accessible()

    def test_the_bench_is_one_screen_at_every_size(self):
        self.open_recording("Sizes", rms_dbfs=-29, room_dbfs=-72)
        self.add("Compressor")
        for width, height in ((1024, 768), (1280, 800), (2560, 1300)):
            self.page.set_viewport_size({"width": width, "height": height})
            with self.subTest(width=width):
                self.page.mouse.move(4, height / 2)  # beside the halves, which scroll by themselves
                self.page.mouse.wheel(0, 5_000)
                self.page.wait_for_function("() => scrollY + innerHeight >= document.documentElement.scrollHeight - 1")
                self.assertLessEqual(self.page.evaluate("() => document.documentElement.scrollWidth"), width)
                ribbon, halves = self.page.locator(".ribbon").bounding_box(), self.page.locator(".half").all()
                self.assertGreaterEqual(ribbon["y"], -1)
                left, right = (half.bounding_box() for half in halves)
                self.assertAlmostEqual(left["y"], right["y"], delta=1)
                self.assertLessEqual(right["y"] + right["height"], height + 1)
                self.accessible()
        # At twice the size one half stands below the other, and nothing is cut off sideways.
        self.page.set_viewport_size({"width": 640, "height": 400})
        self.assertLessEqual(self.page.evaluate("() => document.documentElement.scrollWidth"), 640)


if __name__ == "__main__":
    import unittest

    unittest.main()
