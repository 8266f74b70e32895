"""What the page must never get wrong: whose verdict is shown, what is heard, what is lost by an answer that is none."""

import json

import soundfile
from playwright.sync_api import expect

from ispettore.core.measure.methods_history import current
from ispettore.studio.catalogue import productions
from ispettore.studio.database import transaction
from ispettore.studio.tables import InspectionRecord
from tests import signals
from tests.support import until
from tests.ui import words
from tests.ui.interface import RATE, InterfaceCase

HEARD = """() => {
  window.turned = {};
  const set = AudioParam.prototype.setTargetAtTime;
  const made = [];
  const create = BaseAudioContext.prototype.createGain;
  BaseAudioContext.prototype.createGain = function () {
    const node = create.call(this);
    made.push(node.gain);
    return node;
  };
  AudioParam.prototype.setTargetAtTime = function (value, ...rest) {
    window.turned[['source', 'treated'][made.indexOf(this) % 2]] = value;
    return set.call(this, value, ...rest);
  };
}"""


class Truth(InterfaceCase):
    def test_a_verdict_is_shown_under_the_specification_it_is_of(self):
        self.open_production("Two outlets")
        self.drop(self.wav("one.wav", rms_dbfs=-29, room_dbfs=-78))
        row, after = self.row("one.wav"), self.after("one.wav")
        row.get_by_role("button", name="Conform one.wav").click()
        expect(after).to_contain_text(words.CERTIFIED)
        expect(row.get_by_role("button", name="Conform one.wav")).to_have_count(0)
        self.page.get_by_label(words.SPECIFICATION).select_option(label="Broadcast, R 128")
        expect(after).to_contain_text("certified for Audiobook, retail, version 3")
        expect(after.locator(".verdict")).to_have_text(words.OUTSIDE)
        expect(row.get_by_role("button", name="Conform one.wav")).to_be_visible()
        self.accessible()

        row.get_by_role("link", name="one.wav").click()
        self.page.get_by_role("radio", name=words.PROCESSED).click()
        expect(self.page.locator(".top .verdict")).to_contain_text("Processed: outside Broadcast, R 128")
        limits = self.page.get_by_role("region", name=words.LIMITS)
        expect(limits).to_contain_text("Broadcast, R 128: before and after")
        expect(limits).to_contain_text(words.INTEGRATED_LOUDNESS)
        expect(limits).not_to_contain_text("Noise floor")
        todo = self.turn_to(words.RESULT)
        expect(todo).to_contain_text("Made for Audiobook, retail, version 3, so it does not count here.")
        expect(todo.get_by_role("link", name="Certificate for Audiobook, retail", exact=True)).to_be_visible()
        self.accessible()
        self.turn_to(words.TREATMENT).get_by_role("button", name=words.CONFORM, exact=True).click()
        self.turn_to(words.HISTORY)
        expect(self.page.locator(".history li").first).to_contain_text("certified")
        expect(self.page.locator(".top .verdict")).to_contain_text("Processed: inside Broadcast, R 128")
        expect(self.page.locator(".history li").nth(1)).to_contain_text("certified for Audiobook, retail, version 3")

    def test_readings_by_older_methods_are_shown_and_marked_until_they_are_measured_anew(self):
        self.open_production("Older")
        self.drop(self.wav("one.wav", rms_dbfs=-29, room_dbfs=-71))
        row = self.row("one.wav")
        expect(row.locator(".verdict")).to_contain_text(words.OUTSIDE)
        with transaction() as session:
            record = session.query(InspectionRecord).order_by(InspectionRecord.created_at.desc()).first()
            record.methods_version = current() - 1
            record.data = {**record.data, "methods_version": current() - 1}
        self.page.reload()
        expect(row).to_contain_text("measured with an older method")
        expect(row.locator(".verdict")).to_contain_text(words.OUTSIDE)
        row.get_by_role("link", name="one.wav").click()
        expect(self.page.get_by_text("These readings were taken with an older method.")).to_be_visible()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.accessible()
        self.page.get_by_role("button", name="Measure again").click()
        expect(self.page.get_by_text("These readings were taken with an older method.")).to_have_count(0)

    def test_a_newer_master_is_looked_at_and_the_certificate_still_counts(self):
        self.open_production("Two files")
        self.drop(self.wav("one.wav", rms_dbfs=-29, room_dbfs=-77))
        self.row("one.wav").get_by_role("button", name="Conform one.wav").click()
        expect(self.after("one.wav")).to_contain_text(words.CERTIFIED)
        self.row("one.wav").get_by_role("link", name="one.wav").click()
        self.page.get_by_label(words.FORMAT).select_option("flac")
        self.page.get_by_role("button", name="Conform again").click()
        todo = self.turn_to(words.RESULT)
        expect(todo.locator(".downloads")).to_contain_text("one.flac")
        self.turn_to(words.HISTORY)
        expect(self.page.locator(".history").get_by_role("link", name="certificate")).to_have_count(1)
        self.page.go_back()
        expect(self.after("one.wav")).to_contain_text(words.CERTIFIED)
        expect(self.after("one.wav").get_by_role("link", name=words.MP3)).to_be_visible()

    def test_the_louder_side_is_turned_down_and_none_up(self):
        self.context.add_init_script(f"({HEARD})()")
        for name, rms, lowered in (("quiet.wav", -31, words.PROCESSED), ("loud.wav", -14, words.ORIGINAL)):
            self.open_production(f"Heard {lowered}")
            wave = signals.voice_like(12, rate=RATE, rms_dbfs=rms, room_dbfs=-80)
            path = self.application.folder / name
            soundfile.write(path, wave / max(1.0, abs(wave).max() * 1.05), RATE, subtype="PCM_16")
            self.drop((name, path.read_bytes()))
            self.row(name).get_by_role("link", name=name).click()
            self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
            strip = self.page.get_by_role("group", name=words.PLAYER)
            expect(strip).to_contain_text(f"{lowered.lower()} −")
            by = float(strip.locator("label", has_text=words.MATCHED_LOUDNESS).inner_text().split("−")[1].split(" ")[0])
            strip.get_by_role("button", name=words.PLAY).click()
            expect(strip.get_by_role("button", name=words.STOP)).to_be_visible()
            found = {}
            for side, kind in ((words.ORIGINAL, "source"), (words.PROCESSED, "treated")):
                strip.get_by_role("radio", name=side).click()
                expect(strip.get_by_role("radio", name=side)).to_be_checked()
                found[side] = self.page.evaluate(f"() => window.turned['{kind}']")
            strip.get_by_role("button", name=words.STOP).click()
            with self.subTest(lowered=lowered):
                other = words.ORIGINAL if lowered == words.PROCESSED else words.PROCESSED
                self.assertAlmostEqual(found[lowered], 10 ** (-by / 20), delta=0.01)
                self.assertAlmostEqual(found[other], 1.0)

    def test_measuring_that_failed_or_was_cancelled_is_begun_again_from_the_bench(self):
        self.open_production("Again")
        self.drop(("broken.wav", b"RIFF\0\0\0\0WAVE"), self.wav("long.wav", rms_dbfs=-24, room_dbfs=-75))
        expect(self.row("broken.wav").get_by_role("alert")).to_contain_text("broken.wav")
        self.row("broken.wav").get_by_role("link", name="broken.wav").click()
        expect(self.page.get_by_role("alert")).to_contain_text("broken.wav")
        self.page.get_by_role("button", name="Measure again").click()
        expect(self.page.get_by_role("alert")).to_contain_text("broken.wav")
        self.accessible()
        self.page.go_back()
        expect(self.row("long.wav").locator(".verdict")).to_contain_text(words.OUTSIDE)
        # As it is when measuring was cancelled before it brought anything.
        held = []

        def cancelled(route):
            answer = route.fetch()
            content = answer.json()
            if not held:
                content.update(inspection=None, verdict=None, ribbon=None, window=None)
                content["work"].update(state="cancelled", stage="", error=None)
            route.fulfill(response=answer, json=content)

        self.page.route("**/api/recordings/*", cancelled)
        self.row("long.wav").get_by_role("link", name="long.wav").click()
        expect(self.page.get_by_text("Measuring was cancelled.")).to_be_visible()
        expect(self.page.get_by_text("Queued")).to_have_count(0)
        self.page.once("request", lambda _request: held.append(1))
        self.page.get_by_role("button", name="Measure", exact=True).click()
        expect(self.page.locator(".ribbon canvas")).to_be_visible()
        self.page.unroute_all(behavior="wait")

    def test_a_double_click_makes_one_production(self):
        self.page.goto(f"{self.application.address}#/")
        self.page.get_by_role("textbox", name=words.NAME).fill("Clicked twice")
        self.page.get_by_role("button", name=words.CREATE_PRODUCTION).dblclick()
        expect(self.page.get_by_role("heading", name="Clicked twice")).to_be_visible()
        made = [one.name for one in productions.summaries()].count("Clicked twice")
        self.assertEqual(made, 1)

    def test_nothing_is_created_before_it_is_known_what_is_offered_and_who_is_quicker_is_waited_for(self):
        held, sent = [], []

        def hold(route):
            if held:
                route.continue_()
            held.append(route)

        self.page.route("**/api/specifications", hold)
        self.page.on("request", lambda asked: asked.method == "POST" and sent.append(asked.url))
        self.page.goto(f"{self.application.address}#/")
        name = self.page.get_by_role("textbox", name=words.NAME)
        expect(self.page.get_by_role("button", name=words.CREATE_PRODUCTION)).to_be_disabled()
        name.fill("Named early")
        name.press("Tab")
        for key in ("Tab", "Enter", "Enter"):
            self.page.keyboard.press(key)
        until(lambda: self.page.wait_for_timeout(50) or held, what="the page to ask what is offered")
        expect(name).to_have_value("Named early")
        self.assertEqual(sent, [])
        held[0].continue_()
        expect(self.page.get_by_role("heading", name="Named early")).to_be_visible()
        self.page.unroute_all(behavior="wait")
        self.page.goto(f"{self.application.address}#/")
        expect(self.page.get_by_role("link", name="Named early")).to_have_count(1)

    def test_an_answer_that_is_no_json_is_said_on_the_verification_page(self):
        self.page.route("**/api/verifyings/*/file", lambda route: route.fulfill(status=502, body="<html>Bad gateway</html>"))
        self.page.route(
            "**/api/verifyings", lambda route: route.fulfill(status=201, json={"id": "11111111-1111-4111-8111-111111111111"})
        )
        self.page.goto(f"{self.application.address}#/verify")
        self.drop(("a.mp3", b"ID3"), ("certificate.json", json.dumps({}).encode()))
        expect(self.page.get_by_role("alert")).to_contain_text("returned an unexpected answer")
        expect(self.page.get_by_role("progressbar")).to_have_count(0)
        self.complaints.clear()  # the 502 was ours

    def test_live_updates_come_back_after_an_answer_that_is_no_stream(self):
        answers = []

        def refused(route):
            answers.append(1)
            if len(answers) < 3:
                route.fulfill(status=503, body="starting")
            else:
                route.continue_()

        self.page.route("**/api/events", refused)
        made = productions.create("Before", "audiobook-retail")
        self.page.goto(f"{self.application.address}#/productions/{made}")
        expect(self.page.get_by_role("heading", name="Before")).to_be_visible()
        until(lambda: self.page.wait_for_timeout(50) or len(answers) >= 3, what="the page to ask a third time")
        expect(self.page.get_by_text("Connection lost")).to_have_count(0)
        productions.change(made, name="After")
        expect(self.page.get_by_role("heading", name=words.AFTER)).to_be_visible()
        self.page.unroute("**/api/events")
        self.complaints.clear()  # the 503s were ours

    def test_an_upload_that_was_set_aside_is_shown_and_discarded(self):
        folder = self.application.folder / "incoming"
        (folder / ("a" * 32)).write_bytes(b"12345")
        problem = {"size": 5, "offset": 5, "metadata": {"filename": "a\0b.wav"}, "problem": "Its name holds a null character."}
        (folder / ("a" * 32 + ".json")).write_text(json.dumps(problem))
        self.page.goto(f"{self.application.address}#/")
        expect(self.page.get_by_role("alert")).to_contain_text("ab.wav was uploaded but could not be added. Its name holds")
        self.accessible()
        self.page.get_by_role("button", name="Discard ab.wav").click()
        expect(self.page.get_by_role("alert")).to_have_count(0)
        self.assertEqual(list(folder.iterdir()), [])
