"""A take recorded over its socket: what is acknowledged is kept whatever happens, becomes a recording, and can be gone on with."""

import io
import json
import os
import struct
import time
from contextlib import contextmanager
from unittest import mock
from uuid import UUID, uuid4

import numpy as np
import soundfile
from sqlmodel import select
from starlette.websockets import WebSocketDisconnect

from ispettore.core.audio import cues
from ispettore.core.check.live import LiveLevels
from ispettore.core.treat import keeping
from ispettore.core.treat.live import LiveChain
from ispettore.core.treat.treatment import STEPS
from ispettore.demo.standin import Setting, StandIn
from ispettore.studio.catalogue.take_checks import listener
from ispettore.studio.database import transaction
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Recording
from ispettore.studio.taking import open_take, places, taking
from ispettore.web import taking as web
from tests.web.wire import WireCase

RATE = 16_000
PIECE = RATE // 50


class Takes(WireCase):
    def setUp(self):
        self.production = self.make(name=self._testMethodName)
        self.take = uuid4().hex
        self.sound = StandIn(Setting(input_db=12), sample_rate_hz=RATE).reading(6 * RATE)

    @contextmanager
    def socket(self, *, production: str = "", **opening):
        with self.client.websocket_connect(f"ws://127.0.0.1/api/productions/{production or self.production}/take") as socket:
            said = {"take": self.take, "fresh": True, "name": "Take 1", "heard_from": "A microphone", "sample_rate_hz": RATE}
            socket.send_text(json.dumps({**said, **opening}))
            self.first = self.told(socket)
            yield socket
        self.wait_closed()

    def told(self, socket) -> dict:
        message = socket.receive()
        if message["type"] == "websocket.close":
            raise WebSocketDisconnect(message["code"])
        return json.loads(message["text"]) if message.get("text") else {"treated": message["bytes"]}

    def until(self, socket, wanted) -> list[dict]:
        """What is told until something is that is wanted."""
        found = [self.told(socket)]
        while not wanted(found[-1]):
            found.append(self.told(socket))
        return found

    def kept(self, socket, frames: int) -> list[dict]:
        return self.until(socket, lambda told: told.get("kept") == frames)

    def send_sound(self, socket, first: int, last: int, *, size: int = PIECE) -> None:
        for at in range(first, last, size):
            socket.send_bytes(struct.pack("<Q", at) + self.sound[at : min(at + size, last)].astype("<f4").tobytes())

    def wait_closed(self) -> None:
        until = time.monotonic() + 20
        while open_take.is_open(self.take) and time.monotonic() < until:
            time.sleep(0.02)

    def takes(self) -> dict:
        return self.ask("GET", f"/productions/{self.production}/takes")

    def sent_in(self, recording: str) -> tuple[np.ndarray, bytes]:
        """The samples of a recording's file, and the file."""
        with transaction() as session:
            row = session.get_one(Recording, UUID(recording))
            with Store(settings().store).open(row.sha256, name=row.name) as file:
                content = file.read()
        return soundfile.read(io.BytesIO(content), dtype="float32", always_2d=True)[0], content

    def ended(self, told: dict) -> str:
        self.assertIn("error", told)
        return told["error"]

    def test_it_becomes_a_recording_bit_for_bit_with_its_marks(self):
        with self.socket() as socket:
            self.assertEqual(self.first, {"kept": 0, "marks": 0, "levels": [], "problem": "", "error": "", "again": False})
            self.send_sound(socket, 0, 3 * RATE)
            marks = [{"frame": 2 * RATE, "text": "a cough"}, {"frame": RATE, "text": ""}]
            socket.send_text(json.dumps({"marks": marks}))
            self.until(socket, lambda told: told.get("marks") == 2)
            self.assertEqual([one["goes_on"] for one in self.takes()["unfinished"]], [True])
            self.send_sound(socket, 3 * RATE, 6 * RATE)
            socket.send_text(json.dumps({"finish": 6 * RATE}))
            made = self.until(socket, lambda told: "recording" in told)[-1]["recording"]
        sound, content = self.sent_in(made)
        np.testing.assert_array_equal(sound, self.sound)
        path = self.application.folder / "take.wav"
        path.write_bytes(content)
        self.assertEqual(cues.read(path), [cues.Mark(1.0, ""), cues.Mark(2.0, "a cough")])
        self.assertEqual(soundfile.info(str(path)).subtype, "FLOAT")
        self.work(made)
        found = self.ask("GET", f"/recordings/{made}")
        self.assertEqual(found["name"], "Take 1.wav")
        self.assertEqual([one["start_s"] for one in found["findings"] if one["kind"] == "mark-set"], [1.0, 2.0])
        self.assertEqual(self.takes()["unfinished"], [])
        self.assertEqual(self.takes()["next"], "Take 2")
        record = str(self.ask("GET", f"/productions/{self.production}/record"))
        self.assertIn("Recorded here from A microphone, 0:06.", record)
        # A page that did not hear the answer asks once more.
        for again in (False, True):
            with self.socket(fresh=again):
                self.assertEqual(self.first["recording"], made)
        self.assertEqual(self.ask("POST", f"/productions/{self.production}/takes/{self.take}/finish")["id"], made)
        left = places.folder() / f"{self.take}.json"
        self.assertEqual(list(places.folder().glob(f"{self.take}*")), [left])
        os.utime(left, (1, 1))
        self.takes()
        self.assertFalse(left.exists())

    def test_it_can_end_in_the_moment_in_which_it_is_kept(self):
        with mock.patch.object(web, "KEPT_EVERY_S", 0.001):
            for _ in range(5):
                self.take = uuid4().hex
                with self.socket() as socket:
                    self.send_sound(socket, 0, 6 * RATE, size=RATE // 2)
                    socket.send_text(json.dumps({"finish": 6 * RATE}))
                    told = self.until(socket, lambda told: "recording" in told or told.get("error"))[-1]
                    self.assertEqual(told.get("error"), "")

    def test_levels_come_as_it_is_recorded_and_are_there_when_it_goes_on(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, 2 * RATE)
            levels = [
                one
                for told in self.until(socket, lambda told: any(x["at_s"] >= 2 for x in told.get("levels", [])))
                for one in told.get("levels", [])
            ]
            self.assertEqual([round(one["at_s"], 6) for one in levels], [n / 10 for n in range(1, 21)])
            peaks = [20 * np.log10(np.abs(part).max()) for part in np.split(self.sound[: 2 * RATE], 20)]
            np.testing.assert_allclose([one["peak_dbfs"] for one in levels], peaks, atol=1e-4)
            self.kept(socket, 2 * RATE)
            time.sleep(0.1)
        with self.socket(fresh=False) as socket:
            self.assertEqual((self.first["kept"], len(self.first["levels"])), (2 * RATE, 20))
            np.testing.assert_allclose([one["peak_dbfs"] for one in self.first["levels"]], peaks, atol=1e-4)
            self.send_sound(socket, 2 * RATE, 3 * RATE)
            later = self.until(socket, lambda told: any(x["at_s"] >= 3 for x in told.get("levels", [])))
            self.assertAlmostEqual(next(one["at_s"] for told in later for one in told.get("levels", [])), 2.1)

    def test_long_takes_are_drawn_again_from_few_levels(self):
        made = {"true_peak_dbtp": None, "momentary_lufs": None}
        rows = [
            LiveLevels(at_s=n / 10, peak_dbfs=-20.0 + (n == 4_321), rms_dbfs=None, full_scale=1, **made) for n in range(1, 10_001)
        ]
        places.add_levels(self.take, rows)
        self.assertEqual(len(places.levels(self.take, most=100)), 0)
        places.folder().mkdir(parents=True, exist_ok=True)
        places.sound(self.take).touch()
        places.add_levels(self.take, rows)
        drawn = places.levels(self.take, most=100)
        self.assertEqual(len(drawn), 100)
        self.assertEqual((drawn[43][1], drawn[-1][0], drawn[:, 3].sum()), (-19.0, 1_000.0, 10_000))

    def test_a_lost_connection_loses_nothing_that_was_acknowledged(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.kept(socket, RATE)
            # What was sent behind that may be lost with the connection, and is sent again.
            self.send_sound(socket, RATE, RATE + 5 * PIECE)
        [unfinished] = self.takes()["unfinished"]
        self.assertGreaterEqual(unfinished["kept_s"], 1.0)
        self.assertEqual(
            (unfinished["name"], unfinished["heard_from"], unfinished["goes_on"]), ("Take 1.wav", "A microphone", False)
        )
        with self.socket(fresh=False) as socket:
            kept = self.first["kept"]
            self.assertIn(kept, range(RATE, RATE + 5 * PIECE + 1))
            # The page holds what was not acknowledged to it, which is more: what is there already is not added again.
            self.send_sound(socket, RATE - PIECE, 6 * RATE, size=RATE // 3)
            socket.send_text(json.dumps({"finish": 6 * RATE}))
            made = self.until(socket, lambda told: "recording" in told)[-1]["recording"]
        np.testing.assert_array_equal(self.sent_in(made)[0], self.sound)

    def test_a_server_that_is_killed_keeps_what_it_acknowledged(self):
        """What lies on the disk then is the file as it was synced, and perhaps more behind it."""
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.kept(socket, RATE)
            path = places.sound(self.take)
            crashed = path.read_bytes() + b"half of a piece"
            known = path.with_suffix(".json").read_bytes()
        path.write_bytes(crashed)
        path.with_suffix(".json").write_bytes(known)
        [unfinished] = self.takes()["unfinished"]
        self.assertEqual(unfinished["kept_s"], 1.0)
        made = self.ask("POST", f"/productions/{self.production}/takes/{self.take}/finish")["id"]
        np.testing.assert_array_equal(self.sent_in(made)[0], self.sound[:RATE])

    def test_it_is_finished_once_however_often_it_ends_in_the_midst_of_that(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.kept(socket, RATE)
        where = f"/productions/{self.production}/takes/{self.take}/finish"
        for broken in ("incoming.Incoming.note", "incoming.Incoming.finish", "deeds.note"):
            with self.subTest(broken=broken), mock.patch(f"ispettore.studio.catalogue.{broken}", side_effect=OSError(28, "full")):
                self.ask("POST", where, status=507)
            self.assertEqual(len(self.takes()["unfinished"]), broken != "deeds.note")
        with transaction() as session:
            rows = session.exec(select(Recording).where(Recording.production_id == UUID(self.production))).all()
        self.assertEqual([row.name for row in rows], ["Take 1.wav"])
        self.assertEqual(self.takes()["unfinished"], [])

    def test_another_window_takes_it_over(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.kept(socket, RATE)
            older = socket
            before = self.first
            with self.socket(fresh=False) as newer:
                self.assertEqual(self.first["kept"], RATE)
                self.send_sound(older, RATE, RATE + PIECE)
                said = self.until(older, lambda told: told.get("error"))[-1]
                self.assertIn("goes on in another window", said["error"])
                self.send_sound(newer, RATE, 2 * RATE)
                self.kept(newer, 2 * RATE)
            self.assertEqual(before["kept"], 0)

    def test_while_it_is_recorded_nobody_finishes_or_discards_it(self):
        where = f"/productions/{self.production}/takes/{self.take}"
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.kept(socket, RATE)
            self.assertIn("recorded in another window", self.ask("POST", f"{where}/finish", status=409)["error"])
            self.assertIn("recorded in another window", self.ask("DELETE", where, status=409)["error"])
        self.ask("DELETE", where, status=204)
        self.assertEqual(self.takes()["unfinished"], [])
        self.ask("DELETE", where, status=404)

    def test_sound_that_is_missing_is_told(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, PIECE)
            self.send_sound(socket, 2 * PIECE, 3 * PIECE)
            self.assertIn("is missing from 0.0 s on", self.until(socket, lambda told: told["error"])[-1]["error"])
        with self.socket(fresh=False) as socket:
            socket.send_text(json.dumps({"finish": RATE}))
            self.assertIn("is missing", self.until(socket, lambda told: told["error"])[-1]["error"])
        self.assertEqual(len(self.takes()["unfinished"]), 1)

    def test_what_can_not_be_used_ends_it_and_keeps_what_came(self):
        for opening in ({"take": "x"}, {"sample_rate_hz": 1}, {"channels": 3}, {"x": 1}):
            with self.subTest(opening=opening), self.socket(**opening):
                self.assertIn("can't be used", self.ended(self.first))
        for sent in (b"\0" * 7, b"\0" * 8, b"\0" * 11, b"\0" * (9 + 4 * RATE), "{", json.dumps({"finish": -1})):
            with self.subTest(sent=sent[:10]), self.socket() as socket:
                (socket.send_bytes if isinstance(sent, bytes) else socket.send_text)(sent)
                self.assertIn("can't be used", self.until(socket, lambda told: told["error"])[-1]["error"])
        with self.socket(production=str(uuid4())):
            self.assertIn("This production was not found", self.ended(self.first))
        self.take = uuid4().hex
        with self.socket(fresh=False):
            self.assertIn("This take was not found", self.ended(self.first))

    def test_another_rate_can_not_go_on_with_it(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.kept(socket, RATE)
        with self.socket(fresh=False, sample_rate_hz=48_000):
            self.assertIn("was begun at 16000 Hz", self.ended(self.first))
        self.assertEqual(self.takes()["unfinished"][0]["kept_s"], 1.0)

    def test_an_empty_take_becomes_nothing(self):
        with self.socket() as socket:
            socket.send_text(json.dumps({"finish": 0}))
            self.assertIn("Nothing was recorded", self.until(socket, lambda told: told["error"])[-1]["error"])

    def test_a_disk_without_room_is_told_and_keeps_what_is_there(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.kept(socket, RATE)
            with mock.patch.object(open_take.GrowingWav, "append", side_effect=OSError(28, "No space left")):
                self.send_sound(socket, RATE, RATE + PIECE)
                told = self.until(socket, lambda told: told["error"])[-1]
                self.assertIn("There is no room left", told["error"])
                self.assertTrue(told["again"])
        self.assertEqual(self.takes()["unfinished"][0]["kept_s"], 1.0)
        with mock.patch.object(disk.shutil, "disk_usage", return_value=mock.Mock(free=1)):
            self.take = uuid4().hex
            with self.socket():
                self.assertIn("There is no room left", self.ended(self.first))

    def test_a_take_ends_where_files_may_be_no_larger(self):
        with mock.patch.object(open_take.settings(), "largest_upload_bytes", RATE), self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.assertIn("as long as a take can be", self.until(socket, lambda told: told["error"])[-1]["error"])

    def test_names_are_those_of_files(self):
        for name, kept in (("  Chapter 4 ", "Chapter 4.wav"), ("a.WAV", "a.WAV"), ("../x", "x.wav"), ("", "Take.wav")):
            self.take = uuid4().hex
            with self.socket(name=name):
                self.assertEqual(places.facts(self.take).name, kept)
        self.take = uuid4().hex
        with self.socket(name="a\0b"):
            self.assertTrue(self.ended(self.first))

    def test_a_listener_that_dies_loses_levels_and_no_sound(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.until(socket, lambda told: any(one["at_s"] >= 1 for one in told.get("levels", [])))
            listener().close()
            self.send_sound(socket, RATE, 2 * RATE)
            self.send_sound(socket, 2 * RATE, 3 * RATE)
            told = self.until(socket, lambda told: any(one["at_s"] >= 2.9 for one in told.get("levels", [])))
            self.assertEqual([one["error"] for one in told if one.get("error")], [])
            socket.send_text(json.dumps({"finish": 3 * RATE}))
            made = self.until(socket, lambda told: "recording" in told)[-1]["recording"]
        np.testing.assert_array_equal(self.sent_in(made)[0], self.sound[: 3 * RATE])

    def test_a_treatment_is_heard_and_says_what_it_leaves_out_and_how_much_later_it_comes(self):
        heard = {one["id"]: one["name"] for one in self.takes()["heard"]}
        self.assertEqual(heard["quiet-room"], "A quiet room")
        with self.socket(hear="quiet-room") as socket:
            told = self.until(socket, lambda told: "heard" in told)[-1]
            self.assertEqual(told["heard"]["heard"], ["Rumble filter", "Compressor"])
            self.assertEqual(told["heard"]["untaught"], ["Reference level"])
            self.send_sound(socket, 0, 2 * RATE)
            pieces = self.until(socket, lambda told: any(one["at_s"] >= 2 for one in told.get("levels", [])))
            behind = max(one.get("behind_s", 0) for one in pieces)
            self.assertGreater(behind, 0.005)
            self.assertLess(behind, 0.2)
            treated = [one["treated"] for one in pieces if "treated" in one]
            [first] = struct.unpack("<Q", treated[0][:8])
            self.assertLess(first, RATE // 10)
            sound = np.concatenate([np.frombuffer(one[8:], dtype="<f4") for one in treated])
            chain = LiveChain(
                keeping.shipped()["quiet-room"].steps, sample_rate_hz=RATE, channels=1, name="", folder=self.application.folder
            )
            silence = np.zeros((RATE // 10, 1), dtype=np.float32)  # with which the listener's begins
            wanted = chain.feed(np.concatenate((silence, self.sound[: 2 * RATE])))[RATE // 10 + first :, 0]
            np.testing.assert_allclose(sound[: len(wanted)], wanted[: len(sound)], atol=1e-5)
            self.assertGreater(len(sound), 1.9 * RATE)
            socket.send_text(json.dumps({"hear": "no-such"}))
            self.assertIn("was not found", self.until(socket, lambda told: told.get("problem"))[-1]["problem"])
            socket.send_text(json.dumps({"hear": ""}))
            self.until(socket, lambda told: told.get("heard") == {"heard": [], "left_out": [], "untaught": []})
            self.send_sound(socket, 2 * RATE, 3 * RATE)
            after = self.until(socket, lambda told: any(x["at_s"] >= 3 for x in told.get("levels", [])))
            self.assertFalse(any("treated" in one for one in after))

    def test_what_the_production_was_conformed_by_last_stands_first(self):
        self.assertNotIn("conformed", [one["id"] for one in self.takes()["heard"]])
        with self.socket(hear="conformed") as socket:
            self.assertIn("was not found", self.until(socket, lambda told: told.get("problem"))[-1]["problem"])
        where = f"/api/productions/{self.production}/recordings"
        recording = self.client.put(where, params={"name": "Chapter 1.wav"}, content=self.voice(-26)).json()["id"]
        self.work(recording)
        self.work(self.ask("POST", f"/recordings/{recording}/conform", 202, json={})["id"])
        self.assertEqual(self.takes()["heard"][0], {"id": "conformed", "name": "As “Chapter 1.wav” was conformed"})
        steps = [one["kind"] for one in self.ask("GET", f"/recordings/{recording}")["conformings"][0]["steps"]]
        self.take = uuid4().hex
        with self.socket(hear="conformed") as socket:
            told = self.until(socket, lambda told: "heard" in told)[-1]["heard"]
        self.assertEqual(sorted((*told["heard"], *told["left_out"])), sorted(STEPS[kind].title for kind in steps))
        self.assertIn("Gain", told["heard"])

    def test_the_stand_in_reads_as_it_is_set(self):
        def loud(**setting) -> float:
            content = self.ask("GET", "/stand-in", params=setting)
            sound, rate = soundfile.read(io.BytesIO(content))
            self.assertEqual((rate, len(sound)), (48_000, 60 * 48_000))
            return 10 * float(np.log10(np.mean(sound**2)))

        self.assertAlmostEqual(loud(input_db=6) - loud(input_db=0), 6, delta=0.1)
        self.ask("GET", "/stand-in", params={"distance_cm": 1}, status=422)

    def test_only_so_many_at_once(self):
        with mock.patch.object(web, "MOST", 1), self.socket() as one:
            self.take = uuid4().hex
            with self.socket():
                self.assertIn("1 takes are being recorded", self.ended(self.first))
            self.send_sound(one, 0, RATE)
            self.kept(one, RATE)

    def test_a_take_of_another_production_is_not_there(self):
        with self.socket() as socket:
            self.send_sound(socket, 0, RATE)
            self.kept(socket, RATE)
        other = self.make(name="Another")
        for method, path in (("POST", "/finish"), ("DELETE", "")):
            self.ask(method, f"/productions/{other}/takes/{self.take}{path}", status=404)
        with self.socket(production=other, fresh=False):
            self.assertIn("This take was not found", self.ended(self.first))
        self.assertEqual(len(taking.listed(UUID(self.production)).unfinished), 1)
