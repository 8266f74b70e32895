"""The take check as a reader does it: with the stand-in, with the browser's own microphone, and with all that can go wrong."""

import json
import re

import numpy as np
import soundfile
from playwright.sync_api import Locator, expect

from ispettore.core.check.advice import take_check
from ispettore.core.check.figures import check
from ispettore.core.check.session import ROOM_S, Session
from ispettore.core.spec import catalogue
from ispettore.demo.standin import Setting, StandIn
from tests.support import until
from tests.ui import words
from tests.ui.interface import BROWSER, FLAGS, InterfaceCase

RATE = 48_000
MICROPHONE = """() => {
  const given = navigator.mediaDevices.getUserMedia.bind(navigator.mediaDevices);
  navigator.mediaDevices.getUserMedia = async (wanted) => {
    window.wanted = wanted;
    const stream = await given(wanted);
    window.track = stream.getAudioTracks()[0];
    return stream;
  };
}"""


class TakeCheck(InterfaceCase):
    def open_check(self) -> None:
        self.open_production(self._testMethodName[5:40])
        self.page.get_by_role("link", name=words.TAKE_CHECK).click()
        expect(self.page.get_by_role("heading", name=words.TAKE_CHECK)).to_be_visible()

    @property
    def status(self) -> Locator:
        """How a check stands."""
        return self.page.get_by_role("group", name="Check").get_by_role("status")

    def asked(self) -> list[dict]:
        """The take checks that are kept."""
        return self.page.evaluate(
            "async () => (await (await fetch(`/api/productions/${location.hash.split('/')[2]}/take-checks`)).json()).checks"
        )

    def begin(self) -> None:
        self.page.get_by_role("button", name="Check room and voice").click()
        expect(self.status).to_have_text("The room: be quiet.")
        expect(self.page.get_by_role("group", name="Check")).to_contain_text(re.compile(r"\d+ s more"))

    def whole(self) -> None:
        self.begin()
        expect(self.status).to_contain_text("Now read a few sentences")
        done = self.page.get_by_role("button", name="Done reading")
        expect(done).to_be_disabled()
        expect(done).to_be_enabled()
        done.click()
        expect(self.status).to_have_text("Listening. Nothing is kept.")

    def write(self, label: str, value: float) -> None:
        self.page.get_by_label(label).fill(str(value))


class StandsIn(TakeCheck):
    def test_what_it_says_is_done_and_then_it_says_ready(self):
        self.open_check()
        self.accessible()
        self.page.get_by_label(words.LISTEN_TO).select_option("stand-in")
        self.write("Distance in centimetres", "far")
        expect(self.page.get_by_label("Distance in centimetres")).to_have_attribute("aria-invalid", "true")
        self.write("Distance in centimetres", 30)
        self.page.get_by_role("button", name="Start listening").click()
        expect(self.status).to_have_text("Listening. Nothing is kept.")
        expect(self.page.get_by_role("group", name="Check")).to_contain_text(re.compile(r"highest peak −\d+\.\d dBFS"))
        self.whole()
        result = self.page.get_by_role("region", name=words.RESULT)
        expect(result).to_contain_text("Not ready yet")
        expect(result).to_contain_text("Switch off what hums at 50 Hz, which takes 2 dB off, and move about")
        self.accessible()
        [kept] = self.asked()
        shown = [one.inner_text() for one in result.get_by_role("listitem").all()]
        self.assertEqual(shown, [one["text"] for one in kept["found"]["advice"]])
        expect(result.get_by_role("row", name=re.compile("Noise floor"))).to_contain_text("at most −60 dBFS")

        # Done as it says, until it says no more.
        self.page.get_by_label("something hums").uncheck()
        found, distance, turned = kept["found"], 30.0, 4.0
        for _ in range(6):
            distance, turned = distance - found["nearer_cm"], turned + found["turn_db"]
            self.write("Distance in centimetres", distance)
            self.write("Input in decibels", turned)
            self.whole()
            found = self.asked()[0]["found"]
            if found["ready"]:
                break
        expect(result).to_contain_text("Ready to record")
        expect(result).to_contain_text(re.compile(r"Against the voice, the room is|as at the check before"))
        expect(self.page.get_by_role("region", name="Earlier checks").get_by_role("row")).to_have_count(len(self.asked()))
        self.page.get_by_role("button", name="Stop listening").click()
        expect(self.page.get_by_role("button", name="Start listening")).to_be_visible()

    def test_a_check_is_given_up_and_a_page_that_was_hidden_gives_it_up(self):
        self.open_check()
        self.page.get_by_label(words.LISTEN_TO).select_option("stand-in")
        self.page.get_by_role("button", name="Start listening").click()
        self.begin()
        self.page.get_by_role("button", name="Give up").click()
        expect(self.status).to_have_text("Listening. Nothing is kept.")
        self.begin()
        self.page.evaluate(
            """() => {
              Object.defineProperty(document, 'hidden', { value: true });
              document.dispatchEvent(new Event('visibilitychange'));
            }"""
        )
        expect(self.page.get_by_role("alert")).to_contain_text("This page was hidden during the check, so the check was stopped")
        expect(self.status).to_have_text("Listening. Nothing is kept.")
        self.assertEqual(self.asked(), [])

    def test_a_server_that_ends_is_told_and_the_next_listens(self):
        self.open_check()
        self.page.get_by_label(words.LISTEN_TO).select_option("stand-in")
        self.page.get_by_role("button", name="Start listening").click()
        expect(self.status).to_have_text("Listening. Nothing is kept.")
        self.stage.kill_web()
        expect(self.page.get_by_role("alert")).to_contain_text("The connection to the server ended. Start listening again.")
        self.complaints.clear()
        self.page.get_by_role("button", name="Start listening").click()
        expect(self.status).to_have_text("Listening. Nothing is kept.")


