"""Sound under the voice over the wire: brought in, laid, heard, planned, made, certified; changed elsewhere, replaced, archived."""

import io
from uuid import UUID

import numpy as np
import soundfile

from ispettore.core.plan import kept as kept_outcomes
from ispettore.demo import bed as demo_bed
from ispettore.demo import scenario
from ispettore.studio.catalogue import beds
from ispettore.studio.catalogue import recordings as catalogued
from ispettore.studio.database import transaction
from ispettore.studio.tables import Conforming, Recording
from ispettore.studio.worker import seeding
from tests import signals
from tests.web.wire import RATE, WireCase

BED = {"lower_db": 9.0}


def music(seconds: float = 6.0, container: str = "FLAC") -> bytes:
    held = io.BytesIO()
    soundfile.write(held, demo_bed.harmonium(seconds), RATE, format=container)
    return held.getvalue()


def trace_of(content: bytes) -> np.ndarray:
    """The client has inflated it."""
    return np.cumsum(np.frombuffer(content, dtype="<i2"), dtype=np.int16) / 100


class BedCase(WireCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.music = music()
        cls.voice_content = cls.wav(signals.voice_like(12, rms_dbfs=-24, rate=RATE, room_dbfs=-72, head=1.5))

    def setUp(self):
        type(self).production = self.make("podcast-mono", self._testMethodName)
        self.recording = self.send("Room.wav", self.voice_content)
        self.sound = self.bring("Sluice.flac", self.music)

    def bring(self, name: str, content: bytes, *, measured: bool = True) -> dict:
        """A sound brought in and measured, as the page sees it."""
        sound = self.ask("PUT", f"/productions/{self.production}/bed-sounds", 202, params={"name": name}, content=content)["id"]
        if measured:
            self.work(sound)
        return next(one for one in self.bed()["sounds"] if one["id"] == sound)

    def bed(self, recording: str = "") -> dict:
        return self.ask("GET", f"/recordings/{recording or self.recording}/bed")

    def clip(self, **how) -> dict:
        return {"sound": self.sound["sound"], "out_s": 6.0, "loop": True, "level_lu": -12.0, **how}

    def lay(self, *clips: dict, status: int = 200, **how) -> dict:
        body = {"bed": {**BED, "clips": list(clips or (self.clip(),)), **how}, "follows": self.bed()["state"]}
        return self.ask("PUT", f"/recordings/{self.recording}/bed", status, json=body)

    def lowering(self) -> np.ndarray:
        """How far the voice will lower the bed, each 50 ms."""
        return trace_of(self.client.get(f"/api/recordings/{self.recording}/bed/lowering").content)

    def conformed(self, recording: str = "") -> dict:
        attempt = self.ask("POST", f"/recordings/{recording or self.recording}/conform", 202, json={})["id"]
        self.work(attempt)
        of = self.ask("GET", f"/recordings/{recording or self.recording}")
        return next(one for one in of["conformings"] if one["id"] == attempt)


class Laying(BedCase):
    def test_a_sound_is_measured_laid_and_tells_what_it_will_do(self):
        self.assertEqual((self.sound["name"], self.sound["channels"], self.sound["duration_s"]), ("Sluice.flac", 2, 6.0))
        self.assertLess(self.sound["loudness_lufs"], -10)
        before = self.bed()
        self.assertEqual((before["own"], before["bed"]["clips"], before["made_by"]), (False, [], None))
        found = self.lay()
        self.assertTrue(found["own"])
        self.assertEqual(found["bed"]["clips"][0]["name"], "Sluice.flac")
        self.assertEqual(found["heard"], [{"start_s": 0.0, "end_s": 12.0}])
        lowered = self.lowering()
        self.assertEqual((lowered.size, lowered.min()), (240, -9))
        self.assertEqual(lowered[:20].tolist(), [0.0] * 20, "a second before the first word it is up")
        spoken = self.ask("GET", f"/recordings/{self.recording}")["inspection"]["speech"]
        for span in spoken:
            self.assertLess(lowered[round(span["start_s"] * 20)], -8.9, "down when the word begins")
        self.assertIsNone(found["planned"])
        self.assertIsNone(found["made"])

    def test_a_file_that_can_not_be_sought_in_is_read_from_a_lossless_copy(self):
        sound = self.bring("Sluice.ogg", music(container="OGG"))
        self.assertTrue(sound["sound"])
        self.assertNotEqual(sound["sound"], self.sound["sound"])
        self.lay(self.clip(sound=sound["sound"]))
        self.assertTrue(self.conformed()["sha256"])

    def test_the_same_file_is_one_sound_and_what_can_not_be_read_says_so(self):
        again = self.ask("PUT", f"/productions/{self.production}/bed-sounds", 202, params={"name": "b.flac"}, content=self.music)
        self.assertEqual(again["id"], self.sound["id"])
        broken = self.bring("Broken.wav", b"RIFF nothing of that kind" * 9)
        self.assertEqual((broken["sound"], broken["work"]["state"]), ("", "failed"))
        self.assertIn("Broken.wav", broken["work"]["error"])
        nowhere = "00000000-0000-4000-8000-000000000000"
        self.ask("PUT", f"/productions/{nowhere}/bed-sounds", 404, params={"name": "b.flac"}, content=self.music)

    def test_what_does_not_fit_is_refused_in_words_and_changes_nothing(self):
        self.lay()
        said = self.lay(self.clip(sound="ab" * 32), status=422)
        self.assertIn("names a sound that is not in this production", str(said))
        self.lay(self.clip(in_s=3.0, out_s=3.05), status=422)
        self.assertIn("Level: enter −60 to 6 LU.", str(self.lay(self.clip(level_lu=30.0), status=422)))
        self.assertIn("Lowered by: enter 0 to 40 dB.", str(self.lay(lower_db=99.0, status=422)))
        self.assertIn("At: enter 0 to 86,400 s.", str(self.lay(self.clip(at_s=1e9), status=422)))
        self.assertIn("does not know the setting", str(self.lay(louder=True, status=422)))
        stale = {"bed": {"clips": []}, "follows": "0" * 16}
        said = self.ask("PUT", f"/recordings/{self.recording}/bed", 409, json=stale)
        self.assertIn("changed in another window", str(said))
        self.assertEqual(len(self.bed()["bed"]["clips"]), 1)

    def test_under_the_production_unless_a_recording_has_its_own(self):
        other = self.send("Hall.wav", self.wav(signals.voice_like(8, rms_dbfs=-20, rate=RATE)))
        whole = {"bed": {**BED, "clips": [self.clip(level_lu=-20.0)]}, "follows": self.bed()["of_production_state"]}
        said = self.ask("PUT", f"/productions/{self.production}/bed", json=whole)
        self.assertEqual(said["state"], self.bed()["of_production_state"])
        self.ask("PUT", f"/productions/{self.production}/bed", 409, json=whole)
        for recording in (self.recording, other):
            found = self.bed(recording)
            self.assertEqual((found["own"], found["bed"]["clips"][0]["level_lu"]), (False, -20.0))
        self.lay(self.clip(level_lu=-8.0))
        self.assertEqual(self.bed()["bed"]["clips"][0]["level_lu"], -8.0)
        self.assertEqual(self.bed()["of_production"]["clips"][0]["level_lu"], -20.0)
        self.assertEqual(self.bed(other)["bed"]["clips"][0]["level_lu"], -20.0)
        nothing = {"bed": {"clips": []}, "follows": self.bed()["state"]}
        found = self.ask("PUT", f"/recordings/{self.recording}/bed", json=nothing)
        self.assertEqual((found["own"], found["bed"]["clips"]), (True, []), "nothing of its own is not that of the production")
        shared = self.ask("POST", f"/recordings/{self.recording}/bed/shared", json={"follows": found["state"]})
        self.assertEqual((shared["own"], shared["bed"]["clips"][0]["level_lu"]), (False, -20.0))

    def test_a_sound_that_lies_somewhere_stays_on_the_list(self):
        self.lay()
        said = self.ask("DELETE", f"/bed-sounds/{self.sound['id']}", 409)
        self.assertIn("Take it out of their beds first", str(said))
        self.ask("PUT", f"/recordings/{self.recording}/bed", json={"bed": {"clips": []}, "follows": self.bed()["state"]})
        self.ask("DELETE", f"/bed-sounds/{self.sound['id']}", 204)
        self.assertEqual(self.bed()["sounds"], [])
        self.ask("DELETE", f"/bed-sounds/{self.sound['id']}", 404)


class Made(BedCase):
    def test_the_mix_is_conformed_and_certified_and_the_voice_stays_visible(self):
        self.lay()
        made = self.conformed()
        self.assertIsNotNone(made["certificate"])
        self.assertEqual(made["made_by"], "balanced plan, with a bed")
        mix, after = made["mix"], made["result"]["readings"]["integrated_loudness_lufs"]["value"]
        self.assertAlmostEqual(mix["mix_lufs"], after, places=2)
        self.assertLess(mix["voice_lufs"], mix["mix_lufs"])
        self.assertAlmostEqual(mix["difference_lu"], mix["voice_lufs"] - mix["mix_lufs"], places=2)
        self.assertGreater(mix["above_bed_lu"], 12)
        self.assertIn("bed", [line["kind"] for line in made["ledger"]])
        found = self.bed()
        self.assertEqual(found["made"], mix)
        self.assertEqual(found["made_by"], made["id"])
        did = trace_of(self.client.get(f"/api/conformings/{made['id']}/lowering").content)
        self.assertLess(float(np.mean(np.abs(self.lowering() - did))), 0.5, "it came as it was predicted")
        with transaction() as session:
            outcome = kept_outcomes.conformed(session.get_one(Conforming, UUID(made["id"])).outcome)
        self.assertEqual(outcome.treatment.find("bed").settings["clips"][0]["name"], "Sluice.flac")
        paper = self.ask("GET", f"/certificates/{made['certificate']}/sealed.json")
        self.assertIn(b"Sluice.flac", paper if isinstance(paper, bytes) else str(paper).encode())

    def test_it_is_planned_with_its_reason_and_planned_anew_when_it_changes(self):
        def planned() -> dict:
            asked = self.ask("POST", f"/recordings/{self.recording}/plans", 202)["id"]
            self.work(asked)
            return self.ask("GET", f"/recordings/{self.recording}")["planning"]

        plain = planned()
        self.assertIsNone(plain["plans"][0]["under"])
        self.lay()
        self.assertIsNone(self.ask("GET", f"/recordings/{self.recording}")["planning"], "the plan was for the voice alone")
        [entry] = self.ask("GET", f"/productions/{self.production}/sheet")["entries"]
        self.assertEqual(entry["status"], "outside")
        found = planned()
        under = found["plans"][0]["under"]
        self.assertIn(under["reason"], ("", "voice", "bed"))
        self.assertLess(under["mix"]["voice_lufs"], under["mix"]["mix_lufs"])
        expected = self.bed()["planned"]
        self.assertEqual((expected["reason"], expected["said"]), (under["reason"], under["said"]))
        predicted = found["plans"][0]["predicted"]["integrated_loudness_lufs"]
        self.assertAlmostEqual(expected["mix"]["mix_lufs"], predicted, places=2)
        self.assertAlmostEqual(expected["mix"]["difference_lu"], under["mix"]["difference_lu"], places=2)
        self.assertNotIn("bed", [step["kind"] for step in found["plans"][0]["steps"]], "it is none of the treatment")

    def test_a_file_with_another_bed_counts_no_more_until_it_is_laid_again(self):
        first = self.lay()
        made = self.conformed()
        counts = lambda: self.ask("GET", f"/recordings/{self.recording}")["delivered"]  # noqa: E731
        self.assertEqual(counts()["id"], made["id"])
        self.lay(self.clip(level_lu=-9.0))
        self.assertIsNone(counts())
        self.assertIsNone(self.bed()["made_by"])
        said = self.ask("POST", f"/conformings/{made['id']}/current", 409)
        self.assertTrue(said)
        self.lay(*first["bed"]["clips"])
        self.assertEqual(counts()["id"], made["id"])
        same = self.ask("POST", f"/productions/{self.production}/conform", 202, json={})
        self.assertTrue(same)

    def test_it_is_heard_before_it_is_made_as_it_will_sound(self):
        self.lay(self.clip(level_lu=-6.0), lower_db=0.0)
        heard = self.client.get(f"/api/recordings/{self.recording}/bed/sound", params={"turn": 1, "at_s": 2.0, "length_s": 3.0})
        self.assertEqual((heard.status_code, heard.headers["x-channels"], heard.headers["x-rate"]), (200, "1", str(RATE)))
        mixed = np.frombuffer(heard.content, dtype="<f4")
        where = {"start": 2 * RATE, "frames": 3 * RATE}
        voice = np.frombuffer(self.ask("GET", f"/recordings/{self.recording}/sound", params=where), dtype="<f4")
        self.assertEqual(mixed.size, voice.size)
        under = 20 * np.log10(np.sqrt(np.mean((mixed - voice) ** 2)))
        self.assertGreater(under, -45)
        self.assertLess(under, -20)

    def test_a_newer_file_keeps_it_and_a_draft_is_heard_with_it(self):
        self.lay()
        path = self.application.folder / "newer.wav"
        path.write_bytes(self.wav(signals.voice_like(12, rms_dbfs=-30, rate=RATE, seed=8)))
        newer = str(catalogued.replace(UUID(self.recording), "Room.wav", self.application.store.put_file(path)))
        self.work(newer)
        self.assertTrue(self.bed(newer)["own"])
        self.assertEqual(self.bed(newer)["bed"]["clips"][0]["name"], "Sluice.flac")
        state = self.ask("GET", f"/recordings/{newer}/draft")
        step = {"id": "a", "kind": "gain", "settings": {"gain_db": 3.0}}
        drafted = self.ask("PUT", f"/recordings/{newer}/draft", json={"steps": [step], "follows": state["number"]})
        asked = {"number": drafted["number"], "turn": 1}
        foretold = self.ask("GET", f"/recordings/{newer}/draft/foretold", params=asked)
        self.assertEqual([line["kind"] for line in foretold["lines"]], ["", "bed", "gain"])
        heard = self.client.get(f"/api/recordings/{newer}/draft/sound", params={**asked, "at_s": 0.0, "length_s": 1.0})
        self.assertGreater(float(np.abs(np.frombuffer(heard.content, dtype="<f4")).max()), 0.005, "the bed, before anybody speaks")


class Demo(WireCase):
    def test_the_museum_guide_has_a_bed_of_its_own_making(self):
        museum = next(one for one in scenario.PRODUCTIONS if one.bed is not None)
        self.assertEqual(museum.name, "Museum guide")
        identifier = seeding._identifier(museum)
        for _ in range(2):  # once more changes nothing
            seeding.seed(self.application.store)
        with transaction() as session:
            recordings = session.query(Recording).where(Recording.production_id == identifier).all()
            texts = {beds.of(session, one) for one in recordings}
        self.assertEqual(len(texts), 1)
        [clip] = beds.read(texts.pop()).clips
        self.assertEqual((clip.name, clip.loop), (demo_bed.NAME, True))
