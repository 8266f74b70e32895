"""Edits on the bench: cut out, laid over, put in, pauses brought to a length; marked on the ribbon, heard, undone, taken back."""

import base64
import io
import re
from urllib.parse import parse_qs, urlsplit

import numpy as np
import soundfile
from playwright.sync_api import expect

from tests import misread
from tests.support import until
from tests.ui import words
from tests.ui.interface import DROP, RATE, InterfaceCase

LENGTH = re.compile(r"of (\d+):(\d\d)")


def soundfile_of(wave: np.ndarray) -> bytes:
    held = io.BytesIO()
    soundfile.write(held, wave, RATE, format="WAV")
    return held.getvalue()


class Editing(InterfaceCase):
    def open_edits(self):
        self.open_recording("Edited", rms_dbfs=-24, room_dbfs=-72)
        return self.look_at(words.EDITS)

    def seconds(self) -> int:
        minutes, seconds = LENGTH.search(self.page.locator(".strip, .stay").first.inner_text()).groups()
        return int(minutes) * 60 + int(seconds)

    def lasts(self, seconds: int) -> None:
        expect(self.page.locator(".stay")).to_contain_text(f"of 0:{seconds:02}")

    def heard(self) -> dict:
        """The recording as the page knows it, and how much of its sound the server gives."""
        return self.page.evaluate(
            """async () => {
              const id = location.hash.split('/')[2];
              const sound = await fetch(`/api/recordings/${id}/sound?start=0&frames=1000000`);
              return { samples: (await sound.arrayBuffer()).byteLength / 4 };
            }"""
        )

    def test_a_selection_is_cut_out_heard_undone_and_done_again(self):
        panel = self.open_edits()
        expect(panel).to_contain_text(words.NOTHING_EDITED)
        self.lasts(12)
        self.accessible()
        self.select(4.0, 6.0, duration_s=12)
        with self.page.expect_response(
            lambda answer: answer.url.endswith("/edits") and answer.request.method == "POST"
        ) as answered:
            panel.get_by_role("button", name="Cut out").click()
        [edit] = answered.value.json()["edits"]
        self.lasts(10)
        expect(panel).to_contain_text(re.compile(r"1 edit: 0:10\.\d\d, \S+ s shorter than the file"))
        expect(self.page.locator(".ribbon path.join")).to_have_count(1)
        expect(self.page.get_by_role("main")).to_contain_text("mono, 0:10, edited.")
        length = 12 - (edit["file_end_s"] - edit["file_start_s"])
        self.assertAlmostEqual(self.heard()["samples"] / RATE, length, delta=0.001)
        self.accessible()

        # From two seconds before the join, as it is now.
        with self.page.expect_request(re.compile("/sound")) as asked:
            panel.get_by_role("button", name="Hear edit 1").click()
        start = int(re.search(r"start=(\d+)", asked.value.url).group(1))
        self.assertAlmostEqual(start / RATE, edit["at_s"] - 2, delta=0.01)
        self.assertIn("as=", asked.value.url)
        self.page.get_by_role("button", name=words.STOP).click()

        panel.get_by_role("button", name=words.UNDO_EDIT).click()
        self.lasts(12)
        expect(panel).to_contain_text(words.NOTHING_EDITED)
        expect(self.page.locator(".ribbon path.join")).to_have_count(0)
        panel.get_by_role("button", name="Redo edit").click()
        self.lasts(10)
        # It survives a reload, and the keys undo it while this is what is looked at.
        self.page.reload()
        self.lasts(10)
        expect(panel).to_contain_text("1 edit:")
        self.page.get_by_role("heading", name="one.wav").click()
        self.page.keyboard.press("Control+z")
        self.lasts(12)

    def test_what_is_to_be_heard_before_it_is_measured_plays_as_soon_as_it_is(self):
        self.open_recording("Edited", rms_dbfs=-24, room_dbfs=-72, seed=23)  # no test has had this measured with these edits
        panel = self.look_at(words.EDITS)
        playing = self.page.get_by_role("group", name="Playing")
        self.select(4.0, 6.0, duration_s=12)
        with self.stage.worker_asleep():
            panel.get_by_role("button", name="Cut out").click()
            expect(panel.get_by_role("listitem")).to_have_count(1)
            panel.get_by_role("button", name="Hear edit 1").click()
            expect(playing.get_by_role("status")).to_have_text(words.PLAYS_SOON)
            # Who does not want to wait any longer stops it.
            playing.get_by_role("button", name=words.STOP).click()
            expect(playing.get_by_role("status")).to_be_empty()
            panel.get_by_role("button", name="Hear edit 1").click()
            expect(playing.get_by_role("status")).to_have_text(words.PLAYS_SOON)
            self.accessible()
            at_s = self.page.evaluate(
                """async () => {
                  const answer = await fetch(`/api/recordings/${location.hash.split('/')[2]}/edits`);
                  return (await answer.json()).edits[0].at_s;
                }"""
            )
            heard: list[str] = []
            self.page.on("request", lambda request: heard.append(request.url) if "/sound?" in request.url else None)
        expect(playing.get_by_role("status")).to_be_empty()
        until(lambda: self.page.wait_for_timeout(50) or bool(heard), what="the sound of the edit")
        start = int(re.search(r"start=(\d+)", heard[0]).group(1))
        self.assertAlmostEqual(start / RATE, at_s - 2, delta=0.01)
        expect(playing.get_by_role("group", name="Position")).to_contain_text("of 0:10")

    def test_room_tone_is_laid_over_and_put_in_and_one_is_taken_back(self):
        panel = self.open_edits()
        self.select(3.0, 4.0, duration_s=12)
        panel.get_by_role("button", name="Replace by room tone").click()
        expect(panel.get_by_role("listitem")).to_have_count(1)
        expect(panel.get_by_role("listitem")).to_contain_text("Replaced by room tone")
        panel.get_by_label("Seconds of room tone").fill("2")
        panel.get_by_role("button", name="Put in", exact=True).click()
        expect(panel.get_by_role("listitem")).to_have_count(2)
        self.lasts(14)
        panel.get_by_label("Seconds of room tone").fill("a lot")
        expect(panel.get_by_role("button", name="Put in", exact=True)).to_be_disabled()
        panel.get_by_role("button", name="Take back edit 1").click()
        expect(panel.get_by_role("listitem")).to_have_count(1)
        self.lasts(12)

    def test_pauses_are_foreseen_and_set(self):
        panel = self.open_edits()
        pauses = panel.get_by_role("group", name="Pauses")
        pauses.get_by_label("Longest pause in seconds").fill("0.45")
        foreseen = pauses.get_by_role("status")
        expect(foreseen).to_contain_text(re.compile(r"\d+ pauses?, then 0:\d\d\.\d\d, \S+ s shorter"))
        count = int(re.match(r"(\d+)", foreseen.inner_text()).group(1))
        pauses.get_by_role("button", name="Set pauses").click()
        expect(panel.get_by_role("listitem")).to_have_count(count)
        expect(foreseen).to_contain_text("No pause is like that.")

    def test_a_retake_is_dropped_matched_heard_before_and_after_and_taken_back(self):
        panel = self.open_edits()
        self.select(3.0, 5.0, duration_s=12)
        name, content = self.wav("again.wav", rms_dbfs=-30, room_dbfs=-80, seed=8)
        self.page.evaluate(DROP, ["[aria-label='Edits and retakes']", [[name, base64.b64encode(content).decode()]]])
        edit = panel.get_by_role("listitem")
        expect(edit).to_have_count(1)
        expect(edit).to_contain_text(re.compile(r"replaced by a retake of .* s.*again\.wav: raised by \S+ dB", re.DOTALL))
        expect(self.page.locator(".ribbon rect.put")).to_have_count(1)
        self.accessible()
        with self.page.expect_request(re.compile("/file-sound")) as asked:
            panel.get_by_role("button", name="Before edit 1").click()
        first = int(re.search(r"start=(\d+)", asked.value.url).group(1))
        self.assertAlmostEqual(first / RATE, 1.0, delta=0.15)
        with self.page.expect_request(re.compile(r"/sound\?")):
            panel.get_by_role("button", name="Hear edit 1").click()
        self.page.get_by_role("button", name=words.STOP).last.click()
        panel.get_by_role("button", name="Take back edit 1").click()
        self.lasts(12)
        # What is no retake is told where it was dropped.
        silence = soundfile_of(np.zeros(RATE))
        panel.get_by_label("Retake", exact=True).set_input_files({"name": "hush.wav", "mimeType": "audio/wav", "buffer": silence})
        expect(panel.get_by_role("alert")).to_contain_text("Nobody speaks in “hush.wav”")

    def test_notes_from_listening_are_worked_off_here(self):
        panel = self.open_edits()
        self.page.evaluate(
            """async () => {
              const id = location.hash.split('/')[2];
              const body = JSON.stringify({ at_s: 5, kind: 'misread', text: 'wier for weir', who: 'Ilse Weir' });
              const headers = { 'content-type': 'application/json' };
              await fetch(`/api/listen/recording/${id}/notes`, { method: 'POST', headers, body });
            }"""
        )
        notes = panel.get_by_role("group", name="Notes from listening")
        expect(notes.get_by_role("listitem")).to_contain_text("Misread: wier for weir")
        expect(notes).not_to_contain_text("Edited there since")
        self.select(4.5, 5.5, duration_s=12)
        panel.get_by_role("button", name="Cut out").click()
        expect(notes).to_contain_text(re.compile(r"Edited there since: cut out .* s"))
        self.lasts(11)  # nothing is heard before what was edited is measured
        self.accessible()
        notes.get_by_role("checkbox").check()
        expect(notes.locator("li.done")).to_have_count(1)
        with self.page.expect_request(re.compile("/sound")):
            notes.get_by_role("button", name=re.compile("Hear Misread")).click()
        self.page.get_by_role("button", name=words.STOP).click()

    def test_it_is_split_at_the_playhead_and_joined_again(self):
        panel = self.open_edits()
        split = panel.get_by_role("button", name=re.compile("^Split at"))
        expect(split).to_be_disabled()
        self.lasts(12)  # there is something to go along
        for place in ("0:02.00", "0:04.00"):
            self.page.keyboard.press("ArrowRight")
            expect(split).to_have_text(f"Split at {place}")
        split.click()
        self.lasts(4)
        expect(panel.get_by_role("listitem")).to_contain_text("Cut out 8 s")
        self.page.get_by_role("link", name="Edited", exact=True).first.click()
        self.judged("one, part 2.wav")
        self.row("one.wav").get_by_role("link", name="one.wav").click()
        panel = self.look_at(words.EDITS)
        panel.get_by_role("button", name="Join “one, part 2.wav”").click()
        self.lasts(12)
        expect(panel.get_by_role("listitem").filter(has_text="one, part 2.wav: as it is")).to_have_count(1)
        self.page.get_by_role("link", name="Edited", exact=True).first.click()
        expect(self.page.get_by_role("link", name="one, part 2.wav")).to_have_count(0)

    def test_what_was_made_before_an_edit_does_not_count_and_is_not_compared(self):
        panel = self.open_edits()
        self.page.get_by_role("button", name=words.CONFORM, exact=True).click()
        expect(self.page.get_by_role("navigation", name=words.TREAT_SECTIONS)).to_contain_text(words.RESULT)
        self.select(4.0, 6.0, duration_s=12)
        panel.get_by_role("button", name="Cut out").click()
        self.lasts(10)
        expect(self.page.get_by_role("navigation", name=words.TREAT_SECTIONS)).not_to_contain_text(words.RESULT)
        panel.get_by_role("button", name=words.UNDO_EDIT).click()
        expect(self.page.get_by_role("navigation", name=words.TREAT_SECTIONS)).to_contain_text(words.RESULT)

    def test_what_is_read_again_is_heard_as_cut_moved_left_in_and_cut_out(self):
        """Two lines misread: one behind a mark, one without."""
        recorder = misread.Recorder(RATE, seed=3)
        lines = misread.spoken_twice("plover", RATE)
        for n in range(3):
            if n < 2:
                recorder.say(misread.broken_off(lines[n][0], rate=RATE, share=0.75, random=recorder.random))
                recorder.pause(0.6)
            if n == 1:
                recorder.mark("clap", peak_dbfs=-8)
                recorder.pause(0.6)
            recorder.say(lines[n][1])
            recorder.pause(0.7)
        reading = recorder.done()
        self.open_production("Read again")
        self.drop(("one.wav", soundfile_of(reading.wave)))
        self.judged("one.wav")
        self.row("one.wav").get_by_role("link", name="one.wav").click()
        panel = self.look_at(words.EDITS).get_by_role("group", name="Read again")
        expect(panel.get_by_role("listitem")).to_have_count(2)
        twice, mark = panel.get_by_role("listitem").all()
        expect(twice).to_contain_text("Read twice at")
        expect(mark).to_contain_text(
            re.compile(r"Mark at 0:\d\d\.\d\d.*is cut out, .* s: words from .* are read\s+again from", re.DOTALL)
        )
        # What a reader marked is checked, what is only alike is not.
        expect(twice.get_by_role("checkbox")).not_to_be_checked()
        expect(mark.get_by_role("checkbox")).to_be_checked()
        self.accessible()

        with self.page.expect_request(re.compile("/cut-sound")) as asked:
            mark.get_by_role("button", name="Hear as cut").click()
        query = parse_qs(urlsplit(asked.value.url).query)
        [begun], [again] = query["start_s"], query["end_s"]
        self.assertAlmostEqual(int(query["start"][0]) / RATE, float(begun) - 2, delta=0.001)
        mark.get_by_role("button", name="Stop").click()

        # Moved: what is selected on the ribbon instead of what was proposed.
        mark.get_by_role("button", name="Show").click()
        start, end = self.select(float(begun) - 0.1, float(again) - 0.1, duration_s=reading.seconds)
        mark.get_by_role("button", name="Cut the selection instead").click()
        expect(mark).to_contain_text("as selected")

        # Left in, and proposed again.
        twice.get_by_role("button", name="Leave in").click()
        expect(panel).to_contain_text("Left in as read")
        expect(panel.get_by_role("listitem")).to_have_count(1)
        panel.get_by_role("button", name="Propose again").click()
        expect(panel.get_by_role("listitem")).to_have_count(2)
        panel.get_by_role("listitem").first.get_by_role("checkbox").check()

        with self.page.expect_request(lambda asked: asked.url.endswith("/edits") and asked.method == "POST") as wished:
            panel.get_by_role("button", name="Cut out 2 places").click()
        spans = wished.value.post_data_json["wish"]["spans"]
        self.assertAlmostEqual(spans[1]["start_s"], start, delta=0.02)
        self.assertAlmostEqual(spans[1]["end_s"], end, delta=0.02)
        panel = self.look_at(words.EDITS)
        expect(panel.get_by_role("listitem").filter(has_text="Misread words cut out")).to_have_count(2)
        expect(panel.get_by_role("group", name="Read again")).to_have_count(0)
        panel.get_by_role("button", name=words.UNDO_EDIT).click()
        expect(panel.get_by_role("group", name="Read again").get_by_role("listitem")).to_have_count(2)

    def test_another_window_that_edited_is_told_of(self):
        panel = self.open_edits()
        self.page.route("**/api/events*", lambda route: route.abort())
        self.page.reload()
        self.lasts(12)
        self.page.evaluate(
            """async () => {
              const id = location.hash.split('/')[2];
              const body = JSON.stringify({ wish: { what: 'cut', start_s: 1, end_s: 2 }, follows: 0 });
              const headers = { 'content-type': 'application/json' };
              await fetch(`/api/recordings/${id}/edits`, { method: 'POST', headers, body });
            }"""
        )
        self.select(4.0, 6.0, duration_s=12)
        panel.get_by_role("button", name="Cut out").click()
        expect(panel.get_by_role("alert")).to_contain_text("was edited in another window")
        self.page.unroute_all(behavior="wait")
