"""Edits over the wire: one layer over the untouched file, under everything that is measured, heard, planned, made and noted."""

from uuid import UUID

import numpy as np
import soundfile

from ispettore.core.edit.edits import FADE_S
from ispettore.studio.catalogue import recordings
from ispettore.studio.store.placing import placing
from tests import signals
from tests.web.wire import RATE, WireCase

HALF_S = FADE_S / 2


class Editing(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make("podcast-mono")

    def setUp(self):
        self.made = getattr(Editing, "_made", 0) + 1
        Editing._made = self.made
        self.wave = signals.voice_like(14, rms_dbfs=-24, rate=RATE, room_dbfs=-70, seed=self.made)
        self.recording = self.send(f"{self.made:02} voice.wav", self.wav(self.wave))

    def of(self, method: str, path: str, status: int = 200, **named):
        return self.ask(method, f"/recordings/{self.recording}{path}", status, **named)

    def edit(self, status: int = 200, *, follows: int | None = None, measured: bool = True, **wish) -> dict:
        follows = self.of("GET", "/edits")["number"] if follows is None else follows
        view = self.of("POST", "/edits", status, json={"wish": wish, "follows": follows})
        if measured and status == 200:
            self.work(self.recording)
        return view

    def step(self, which: str) -> dict:
        return self.of("POST", f"/edits/{which}", json={"follows": self.of("GET", "/edits")["number"]})

    def heard(self, path: str = "/sound", start_s: float = 0.0, length_s: float = 20.0) -> np.ndarray:
        """One channel of it, from a second on."""
        where = {"start": round(start_s * RATE), "frames": round(length_s * RATE)}
        return np.frombuffer(self.of("GET", path, params=where), dtype="<f4")

    def detail(self) -> dict:
        return self.of("GET", "")

    def seconds(self) -> float:
        return self.detail()["facts"]["duration_s"]

    def test_a_cut_is_measured_drawn_and_heard_and_the_file_is_not_touched(self):
        before = self.detail()
        view = self.edit(what="cut", start_s=4.0, end_s=6.0)
        self.assertEqual([one["told"] for one in view["edits"]], ["Cut out 2 s"])
        self.assertEqual(
            (view["length_s"], view["file_s"], view["change"], view["undo"]), (12, 14, "2 s shorter", "Cut out 2 s at 0:04.0")
        )
        after = self.detail()
        self.assertEqual((after["facts"]["duration_s"], after["edited"], before["edited"]), (12, True, False))
        heard = self.heard()
        self.assertEqual(len(heard), 12 * RATE)
        kept = np.concatenate((self.wave[: 4 * RATE], self.wave[6 * RATE :])).reshape(-1)
        away = np.abs(np.arange(len(kept)) - 4 * RATE) > HALF_S * RATE
        self.assertLess(float(np.abs(heard - kept)[away].max()), 2**-22)
        self.assertEqual(before["sha256"], after["sha256"])
        self.assertNotEqual(before["known_as"], after["known_as"])
        self.assertEqual(self.of("GET", "/tiles")["columns"][0], 12 * 200)
        deeds = self.ask("GET", f"/productions/{self.production}/record")
        self.assertIn("Edited: cut out 2 s at 0:04.0.", str(deeds))

    def test_what_was_undone_is_as_it_was_without_being_measured_again(self):
        before = self.detail()["inspection"]
        self.edit(what="cut", start_s=4.0, end_s=6.0)
        after = self.detail()["inspection"]
        view = self.step("undo")
        self.assertEqual((view["edits"], view["undo"], view["redo"]), ([], "", "Cut out 2 s at 0:04.0"))
        self.assertEqual(self.detail()["inspection"], before)
        self.assertEqual(self.step("redo")["number"], 1)
        self.assertEqual(self.detail()["inspection"], after)
        self.step("undo")
        self.edit(what="fill", start_s=1.0, end_s=1.5)
        said = self.of("POST", "/edits/redo", 409, json={"follows": 1})["error"]
        self.assertIn("nothing to redo in the edits", said)

    def test_until_it_is_measured_nothing_older_is_shown_for_it(self):
        self.edit(what="cut", start_s=4.0, end_s=6.0, measured=False)
        detail = self.detail()
        self.assertEqual((detail["inspection"], detail["ribbon"], detail["work"]["state"]), (None, None, "waiting"))
        self.of("GET", "/sound", 409, params={"start": 0, "frames": 10})
        self.work(self.recording)
        self.assertEqual(self.seconds(), 12)

    def test_a_window_that_saw_an_older_state_is_told(self):
        self.edit(what="cut", start_s=4.0, end_s=6.0)
        for path, body in (("", {"wish": {"what": "cut", "start_s": 1, "end_s": 2}}), ("/undo", {}), ("/redo", {})):
            with self.subTest(path=path):
                said = self.of("POST", f"/edits{path}", 409, json={**body, "follows": 0})["error"]
                self.assertIn("edited in another window", said)

    def test_pauses_are_foreseen_and_brought_to_a_length(self):
        pauses = [one for one in self.detail()["inspection"]["pauses"] if one["start_s"] > 0.1 and one["end_s"] < 13.9]
        longest = max(one["end_s"] - one["start_s"] for one in pauses)
        wish = {"what": "pauses", "longest_s": round(longest - 0.15, 2)}
        foreseen = self.of("POST", "/edits/foreseen", json={"wish": wish})
        self.assertGreaterEqual(foreseen["count"], 1)
        self.assertEqual(self.of("GET", "/edits")["edits"], [])
        view = self.edit(**wish)
        self.assertEqual(
            (len(view["edits"]), view["length_s"], view["change"]), (foreseen["count"], foreseen["length_s"], foreseen["change"])
        )
        detail = self.detail()
        end = detail["facts"]["duration_s"] - 0.1
        inner = [one for one in detail["inspection"]["pauses"] if one["start_s"] > 0.1 and one["end_s"] < end]
        after = [one["end_s"] - one["start_s"] for one in inner]
        self.assertLess(max(after), longest - 0.15 + 0.05)
        self.assertIn("is like that already", self.edit(409, **wish | {"longest_s": 50})["error"])

    def test_room_tone_is_put_in_and_taken_back_by_itself(self):
        self.edit(what="put-in", at_s=3.0, length_s=1.5)
        view = self.edit(what="fill", start_s=8.0, end_s=8.5)
        self.assertEqual([one["told"] for one in view["edits"]], ["Room tone put in, 1.5 s", "Replaced by room tone, 0.5 s"])
        self.assertEqual([(one["at_s"], one["put_s"]) for one in view["edits"]], [(3, 1.5), (8, 0.5)])
        room = self.heard(start_s=3.1, length_s=1.3)
        self.assertAlmostEqual(20 * np.log10(float(room.std())), -70, delta=3)
        view = self.edit(what="take-back", numbers=[1])
        self.assertEqual([one["at_s"] for one in view["edits"]], [6.5])

    def test_places_follow(self):
        inspection = self.detail()["inspection"]
        pause = max((one for one in inspection["pauses"] if one["end_s"] < 9), key=lambda one: one["end_s"] - one["start_s"])
        tone = {"start_s": round(pause["start_s"] + 0.05, 3), "end_s": round(pause["start_s"] + 0.3, 3)}
        later = round(tone["end_s"] + 1.0, 3)
        self.of("PUT", "/room-tone", 202, json=tone)
        self.work(self.recording)
        place = {"kind": "click", "start_s": later, "end_s": later + 0.01}
        self.of("PUT", "/accepted", 204, json={"findings": [place], "reason": "a page"})
        self.ask("POST", f"/listen/recording/{self.recording}/notes", 201, json={"at_s": later, "kind": "misread", "text": "twice"})
        spot = {"start_s": later, "end_s": later + 0.5, "gain_db": -3, "fade_s": 0.01}
        draft = [{"id": "a", "kind": "spot-gain", "settings": {"spots": [spot]}}]
        self.of("PUT", "/draft", json={"steps": draft, "follows": self.of("GET", "/draft")["number"]})

        def places() -> dict:
            listened = self.ask("GET", f"/listen/recording/{self.recording}")
            [note] = listened["notes"]
            tones = self.detail()["inspection"]["room_tone"]
            spots = [one for step in self.of("GET", "/draft")["steps"] for one in step["settings"]["spots"]]
            return {
                "note": note["at_s"],
                "here": note["this"],
                "tone": round(tones[0]["start_s"], 3),
                "spots": [one["start_s"] for one in spots],
            }

        was = places()
        self.assertEqual(was, {"note": later, "here": True, "tone": tone["start_s"], "spots": [later]})
        self.edit(what="put-in", at_s=0.2, length_s=2.0)
        now = places()
        for name in ("note", "tone"):
            self.assertAlmostEqual(now[name], was[name] + 2.0, delta=0.006, msg=name)
        self.assertAlmostEqual(now["spots"][0], later + 2.0, delta=0.001)
        # What is cut away is gone from sight, and back with the sound.
        view = self.edit(what="cut", start_s=later + 1.9, end_s=later + 2.8)
        cut = places()
        self.assertEqual((cut["spots"], cut["here"]), ([], True))
        self.assertAlmostEqual(cut["note"], later + 1.9, delta=0.001)
        self.assertEqual(self.of("GET", "/draft")["steps"], [], "an entry that is gone does not make the step mean everything")
        self.step("undo")
        self.step("undo")
        self.assertEqual(places(), was)
        self.assertEqual(view["number"], 2)

    def test_an_accepted_finding_stays_accepted_where_it_went(self):
        click = self.wave.copy()
        at = self.detail()["inspection"]["pauses"][1]
        middle = round((at["start_s"] + at["end_s"]) / 2 * RATE)
        click[middle : middle + 6] += 0.3
        self.recording = self.send(f"{self.made:02} clicking.wav", self.wav(click))
        [found] = [one for one in self.detail()["findings"] if one["kind"] in ("click", "mouth-noise")]
        place = {key: found[key] for key in ("kind", "start_s", "end_s")}
        self.of("PUT", "/accepted", 204, json={"findings": [place], "reason": "a page"})
        self.edit(what="put-in", at_s=0.2, length_s=1.0013)
        [moved] = [one for one in self.detail()["findings"] if one["kind"] == found["kind"]]
        self.assertAlmostEqual(moved["start_s"], found["start_s"] + 1.0013, delta=0.01)
        self.assertEqual(moved["accepted"], "a page")
        self.of("POST", "/accepted/take-back", 204, json={"findings": [{key: moved[key] for key in place}]})
        self.step("undo")
        self.assertEqual([one["accepted"] for one in self.detail()["findings"] if one["kind"] == found["kind"]], [""])

    def test_voices_follow(self):
        turns = [{"start_s": 0, "end_s": 5, "voice": 0}, {"start_s": 5, "end_s": 14, "voice": 1}]
        self.of("PUT", "/turns", 204, json={"turns": turns})
        self.edit(what="cut", start_s=4.0, end_s=6.0)
        found = self.of("GET", "/turns")["turns"]
        self.assertEqual([(one["start_s"], one["end_s"], one["voice"]) for one in found], [(0, 4, 0), (4, 12, 1)])
        self.step("undo")
        self.assertEqual(self.of("GET", "/turns")["turns"], turns)

    def test_it_is_planned_rehearsed_and_made_as_it_is_edited(self):
        self.edit(what="cut", start_s=4.0, end_s=6.0)
        planning = self.of("POST", "/plans", 202)["id"]
        self.work(planning)
        self.assertTrue(self.detail()["planning"]["plans"])
        draft = [{"id": "a", "kind": "gain", "settings": {"gain_db": 3}}]
        number = self.of("PUT", "/draft", json={"steps": draft, "follows": 0})["number"]
        asked = {"number": number, "turn": 1, "at_s": 5.0, "length_s": 1.0}
        louder = np.frombuffer(self.of("GET", "/draft/sound", params=asked), dtype="<f4")
        np.testing.assert_allclose(louder, self.heard(start_s=5.0, length_s=1.0) * 10 ** (3 / 20), rtol=1e-4, atol=1e-6)
        attempt = self.of("POST", "/conform", 202, json={})["id"]
        self.work(attempt)
        detail = self.detail()
        self.assertTrue(detail["delivered"]["passes"] and detail["delivered"]["certified"], detail["delivered"])
        self.assertAlmostEqual(detail["delivered"]["result"]["frames"] / RATE, 12, delta=0.1)
        sealed = self.ask("GET", f"/certificates/{detail['delivered']['certificate']}/sealed.json")
        cut = {"start_s": 4, "end_s": 6, "room_s": 0, "take_s": 0, "takes": []}
        self.assertEqual(sealed["certificate"]["origin"]["edits"], [cut])
        # Of other edits it does not count any more; with the same again it does.
        self.step("undo")
        self.assertIsNone(self.detail()["delivered"])
        self.assertIsNone(self.detail()["planning"])
        self.step("redo")
        self.assertTrue(self.detail()["delivered"]["certified"])

    def test_what_was_asked_for_is_made_of_the_edits_of_then(self):
        self.edit(what="cut", start_s=4.0, end_s=6.0)
        attempt = self.of("POST", "/conform", 202, json={})["id"]
        self.edit(what="cut", start_s=1.0, end_s=3.0, measured=False)
        self.work(attempt)
        [made] = self.detail()["conformings"]
        self.assertAlmostEqual(made["result"]["frames"] / RATE, 12, delta=0.1)
        self.assertIsNone(self.detail()["delivered"])

    def note(self, of: str, subject: str, at_s: float, text: str) -> None:
        self.ask("POST", f"/listen/{of}/{subject}/notes", 201, json={"at_s": at_s, "kind": "misread", "text": text})

    def tasks(self) -> dict[str, tuple[float, str]]:
        return {one["text"]: (round(one["at_s"], 3), one["corrected"]) for one in self.of("GET", "/notes")}

    def test_notes_are_things_to_do_that_know_what_was_edited_there_since(self):
        attempt = self.of("POST", "/conform", 202, json={})["id"]
        self.work(attempt)
        self.note("recording", self.recording, 5.0, "source")
        self.note("attempt", attempt, 8.0, "file")
        self.assertEqual(self.tasks(), {"source": (5, ""), "file": (8, "")})
        self.edit(what="put-in", at_s=1.0, length_s=0.5)
        self.assertEqual(self.tasks(), {"source": (5.5, ""), "file": (8.5, "")})
        self.edit(what="cut", start_s=5.0, end_s=6.0)
        self.assertEqual(self.tasks(), {"source": (5, "Cut out 1 s"), "file": (7.5, "")})
        # What is noted now knows of that edit; a note on a file that was made of it, too.
        later = self.of("POST", "/conform", 202, json={})["id"]
        self.work(later)
        self.note("recording", self.recording, 5.2, "still wrong")
        self.note("attempt", later, 7.5, "made of it")
        told = self.tasks()
        self.assertEqual((told["still wrong"], told["made of it"]), ((5.2, ""), (7.5, "")))
        self.edit(what="fill", start_s=7.2, end_s=7.6)
        told = self.tasks()
        self.assertEqual((told["made of it"][1], told["file"][1]), (2 * ("Replaced by room tone, 0.4 s",)))
        for _ in range(3):
            self.step("undo")
        self.assertEqual({one[1] for one in self.tasks().values()}, {""})

    def test_a_lossy_file_is_edited_through_its_exact_copy(self):
        self.edit(what="cut", start_s=4.0, end_s=6.0)
        attempt = self.of("POST", "/conform", 202, json={"container": "ogg"})["id"]
        self.work(attempt)
        ogg = self.ask("GET", f"/conformings/{attempt}/file")
        self.recording = self.send(f"{self.made:02} lossy.ogg", ogg)
        whole = self.heard()
        self.edit(what="cut", start_s=2.0, end_s=3.0)
        facts = self.detail()["facts"]
        self.assertEqual((facts["codec"], facts["frames"]), ("vorbis", len(whole) - RATE))
        heard, half = self.heard(), round(HALF_S * RATE)
        np.testing.assert_array_equal(heard[: 2 * RATE - half], whole[: 2 * RATE - half])
        np.testing.assert_array_equal(heard[2 * RATE + half :], whole[3 * RATE + half :])
        planning = self.of("POST", "/plans", 202)["id"]
        self.work(planning)
        self.assertIsNotNone(self.detail()["planning"])

    def test_a_newer_file_gets_the_edits_of_the_older_where_it_says_the_same(self):
        self.wave = np.concatenate([signals.voice_like(10, rms_dbfs=-24, rate=RATE, room_dbfs=-70, seed=seed) for seed in (3, 4)])
        self.recording = older = self.send(f"{self.made:02} long.wav", self.wav(self.wave))
        self.edit(what="cut", start_s=5.0, end_s=6.0)
        self.edit(what="cut", start_s=12.0, end_s=12.5)
        newer = np.concatenate((np.zeros(RATE), self.wave[: 11 * RATE] * 0.5, signals.noise(6, rms_dbfs=-40, rate=RATE)))
        with placing():
            blob = self.application.store.put([self.wav(newer)], name="long.wav")
            self.recording = str(recordings.replace(UUID(older), f"{self.made:02} long.wav", blob))
        self.work(self.recording)
        self.work(self.recording)
        view = self.of("GET", "/edits")
        [edit] = view["edits"]
        self.assertAlmostEqual(edit["file_start_s"], 6.0, delta=0.006)
        self.assertAlmostEqual(self.seconds(), 17, delta=0.006)
        record = str(self.ask("GET", f"/productions/{self.production}/record"))
        self.assertIn("Edits carried over from the older file: 1 of 2. Not found in the newer: what was edited at 0:13.0", record)
        # Undone, it stays undone however often it is measured.
        self.step("undo")
        self.of("POST", "/inspect", 202)
        self.work(self.recording)
        self.assertEqual(self.of("GET", "/edits")["edits"], [])

    def test_a_file_that_breaks_off_is_not_edited(self):
        path = self.application.folder / "whole.flac"
        soundfile.write(path, self.wave, RATE, subtype="PCM_16")
        whole = path.read_bytes()
        self.recording = self.send(f"{self.made:02} broken.flac", whole[: len(whole) // 2])
        self.assertIn("broken-off", [one["kind"] for one in self.detail()["findings"]])
        self.assertIn("breaks off before its end", self.edit(422, follows=0, what="cut", start_s=1, end_s=2)["error"])

    def test_nonsense_is_refused_in_words(self):
        for wish in (
            {"what": "cut", "start_s": 3, "end_s": 2},
            {"what": "cut", "start_s": 0, "end_s": 14},
            {"what": "cut", "start_s": 20, "end_s": 30},
            {"what": "put-in", "at_s": 99, "length_s": 1},
            {"what": "dance"},
            {"what": "cut", "start_s": "NaN", "end_s": 2},
            {"what": "pauses", "longest_s": -1},
        ):
            with self.subTest(wish=wish):
                self.assertTrue(self.edit(422, follows=0, **wish)["error"])
        self.assertEqual(self.of("GET", "/edits")["edits"], [])
