"""The take check over its socket: levels as they come, the room and the sentences, what it comes to; and who is let in."""

import json
from contextlib import contextmanager

import numpy as np
from starlette.websockets import WebSocketDisconnect

from ispettore.core.check.advice import take_check
from ispettore.core.check.figures import check
from ispettore.core.check.session import READING_S, ROOM_S
from ispettore.core.spec import catalogue
from ispettore.demo.standin import Setting, StandIn
from ispettore.studio.catalogue import take_checks
from ispettore.web import checking
from tests.web.wire import WireCase

RATE = 16_000


class TakeChecks(WireCase):
    def setUp(self):
        self.production = self.make(name=self._testMethodName)

    @contextmanager
    def socket(self, production: str = "", **opening):
        with self.client.websocket_connect(f"ws://127.0.0.1/api/productions/{production or self.production}/take-check") as socket:
            socket.send_text(json.dumps({"source": "microphone", "sample_rate_hz": RATE, **opening}))
            self.first = socket.receive_json()
            yield socket

    def checks(self) -> list[dict]:
        return self.ask("GET", f"/productions/{self.production}/take-checks")["checks"]

    def heard(self, socket, samples: np.ndarray) -> dict:
        socket.send_bytes(samples.astype("<f4").tobytes())
        return socket.receive_json()

    def through(self, socket, stand_in: StandIn, *, reading_s: float = READING_S[1]) -> tuple[dict, list[np.ndarray]]:
        """A whole check of what the stand-in says, in pieces of a tenth of a second; what it came to, and what was heard."""
        socket.send_text(json.dumps({"act": "begin"}))
        self.assertEqual(socket.receive_json()["state"], "room")
        parts: list[list[np.ndarray]] = [[], []]
        state, step = "room", RATE // 10
        while state != "complete":
            if state == "reading" and len(parts[1]) * 0.1 >= reading_s:
                socket.send_text(json.dumps({"act": "finish"}))
                state = socket.receive_json()["state"]
                continue
            block = stand_in.room(step) if state == "room" else stand_in.reading(step)
            parts[state == "reading"].append(block)
            told = self.heard(socket, block)
            self.assertEqual((len(told["levels"]), told["error"]), (1, ""))
            state = told["state"]
        return socket.receive_json(), [np.concatenate(part) for part in parts]

    def test_levels_come_ten_times_a_second_and_nothing_is_kept(self):
        stand_in = StandIn(Setting(), sample_rate_hz=RATE)
        with self.socket() as socket:
            self.assertEqual((self.first["state"], self.first["levels"]), ("listening", []))
            for n in range(1, 8):
                told = self.heard(socket, stand_in.reading(RATE // 10))
                self.assertEqual((told["state"], len(told["levels"])), ("listening", 1))
                self.assertAlmostEqual(told["levels"][0]["at_s"], n / 10)
            uneven = self.heard(socket, stand_in.reading(RATE // 4))
            self.assertEqual(len(uneven["levels"]), 2)
            self.heard(socket, np.zeros(RATE // 10))
            silence = self.heard(socket, np.zeros(RATE // 10))["levels"][-1]
            self.assertEqual((silence["peak_dbfs"], silence["full_scale"]), (None, 0))
        self.assertEqual(self.checks(), [])

    def test_a_check_is_what_the_core_makes_of_the_same_sound_and_is_kept(self):
        setting = Setting(room_dbfs=-72, input_db=6)
        with self.socket(distance_cm=30, name="A microphone") as socket:
            said, (room, voice) = self.through(socket, StandIn(setting, sample_rate_hz=RATE), reading_s=12)
            found = said["check"]["found"]
            self.assertEqual((len(room) / RATE, len(voice) / RATE), (ROOM_S, 12.0))
            wanted = take_check(
                check(room, voice, sample_rate_hz=RATE), catalogue.find("audiobook-retail"), distance_cm=30
            ).model_dump(mode="json")
            self.assertEqual(found, wanted)
            self.assertFalse(found["ready"])
            # It listens on, and checks again.
            self.assertEqual(self.heard(socket, np.zeros(RATE // 10))["state"], "listening")
        [kept] = self.checks()
        self.assertEqual((kept["found"], kept["heard_from"], kept["distance_cm"]), (wanted, "A microphone", 30))
        self.assertEqual((kept["specification"]["id"], kept["compared"]), ("audiobook-retail", []))
        record = str(self.ask("GET", f"/productions/{self.production}/record"))
        self.assertIn("Take check: not ready.", record)

    def test_checks_are_held_against_the_one_before(self):
        for room_dbfs in (-90, -84):
            with self.socket() as socket:
                self.through(socket, StandIn(Setting(room_dbfs=room_dbfs, input_db=12), sample_rate_hz=RATE), reading_s=9)
        newest, first = self.checks()
        self.assertEqual(first["compared"], [])
        self.assertRegex(newest["compared"][0], r"^Against the voice, the room is 6 dB louder than at the check before\.$")

    def test_the_stand_in_is_heard_here_and_can_be_turned(self):
        with self.socket(source="stand-in", setting={"input_db": 0}) as socket:
            first = [socket.receive_json()["levels"][0]["peak_dbfs"] for _ in range(4)]
            socket.send_text(json.dumps({"setting": {"input_db": 20}}))
            later = [one["peak_dbfs"] for _ in range(6) for one in socket.receive_json()["levels"]]
            self.assertAlmostEqual(max(later) - max(first), 20, delta=8)
            socket.send_text(json.dumps({"act": "begin"}))
            states = [socket.receive_json()["state"] for _ in range(4)]
            self.assertEqual(states[-1], "room")
            socket.send_text(json.dumps({"act": "give up"}))
            self.assertIn("listening", [socket.receive_json()["state"] for _ in range(3)])

    def test_a_check_of_the_stand_in_is_the_same_whenever_it_begins(self):
        rooms = []
        with self.socket(source="stand-in", sample_rate_hz=RATE) as socket:
            for _ in range(2):
                socket.send_text(json.dumps({"act": "begin"}))
                levels = []
                while len(levels) < 5:
                    told = socket.receive_json()
                    levels += told["levels"] if told["state"] == "room" else []
                rooms.append([one["rms_dbfs"] for one in levels[1:5]])
                socket.send_text(json.dumps({"act": "give up"}))
        np.testing.assert_allclose(rooms[0], rooms[1], atol=0.01)

    def test_sentences_that_are_too_short_go_on(self):
        stand_in = StandIn(Setting(), sample_rate_hz=RATE)
        with self.socket() as socket:
            socket.send_text(json.dumps({"act": "begin"}))
            socket.receive_json()
            for _ in range(11):
                told = self.heard(socket, stand_in.room(RATE))
            self.assertEqual((told["state"], told["read_s"]), ("reading", 1.0))
            socket.send_text(json.dumps({"act": "finish"}))
            self.assertEqual(socket.receive_json()["state"], "reading")

    def test_what_can_not_be_used_ends_it_in_words(self):
        for opening in ({"source": "radio"}, {"sample_rate_hz": 1}, {"channels": 9}, {"setting": {"distance_cm": -1}}, {"x": 1}):
            with self.subTest(opening=opening), self.socket(**opening):
                self.assertIn("can't be used", self.first["error"])
        for sent in (b"\0" * 5, b"\0" * (4 * RATE + 4), "{", json.dumps({"act": "dance"})):
            with self.subTest(sent=sent[:10]), self.socket() as socket:
                (socket.send_bytes if isinstance(sent, bytes) else socket.send_text)(sent)
                self.assertIn("can't be used", socket.receive_json()["error"])
        with self.socket(name="a\0b"):
            self.assertIn("a null character", self.first["error"])
        with self.socket(production="00000000-0000-0000-0000-000000000000"):
            self.assertIn("production", self.first["error"])
        with self.socket() as socket:
            told = self.heard(socket, np.full(RATE // 10, np.nan))
            self.assertEqual(told["levels"][0]["peak_dbfs"], None)

    def test_a_microphone_that_falls_silent_is_told(self):
        was, checking.SILENT_FOR_S = checking.SILENT_FOR_S, 0.2
        try:
            with self.socket() as socket:
                self.assertIn("No sound came for", socket.receive_json()["error"])
        finally:
            checking.SILENT_FOR_S = was

    def test_where_the_process_dies_it_is_told_and_the_next_check_works(self):
        stand_in = StandIn(Setting(), sample_rate_hz=RATE)
        with self.socket() as socket:
            self.heard(socket, stand_in.reading(RATE // 10))
            take_checks.listener()._child.kill()
            take_checks.listener()._child.join()
            self.assertIn("interrupted", self.heard(socket, stand_in.reading(RATE // 10))["error"])
        with self.socket() as socket:
            self.assertEqual(len(self.heard(socket, stand_in.reading(RATE // 10))["levels"]), 1)

    def test_only_so_many_at_once(self):
        was, checking.MOST = checking.MOST, 1
        try:
            with self.socket() as one, self.socket():
                self.assertIn("Here 1 take checks are under way", self.first["error"])
                self.heard(one, np.zeros(RATE // 10))
        finally:
            checking.MOST = was

    def test_another_site_s_page_opens_none(self):
        path = f"ws://127.0.0.1/api/productions/{self.production}/take-check"
        for origin in ("http://elsewhere.example", "null", "https://127.0.0.1"):
            with self.assertRaises(WebSocketDisconnect), self.client.websocket_connect(path, headers={"origin": origin}):
                pass
        with self.client.websocket_connect(path, headers={"origin": "http://127.0.0.1"}) as socket:
            socket.send_text("{}")
            self.assertIn("can't be used", socket.receive_json()["error"])
