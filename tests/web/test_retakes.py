"""Retakes over the wire: made to sound like the recording, put in, undone; and what can't be put in."""

import io

import numpy as np
import soundfile

from ispettore.core.measure.inspecting import measure_array
from tests import signals
from tests.web.wire import RATE, WireCase


def sounding(wave: np.ndarray, rate: int = RATE, subtype: str = "PCM_24") -> bytes:
    held = io.BytesIO()
    soundfile.write(held, wave, rate, subtype=subtype, format="WAV")
    return held.getvalue()


class Retakes(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.production = cls.make("podcast-mono")
        cls.wave = signals.voice_like(16, rms_dbfs=-24, rate=RATE, room_dbfs=-66)

    def setUp(self):
        self.recording = self.send(f"{self._testMethodName}.wav", self.wav(self.wave))
        inspection = self.of("GET", "")["inspection"]
        spoken = [one for one in inspection["speech"] if one["start_s"] > 3 and one["end_s"] < 12]
        self.span = {"start_s": round(spoken[0]["start_s"] - 0.15, 3), "end_s": round(spoken[0]["end_s"] + 0.15, 3)}

    def of(self, method: str, path: str, status: int = 200, **named):
        return self.ask(method, f"/recordings/{self.recording}{path}", status, **named)

    def take(self, content: bytes, *, span: dict | None = None, name: str = "again.wav", measured: bool = True) -> dict:
        """A retake brought in and prepared; the edits then."""
        take = self.of("PUT", "/takes", 202, params={"name": name, **(span or self.span)}, content=content)["id"]
        self.work(take)
        if measured:
            self.work(self.recording)
        return self.of("GET", "/edits")

    def heard(self, start_s: float, end_s: float) -> np.ndarray:
        where = {"start": round(start_s * RATE), "frames": round((end_s - start_s) * RATE)}
        return np.frombuffer(self.of("GET", "/sound", params=where), dtype="<f4")

    def test_another_level_rate_and_room_come_to_those_of_the_recording(self):
        quiet = signals.voice_like(5, rms_dbfs=-36, rate=48_000, room_dbfs=-95, seed=9)
        view = self.take(sounding(np.repeat(quiet.reshape(-1, 1), 2, axis=1), 48_000))
        [edit] = view["edits"]
        self.assertEqual(edit["take"]["name"], "again.wav")
        self.assertRegex(edit["told"], r"^\S+ s replaced by a retake of \S+ s$")
        self.assertRegex(edit["take"]["told"], "raised by 1.*dB, tone moved by up to .*, room tone filled up by")
        self.assertEqual(view["coming"], [])
        own = measure_array(self.heard(edit["at_s"], edit["at_s"] + edit["put_s"]).reshape(-1, 1), sample_rate_hz=RATE).inspection
        whole = measure_array(self.wave.reshape(-1, 1), sample_rate_hz=RATE).inspection
        level = "active_speech_level_dbfs"
        self.assertAlmostEqual(own.value(level), whole.value(level), delta=1.0)
        self.assertAlmostEqual(own.value("noise_floor_dbfs"), whole.value("noise_floor_dbfs"), delta=1.5)
        # Its words come as long after the cut as those that it replaces did, and go as those went.
        self.assertAlmostEqual(own.value("head_s"), 0.15, delta=0.03)
        self.assertAlmostEqual(own.value("tail_s"), 0.15, delta=0.06)
        length = self.of("GET", "")["facts"]["duration_s"]
        self.assertAlmostEqual(length, 16 - (self.span["end_s"] - self.span["start_s"]) + edit["put_s"], delta=0.001)

    def test_it_is_undone_taken_back_and_made_with_the_rest(self):
        before = self.of("GET", "")["inspection"]
        view = self.take(sounding(signals.voice_like(4, rms_dbfs=-20, rate=RATE, room_dbfs=-66, seed=9)))
        attempt = self.of("POST", "/conform", 202, json={})["id"]
        self.work(attempt)
        delivered = self.of("GET", "")["delivered"]
        self.assertTrue(delivered["certified"])
        parts = {part["title"]: part["files"] for part in self.ask("GET", f"/productions/{self.production}/disk")["parts"]}
        self.assertGreaterEqual(parts["retakes"], 2)
        sealed = self.ask("GET", f"/certificates/{delivered['certificate']}/sealed.json")["certificate"]
        [edit] = sealed["origin"]["edits"]
        self.assertEqual((len(edit["takes"]), edit["take_s"] > 1), (1, True))
        self.of("POST", "/edits/undo", json={"follows": view["number"]})
        self.assertEqual(self.of("GET", "")["inspection"], before)

    def test_it_is_put_in_at_a_moment_and_where_its_place_went(self):
        pause = next(one for one in self.of("GET", "")["inspection"]["pauses"] if one["start_s"] > 5)
        at = round((pause["start_s"] + pause["end_s"]) / 2, 3)
        where = {"name": "more.wav", "start_s": at, "end_s": at}
        content = sounding(signals.voice_like(4, rms_dbfs=-24, rate=RATE, room_dbfs=-66, seed=9))
        take = self.of("PUT", "/takes", 202, params=where, content=content)["id"]
        # While it waits, half a second before it is cut.
        self.of("POST", "/edits", json={"wish": {"what": "cut", "start_s": 1.0, "end_s": 1.5}, "follows": 0})
        self.work(take)
        edit = self.of("GET", "/edits")["edits"][1]
        self.assertAlmostEqual(edit["at_s"], at - 0.5, delta=0.001)
        self.assertEqual(edit["file_start_s"], edit["file_end_s"])

    def test_what_its_place_was_cut_out_of_is_told(self):
        take = self.of("PUT", "/takes", 202, params={"name": "again.wav", **self.span}, content=self.wav(self.wave[: 3 * RATE]))[
            "id"
        ]
        wish = {"what": "cut", "start_s": self.span["start_s"] - 0.1, "end_s": self.span["end_s"] + 0.1}
        self.of("POST", "/edits", json={"wish": wish, "follows": 0})
        self.work(take)
        [coming] = self.of("GET", "/edits")["coming"]
        self.assertIn("What “again.wav” was to replace was cut out meanwhile", coming["work"]["error"])

    def test_what_is_no_retake_is_refused_in_words(self):
        silence = signals.noise(3, rms_dbfs=-70, rate=RATE)
        for content, said in (
            (sounding(silence), "Nobody speaks in “again.wav”"),
            (b"no sound", "isn't audio|is not|no audio"),
            (sounding(np.tile(self.wave.reshape(-1), 20), RATE, "PCM_16"), "minutes long; a retake may be up to 5"),
        ):
            with self.subTest(said=said):
                view = self.take(content, measured=False)
                self.assertRegex(view["coming"][-1]["work"]["error"], said)
                self.assertEqual(view["edits"], [])
        for span in ({"start_s": 3, "end_s": 2}, {"start_s": 3, "end_s": 99}):
            answer = self.of("PUT", "/takes", 422, params={"name": "x.wav", **span}, content=b"x")
            self.assertTrue(answer["error"])

    def test_its_bytes_are_kept_and_what_rots_is_told(self):
        view = self.take(sounding(signals.voice_like(4, rms_dbfs=-24, rate=RATE, room_dbfs=-66, seed=9)))
        [edit] = view["edits"]
        inside = {"start": round((edit["at_s"] + 0.5) * RATE), "frames": 100}
        self.of("GET", "/sound", params=inside)
        from ispettore.studio.database import transaction
        from ispettore.studio.tables import TakeRecord

        with transaction() as session:
            row = session.get_one(TakeRecord, edit["take"]["id"])
        where = self.application.store.local(row.prepared_sha256)
        where.chmod(0o600)
        content = bytearray(where.read_bytes())
        content[len(content) // 2] ^= 0xFF
        where.write_bytes(content)
        said = self.of("GET", "/sound", 410, params={"start": round(edit["at_s"] * RATE), "frames": round(edit["put_s"] * RATE)})
        self.assertIn("damaged", said["error"])
