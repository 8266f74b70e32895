"""A whole production over the wire: forecast before anything runs, conformed as one sound, and again only what changed."""

import unittest
from uuid import UUID

import numpy as np
from fastapi.testclient import TestClient
from sqlalchemy import event
from sqlmodel import select

from ispettore.studio.database import engine, transaction
from ispettore.studio.tables import Conforming, Planning, Work, WorkState
from ispettore.studio.worker.doing import do
from ispettore.web.app import build
from tests import signals, speakers
from tests.support import ApplicationCase, work_for
from tests.treating import treated

RATE = 44_100
CHAPTERS = (("1.wav", "wren", -3, -66), ("2.wav", "reed", -11, -64), ("3.wav", "wren", 2, -58), ("4.wav", "reed", -15, -66))


class Forecasting(ApplicationCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.client = cls.enterClassContext(TestClient(build(), base_url="http://127.0.0.1"))

    def setUp(self):
        made = self.client.post("/api/productions", json={"name": "Almanac", "specification_id": "audiobook-retail"})
        self.production = made.json()["id"]
        self.recordings = [self.bring_in(*chapter) for chapter in CHAPTERS]

    def bring_in(self, name: str, voice: str, level: float, room: float, *, bright: bool = False, measured: bool = True) -> str:
        wave = speakers.laid(voice, rate=RATE, seconds=14).wave
        if bright:
            wave, _ = treated(wave, ("tone", {"bands": [{"kind": "high-shelf", "frequency_hz": 3_000, "gain_db": 5}]}))
        wave = (wave + speakers.room(wave.size, rate=RATE, dbfs=room)) * 10 ** (level / 20)
        path = signals.write(self.application.folder / name, wave, RATE)
        where = f"/api/productions/{self.production}/recordings"
        put = self.client.put(where, params={"name": name}, content=path.read_bytes())
        if measured:
            do(work_for(put.json()["id"]).id, self.application.store)
        return put.json()["id"]

    def ask(self, path: str, status: int = 200, **body):
        answer = self.client.post(f"/api/productions/{self.production}/{path}", json=body)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def all_done(self) -> int:
        """Do all that waits; how much that was."""
        with transaction() as session:
            waiting = session.exec(select(Work.id).where(Work.state == WorkState.WAITING)).all()
        for work in waiting:
            do(work, self.application.store)
        return len(waiting)

    def forecast(self, **approach) -> dict:
        self.ask("forecast", **approach)
        self.all_done()
        found = self.ask("forecast", **approach)
        self.assertTrue(found["done"])
        return found

    def questions(self, recordings: list[str]) -> int:
        """How often a forecast asks the database."""
        asked = []
        event.listen(engine(), "before_cursor_execute", count := lambda *_: asked.append(1))
        self.ask("forecast", recordings=recordings, one_sound=True)
        event.remove(engine(), "before_cursor_execute", count)
        return len(asked)

    def test_it_asks_the_database_as_often_for_four_as_for_two(self):
        for chosen in (self.recordings[:2], self.recordings):
            self.forecast(recordings=chosen, one_sound=True)
        self.assertEqual(self.questions(self.recordings[:2]), self.questions(self.recordings))

    def test_one_sound_is_forecast_run_and_not_run_twice(self):
        chosen = {"recordings": self.recordings}
        first = self.ask("forecast", one_sound=True, **chosen)
        self.assertFalse(first["done"])
        self.assertEqual([row["work"]["state"] for row in first["rows"]], ["waiting"] * 4)
        self.ask("forecast", one_sound=True, **chosen)
        self.assertEqual(self.all_done(), 4, "nothing is planned twice")
        found = self.ask("forecast", one_sound=True, **chosen)
        self.assertEqual((found["done"], found["will_run"], found["can_not"], found["settled"]), (True, 4, 0, 0))
        self.assertRegex(
            found["aim"], r"^Aim: active speech at −\d+\.\d dBFS and room tone at −\d+\.\d dBFS or a little below\. 2 different"
        )
        speech, room, _ = found["spreads"]
        self.assertEqual((speech["title"], room["title"]), ("Active speech level", "Room tone"))
        self.assertGreater(speech["before"], 10)
        self.assertLess(speech["after"], 1.0)
        self.assertLess(room["after"], 3.0)
        self.assertEqual([row["voice"] for row in found["rows"]], [1, 0, 1, 0])
        asked = self.ask("conform", 202, one_sound=True, **chosen)
        self.assertEqual((len(asked["asked"]), asked["settled"], asked["refused"]), (4, [], []))
        self.all_done()
        after = []
        for row, recording in zip(found["rows"], self.recordings, strict=True):
            attempt = self.client.get(f"/api/recordings/{recording}").json()["conformings"][0]
            self.assertTrue(attempt["certified"], attempt["obstacles"])
            self.assertTrue(attempt["one_sound"])
            readings = {name: reading["value"] for name, reading in attempt["result"]["readings"].items()}
            self.assertAlmostEqual(readings["active_speech_level_dbfs"], row["speech_expected_dbfs"], delta=0.5)
            self.assertAlmostEqual(readings["noise_floor_dbfs"], row["room_expected_dbfs"], delta=0.6)
            after.append((readings["active_speech_level_dbfs"], readings["noise_floor_dbfs"]))
        self.assertLess(np.ptp([one for one, _ in after]), 1.0)
        self.assertLess(np.ptp([one for _, one in after]), 3.0)
        again = self.ask("forecast", one_sound=True, **chosen)
        self.assertEqual((again["settled"], again["will_run"]), (4, 0))
        asked = self.ask("conform", 202, one_sound=True, **chosen)
        self.assertEqual((asked["asked"], len(asked["settled"])), ([], 4))
        asked = self.ask("conform", 202, one_sound=True, container="flac", **chosen)
        self.assertEqual(len(asked["asked"]), 4, "another format is another file")
        self.all_done()

    def test_each_for_itself_uses_the_plans_that_are_there(self):
        chosen = {"recordings": self.recordings[:2]}
        found = self.forecast(preference="balanced", **chosen)
        self.assertEqual((found["aim"], found["will_run"]), ("", 2))
        self.assertEqual([spread["title"] for spread in found["spreads"]], ["Active speech level", "Room tone"])
        self.client.post(f"/api/recordings/{self.recordings[0]}/plans")
        self.assertEqual(self.all_done(), 0, "the bench has them too")
        light = self.ask("forecast", preference="light", **chosen)
        self.assertTrue(light["done"])
        kept = self.forecast(treatment="quiet-room", **chosen)
        kinds = [step["kind"] for step in kept["rows"][0]["plan"]["steps"]]
        self.assertEqual(kinds[:3], ["rumble-filter", "reference-level", "compressor"])
        self.assertEqual(self.ask("forecast", 404, treatment="nowhere")["error"][:29], "This treatment was not found.")

    def test_what_is_left_out_and_what_is_not_measured_do_not_count(self):
        waiting = self.bring_in("9.wav", "wren", 0, -60, measured=False)
        found = self.forecast_of([self.recordings[0], waiting])
        self.assertEqual([row["measured"] for row in found["rows"]], [True, False])
        asked = self.ask("conform", 202, one_sound=True, recordings=[self.recordings[0], waiting])
        self.assertIn("“9.wav” has not been inspected yet", asked["refused"][0]["reason"])
        self.all_done()

    def test_what_was_cancelled_is_planned_again_when_that_is_asked_for(self):
        self.ask("forecast", one_sound=True)
        self.client.post(f"/api/productions/{self.production}/cancel")
        self.assertEqual(self.all_done(), 0)
        found = self.ask("forecast", one_sound=True)
        self.assertEqual([row["work"]["state"] for row in found["rows"]], ["cancelled"] * 4)
        self.assertEqual((found["done"], found["will_run"]), (True, 0))
        self.assertEqual(self.all_done(), 0, "looking does not begin it")
        self.ask("forecast", one_sound=True, again=True)
        self.assertEqual(self.all_done(), 4)
        self.ask("forecast", one_sound=True, again=True)
        self.assertEqual(self.all_done(), 0)
        self.assertEqual(self.ask("forecast", one_sound=True)["will_run"], 4)

    def test_plans_that_this_version_can_not_read_are_made_again(self):
        chosen = self.recordings[:1]
        self.forecast(recordings=chosen)
        with transaction() as session:
            planning = session.exec(select(Planning).where(Planning.recording_id == UUID(chosen[0]))).one()
            planning.outcome = {"plans": [{"preference": "light", "plan": {"of": "another version"}}]}
            session.add(planning)
        self.assertEqual(self.forecast(recordings=chosen)["will_run"], 1)

    def test_what_runs_as_it_was_saved_is_not_foretold_and_becomes_one_sound_by_a_plan(self):
        content = b'{"name": "As it is", "steps": [{"kind": "reference-level"}, {"kind": "gain", "settings": {"gain_db": -1}}]}'
        kept = self.client.put("/api/treatments/file", params={"name": "as.json"}, content=content).json()["id"]
        found = self.ask("forecast", treatment=kept)
        self.assertEqual([row["given"] for row in found["rows"]], [True] * 4)
        self.assertEqual((found["done"], found["will_run"], self.all_done()), (True, 4, 0))
        asked = self.ask("conform", 202, treatment=kept)["asked"]
        self.all_done()
        attempt = self.client.get(f"/api/recordings/{self.recordings[0]}").json()["conformings"][0]
        self.assertEqual((attempt["id"], attempt["own"]), (asked[0], True))
        self.assertEqual([step["kind"] for step in attempt["steps"]], ["reference-level", "gain"])
        found = self.forecast(treatment=kept, one_sound=True)
        self.assertEqual(found["will_run"], 4)
        self.assertLess(found["spreads"][0]["after"], 1.0)

    def forecast_of(self, recordings: list[str]) -> dict:
        return self.ask("forecast", one_sound=True, recordings=recordings)

    def test_another_microphone_is_brought_towards_its_voice_and_a_reference_is_followed(self):
        bright = self.bring_in("8.wav", "wren", -6, -62, bright=True)
        chosen = [*self.recordings, bright]
        found = self.forecast(one_sound=True, recordings=chosen)
        row = next(row for row in found["rows"] if row["id"] == bright)
        self.assertGreater(row["tone_apart_db"], 1.0)
        self.assertLess(row["tone_expected_db"], 0.6 * row["tone_apart_db"])
        self.assertIn("tone-match", [step["kind"] for step in row["plan"]["steps"]])
        self.assertIn("the tone of 1 closer to the others of its voice", found["aim"])
        groups = self.client.get(f"/api/recordings/{bright}/steps").json()
        offered = next(step for group in groups for step in group["steps"] if step["kind"] == "tone-match")
        self.assertEqual(len(offered["settings"]["voice_db"]), 20, "on the bench it begins with the tone of the others")
        own = self.ask("forecast", one_sound=True, tone=False, recordings=chosen)
        self.assertNotIn("tone", own["aim"].replace("room tone", ""))
        like = self.ask("forecast", one_sound=True, like=bright, recordings=chosen)
        named = next(row for row in like["rows"] if row["id"] == bright)
        self.assertEqual(named["tone_apart_db"], 0.0)

    def test_bounds_are_kept_and_what_they_leave_unlike_is_said(self):
        loud = self.bring_in("7.wav", "wren", 0, -47)
        chosen = [*self.recordings, loud]
        tight = {"noise_reduction_db": 8.0, "pauses_db": 14.0}
        found = self.forecast(one_sound=True, bounds=tight, recordings=chosen)
        row = next(row for row in found["rows"] if row["id"] == loud)
        self.assertRegex(
            row["remarks"][0], r"^Its room stays \d+\.\d dB louder than the others’: the bounds allow no more cleaning\.$"
        )
        asked = self.ask("conform", 202, one_sound=True, bounds=tight, recordings=[loud])
        with transaction() as session:
            attempt = session.get(Conforming, UUID(asked["asked"][0]))
            self.assertEqual(attempt.bounds["noise_reduction_db"], 8.0)


if __name__ == "__main__":
    unittest.main()