class Microphones(TakeCheck):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        stand_in = StandIn(Setting(room_dbfs=-80, input_db=9))
        cls.room = stand_in.room(round(ROOM_S * RATE))
        cls.voice = stand_in.reading(20 * RATE)
        path = cls.application.folder / "microphone.wav"
        soundfile.write(path, np.concatenate((cls.room, cls.voice)), RATE, subtype="PCM_16")
        fake = ["--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream", f"--use-file-for-fake-audio-capture={path}"]
        cls.plain = cls.browser
        cls.browser = cls.enterClassContext(cls.plain.browser_type.launch(executable_path=BROWSER, args=[*FLAGS, *fake]))

    def setUp(self):
        super().setUp()
        self.page.add_init_script(f"({MICROPHONE})()")

    def listen(self) -> None:
        self.open_check()
        self.page.get_by_role("button", name="Start listening").click()
        expect(self.status).to_have_text("Listening. Nothing is kept.")

    def test_it_is_heard_as_it_is_and_figures_are_those_of_the_core(self):
        sent: list[str | bytes] = []
        self.page.on("websocket", lambda socket: socket.on("framesent", lambda frame: sent.append(frame)))
        self.listen()
        wanted = self.page.evaluate("() => window.wanted.audio")
        self.assertEqual([wanted[name] for name in ("echoCancellation", "noiseSuppression", "autoGainControl")], [False] * 3)
        self.write("Distance in centimetres", 30)
        # The device begins with the room, and then reads.
        self.begin()
        expect(self.status).to_contain_text("Now read a few sentences")
        until(lambda: self.page.wait_for_timeout(100) or self.asked(), what="the end of the sentences")
        [kept] = self.asked()
        found = kept["found"]
        core = take_check(check(self.room, self.voice, sample_rate_hz=RATE), catalogue.find("audiobook-retail"), distance_cm=30)
        self.assertEqual((kept["distance_cm"], found["clipped"]), (30, 0))
        self.assertAlmostEqual(found["peak_dbfs"], core.peak_dbfs, delta=1.0)
        self.assertAlmostEqual(found["speech_dbfs"], core.speech_dbfs, delta=1.0)
        # However well a busy machine's device keeps time: the figures are the core's, of what the page sent.
        opening = json.loads(sent[0])
        rate, channels = opening["sample_rate_hz"], opening.get("channels", 1)
        session = Session(sample_rate_hz=rate, channels=channels)
        for message in sent[1:]:
            if isinstance(message, bytes):
                session.feed(np.frombuffer(message, dtype="<f4").reshape(-1, channels))
            elif json.loads(message).get("act") == "begin":
                session.begin()
            if session.state == "complete":
                break
        core = take_check(session.checked(), catalogue.find("audiobook-retail"), distance_cm=30)
        exact = core.model_dump(mode="json")
        levels = ("peak_dbfs", "true_peak_dbtp", "speech_dbfs", "room_dbfs", "hum_db", "hum_hz", "decay_s")
        for name in (*levels, "clipped", "turn_db", "gain_db"):
            self.assertEqual(found[name], exact[name], name)

    def test_a_device_that_goes_or_changes_is_told(self):
        self.listen()
        self.page.evaluate("() => window.track.dispatchEvent(new Event('ended'))")
        expect(self.page.get_by_role("alert")).to_contain_text("was disconnected. Connect it, then start listening again.")
        expect(self.page.get_by_role("button", name="Start listening")).to_be_visible()
        self.page.get_by_role("button", name="Start listening").click()
        expect(self.status).to_have_text("Listening. Nothing is kept.")
        self.page.evaluate(
            """() => {
              window.track.getSettings = () => ({ sampleRate: 8000 });
              navigator.mediaDevices.dispatchEvent(new Event('devicechange'));
            }"""
        )
        expect(self.page.get_by_role("alert")).to_contain_text(re.compile(r"now runs at 8000 Hz instead of \d+ Hz"))

    def test_one_that_is_refused_is_told_with_what_to_do(self):
        context = self.plain.new_context(viewport={"width": 1280, "height": 800})
        self.addCleanup(context.close)
        self.page = context.new_page()
        self.open_check()
        for name, said in (
            ("NotAllowedError", "does not let this page use a microphone"),
            ("NotFoundError", "No microphone was found"),
            ("NotReadableError", "another program may hold it"),
        ):
            self.page.evaluate(
                """(name) => {
                  navigator.mediaDevices.getUserMedia = () => Promise.reject(new DOMException('', name));
                }""",
                name,
            )
            self.page.get_by_role("button", name="Start listening").click()
            expect(self.page.get_by_role("alert")).to_contain_text(said)
        self.accessible()
