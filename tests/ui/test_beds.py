"""Sound under the voice in the browser: brought in, laid, turned, heard to the sample, drawn, made, certified, taken back."""

import io
import re
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import Locator, Page, expect

from ispettore.core.audio.reading import read_all
from ispettore.core.plan.bedded import Laid
from ispettore.core.treat import runner
from ispettore.core.treat.bed import Bed, Clip
from ispettore.core.treat.treatment import Treatment
from ispettore.demo import bed as demo_bed
from ispettore.studio.catalogue import productions
from tests.ui import words
from tests.ui.interface import RATE, InterfaceCase

NAME = "Sluice.flac"
UNDO = "Undo bed change"
HEARD = re.compile(r"/bed/sound")


class Beds(InterfaceCase):
    def setUp(self):
        super().setUp()
        self.name, self.content = self.open_recording(self._testMethodName, rms_dbfs=-24, room_dbfs=-72, head=1.5)
        self.panel = self.look_at("Bed")

    def open_production(self, name: str) -> None:
        """One without limits on the room, which a bed would break."""
        production = productions.create(name, "podcast-mono")
        self.page.goto(f"{self.application.address}#/productions/{production}")
        expect(self.page.get_by_role("heading", name=name)).to_be_visible()

    def bring(self, name: str = NAME, seconds: float = 6.0) -> bytes:
        held = io.BytesIO()
        soundfile.write(held, demo_bed.harmonium(seconds), RATE, format="FLAC", subtype="PCM_24")
        content = held.getvalue()
        self.panel.get_by_label("Sound for beds").set_input_files({"name": name, "mimeType": "audio/flac", "buffer": content})
        expect(self.sound(name)).to_contain_text("LUFS")
        return content

    def sound(self, name: str = NAME) -> Locator:
        return self.panel.locator(f"[data-sound='{name}']")

    def lay(self) -> None:
        self.sound().get_by_role("button", name=f"Lay {NAME}").click()
        expect(self.panel).to_contain_text("1 sound under this voice, its own.")

    def figure(self, title: str) -> Locator:
        return self.panel.get_by_label(f"Bed: {title}", exact=True)

    def write(self, title: str, value: str) -> None:
        with self.page.expect_response(lambda answer: answer.request.method == "PUT" and "/bed" in answer.url):
            self.figure(title).fill(value)
            self.figure(title).press("Enter")

    def undo(self) -> None:
        """Once what was done before is shown."""
        button = self.panel.get_by_role("button", name=UNDO)
        expect(button).to_have_attribute("aria-busy", "false")
        button.click()

    def strip(self) -> Locator:
        return self.page.get_by_role("img", name=re.compile("^Bed against the voice"))

    def test_a_sound_is_brought_in_laid_turned_and_drawn_under_the_ribbon(self):
        expect(self.panel).to_contain_text("Nothing lies under this voice.")
        self.accessible()
        self.bring()
        expect(self.sound()).to_contain_text(re.compile(r"0:06\.0, stereo, −\d+\.\d LUFS"))
        self.lay()
        expect(self.panel.locator("ol li")).to_have_count(1)
        expect(self.panel.locator("ol li")).to_contain_text(f"{NAME}:")
        expect(self.strip()).to_have_accessible_name(re.compile("−12.0 LU in pauses, −20.0 LU under the words, as predicted"))
        before = self.strip().locator("polyline").get_attribute("points")
        self.write("level", "-6")
        expect(self.strip()).to_have_accessible_name(re.compile("−6.0 LU in pauses"))
        self.write("lowered by", "10")
        expect(self.strip()).to_have_accessible_name(re.compile("−16.0 LU under the words"))
        expect(self.strip().locator("polyline")).not_to_have_attribute("points", before)
        # Down before the first word: so the line has fallen where that begins.
        points = [tuple(map(float, pair.split(","))) for pair in self.strip().locator("polyline").get_attribute("points").split()]
        at = lambda seconds: points[round(seconds / 12 * len(points))][1]  # noqa: E731
        self.assertGreater(at(1.48), at(1.1) + 8)
        self.accessible()
        self.page.reload()
        self.panel = self.page.get_by_role("region", name="Bed")
        expect(self.figure("level")).to_have_value("−6")

    def test_what_does_not_fit_stays_as_it_was_with_the_reason(self):
        self.bring()
        self.lay()
        self.write("lowered by", "99")
        expect(self.panel.get_by_role("alert")).to_have_text(
            "The bed can't be laid so, and stays as it was. Lowered by: enter 0 to 40 dB."
        )
        expect(self.figure("lowered by")).to_have_value("8")
        # Two figures one right after the other: neither is lost.
        self.figure("level").fill("-9")
        self.figure("level").press("Enter")
        self.figure("lowered by").fill("6")
        self.figure("lowered by").press("Enter")
        expect(self.strip()).to_have_accessible_name(re.compile("−9.0 LU in pauses, −15.0 LU under the words"))
        expect(self.panel.get_by_role("alert")).to_have_count(0)
        self.undo()
        expect(self.figure("lowered by")).to_have_value("8")
        expect(self.figure("level")).to_have_value("−9")
        self.undo()
        expect(self.figure("level")).to_have_value("−12")
        self.panel.get_by_role("button", name=f"Take out {NAME}").click()
        expect(self.panel).to_contain_text("Nothing lies under this voice, as was chosen.")
        expect(self.strip()).to_have_count(0)
        self.undo()
        expect(self.strip()).to_be_visible()
        self.sound().get_by_role("button", name=f"Remove {NAME}").click()
        expect(self.panel.get_by_role("alert")).to_contain_text("Take it out of their beds first.")

    def test_what_is_heard_is_the_mix_to_the_sample(self):
        music = self.bring()
        self.lay()
        asked: list[str] = []
        self.page.on("request", lambda request: asked.append(request.url) if HEARD.search(request.url) else None)
        with self.page.expect_response(HEARD):
            self.panel.get_by_role("button", name=f"Hear {NAME}").click()
        expect(self.page.get_by_role("radio", name="With the bed")).to_be_checked()
        expect(self.page.locator(".strip[data-heard^='bed ']")).to_be_visible()
        self.page.get_by_role("button", name=words.STOP).click()
        # Asked for once more, as the page may have let go of it, by the newest turn: an older one is told that it was overtaken.
        newest = max(asked, key=lambda url: int(re.search(r"turn=(\d+)", url).group(1)))
        answer = self.page.request.get(newest)
        self.assertTrue(answer.ok, answer.body()[:200])
        heard = np.frombuffer(answer.body(), dtype="<f4")
        folder = Path(tempfile.mkdtemp(dir=self.application.folder))
        voice, under = folder / self.name, folder / NAME
        voice.write_bytes(self.content)
        under.write_bytes(music)
        bed = Bed(clips=(Clip(sound="s", out_s=6.0, loop=True),))
        laid = Laid(bed, {"s": under})
        run = runner.run(voice, Treatment(steps=(laid.step,)), folder=folder, sounds=laid.sounds)
        start = round(float(re.search(r"at_s=([\d.]+)", newest).group(1)) * RATE)
        np.testing.assert_allclose(heard, read_all(run.path)[0][start : start + heard.size, 0], atol=2e-6)

    def test_the_mix_is_made_certified_and_shown_with_the_voice_alone(self):
        self.bring()
        self.lay()
        figures = self.panel.get_by_role("group", name="Voice and mix")
        expect(figures.get_by_role("columnheader", name="Expected")).to_be_visible()
        # The voice stands as it is in what is heard: matched, both are as loud but for the bed.
        expect(self.page.get_by_role("group", name=words.PLAYER)).to_contain_text(
            re.compile(r"Matched loudness\s+with the bed −?0\.\d dB")
        )
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        result = self.turn_to("Result")
        expect(result).to_contain_text(re.compile(r"Voice −\d+\.\d LUFS, bed −\d+\.\d LUFS, together −\d+\.\d LUFS\."))
        expect(result).to_contain_text(f"“{NAME}” 12.0 LU under the voice")
        expect(figures.get_by_role("columnheader", name="In the file")).to_be_visible()
        expect(self.strip()).to_have_accessible_name(re.compile("as predicted, and as it came in the file made"))
        expect(self.strip().locator("polyline")).to_have_count(2)
        self.accessible()
        # The file is what the figures say, by measuring its bytes.
        with self.page.expect_download() as downloaded:
            result.get_by_role("link", name="one.mp3").click()
        measured = self.measured(Path(downloaded.value.path()).read_bytes()).inspection
        told = float(re.search(r"together (−[\d.]+) LUFS", result.inner_text()).group(1).replace("−", "-"))
        self.assertAlmostEqual(measured.value("integrated_loudness_lufs"), told, delta=0.06)
        # With another bed that file counts no more.
        self.write("level", "-20")
        expect(self.strip()).to_have_accessible_name(re.compile("as predicted[.]"))
        expect(self.page.get_by_role("navigation", name=words.TREAT_SECTIONS).get_by_role("link", name="Result")).to_have_count(0)

    def test_under_every_recording_and_its_own_instead(self):
        self.bring()
        self.panel.get_by_text("Every recording without its own").click()
        expect(self.panel).to_contain_text("Nothing lies under the production.")
        self.sound().get_by_role("button", name=f"Lay {NAME}").click()
        expect(self.panel).to_contain_text("1 sound under every voice of the production.")
        expect(self.strip()).to_be_visible()
        other: Page = self.context.new_page()
        other.goto(self.page.url)
        elsewhere = other.get_by_role("region", name="Bed")
        elsewhere.get_by_text("This recording", exact=True).click()
        expect(elsewhere).to_contain_text("1 sound under this voice, as under the whole production.")
        elsewhere.get_by_label("Bed: level", exact=True).fill("-3")
        elsewhere.get_by_label("Bed: level", exact=True).press("Enter")
        expect(elsewhere).to_contain_text("1 sound under this voice, its own.")
        expect(self.panel).to_contain_text("this recording has its own")
        elsewhere.get_by_role("button", name="Use the production’s bed").click()
        expect(elsewhere).to_contain_text("as under the whole production")
        expect(self.panel).not_to_contain_text("this recording has its own")
        other.close()
