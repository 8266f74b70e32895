"""The intake desk by itself: its meter against references, what it accepts and rejects, its protocol, and its seeded moods."""

import hashlib
import io
import tempfile
import time
import unittest
import zipfile
from pathlib import Path

import httpx
import jsonschema
import numpy as np
import pyloudnorm
import soundfile

from ispettore.desk.checking import asked, check
from ispettore.desk.faults import Faults
from ispettore.desk.meter import Unreadable, measure
from ispettore.desk.service import Desk
from tests import signals
from tests.desks import TOKEN, served

RATE = 44_100


def encoded(wave: np.ndarray, kind: str = "WAV", rate: int = RATE) -> bytes:
    out = io.BytesIO()
    soundfile.write(out, wave, rate, format=kind, subtype=None if kind == "MP3" else "PCM_24")
    return out.getvalue()


def packed(files: dict[str, bytes], *, sums: dict[str, str] | None = None, top: str = "Book/") -> bytes:
    """A package as a ZIP file."""
    listed = sums if sums is not None else {name: hashlib.sha256(content).hexdigest() for name, content in files.items()}
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as zipped:
        for name, content in files.items():
            zipped.writestr(top + name, content)
        if listed:
            zipped.writestr(f"{top}SHA256SUMS", "".join(f"{sha256}  {name}\n" for name, sha256 in listed.items()))
    return out.getvalue()


def voice(rms_dbfs: float = -20, seconds: float = 8, **more) -> np.ndarray:
    return signals.voice_like(seconds, rms_dbfs=rms_dbfs, rate=RATE, room_dbfs=-72, **more)


class Meter(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.path = Path(held.name) / "a.wav"

    def read(self, wave: np.ndarray, rate: int = RATE):
        self.path.write_bytes(encoded(wave, rate=rate))
        return measure(self.path)

    def test_a_sine_reads_what_the_standards_say(self):
        t = np.arange(30 * 48_000) / 48_000
        found = self.read(np.repeat(0.1 * np.sin(2 * np.pi * 1_000 * t)[:, None], 2, axis=1), 48_000).readings
        self.assertAlmostEqual(found["sample_peak_dbfs"], -20, delta=0.01)
        self.assertAlmostEqual(found["rms_dbfs"], -23.01, delta=0.01)
        self.assertAlmostEqual(found["integrated_loudness_lufs"], -20, delta=0.1)
        self.assertAlmostEqual(found["noise_floor_quietest_dbfs"], -23.01, delta=0.05)
        self.assertEqual((found["duration_s"], found["channels"], found["sample_rate_hz"]), (30, 2, 48_000))

    def test_loudness_is_that_of_another_library(self):
        for seed in range(3):
            wave = voice(-22, seed=seed)
            mono = wave if wave.ndim == 1 else wave[:, 0]
            reference = pyloudnorm.Meter(RATE).integrated_loudness(mono)
            self.assertAlmostEqual(self.read(mono).readings["integrated_loudness_lufs"], reference, delta=0.1)

    def test_the_quietest_half_second_is_found_and_dead_silence_is_none(self):
        rng = np.random.default_rng(4)
        wave = 0.1 * rng.standard_normal(10 * RATE)
        wave[3 * RATE : 4 * RATE] *= 0.01
        wave[6 * RATE : 7 * RATE] = 0
        wave += 0.05  # an offset is no noise
        wave[6 * RATE : 7 * RATE] = 0
        found = self.read(np.clip(wave, -1, 1)).readings
        self.assertAlmostEqual(found["noise_floor_quietest_dbfs"], -60, delta=0.3)
        self.assertEqual(found["quietest_dbfs"], -120)

    def test_long_files_are_read_in_blocks_of_any_rate(self):
        for rate in (8_000, 22_050, 96_000):
            wave = signals.noise(25, rms_dbfs=-30, rate=rate)
            self.assertAlmostEqual(self.read(wave, rate).readings["rms_dbfs"], -30, delta=0.05)

    def test_what_is_no_recording_says_so(self):
        for content in (b"", b"Dear listener,", encoded(np.zeros((0, 1)))):
            self.path.write_bytes(content)
            with self.subTest(size=len(content)), self.assertRaises(Unreadable):
                measure(self.path)
        self.assertIsNone(self.read(np.zeros(RATE)).readings["rms_dbfs"])


class Checking(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.mp3 = encoded(voice(), "MP3")
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)

    def answer(self, content: bytes, requirements: str = "any-recordings"):
        package = self.folder / "package.zip"
        package.write_bytes(content)
        return check(package, asked()[requirements], self.folder)

    def test_whole_packages_are_accepted_in_a_folder_or_not(self):
        for top in ("Book/", ""):
            found = self.answer(packed({"01.mp3": self.mp3, "certificates/01.mp3.certificate.json": b"{}"}, top=top))
            self.assertEqual((found.accepted, found.reasons, [file.name for file in found.files]), (True, [], ["01.mp3"]))

    def test_what_is_wrong_with_a_package_or_a_file_is_said(self):
        listed = hashlib.sha256(self.mp3).hexdigest()
        for content, words in (
            (b"no zip", "can't be opened as a ZIP file"),
            (packed({"01.mp3": self.mp3}, sums={}), "no list of hashes"),
            (packed({"01.mp3": self.mp3}, sums={"01.mp3": listed, "02.mp3": listed}), "“02.mp3” is in the list of hashes but not"),
            (packed({"01.mp3": self.mp3, "x.txt": b"x"}, sums={"01.mp3": listed}), "“x.txt” is in the package but not"),
            (packed({"01.mp3": self.mp3}, sums={"01.mp3": "0" * 64}), "damaged on the way"),
            (packed({"01.mp3": b"Dear listener,"}), "can't be decoded"),
            (packed({"certificates/a.json": b"{}"}), "There is no recording in it"),
            (
                packed({"01.mp3": self.mp3, "certificates/a": b"x"}, sums={"01.mp3": listed, "certificates/a": "0" * 64}),
                "is not what",
            ),
        ):
            found = self.answer(content)
            with self.subTest(words=words):
                self.assertFalse(found.accepted)
                self.assertIn(words, " ".join([*found.reasons, *(reason.text for file in found.files for reason in file.reasons)]))

    def test_bounds_are_held_against_its_own_readings(self):
        found = self.answer(packed({"01.mp3": encoded(voice(-27), "MP3"), "02.wav": encoded(voice(-20))}), "audiobook-chapters")
        texts = [" ".join(reason.text for reason in file.reasons) for file in found.files]
        self.assertRegex(texts[0], r"RMS level is −27\.\d+ dBFS, under −23 dBFS\.")
        self.assertIn("It is wav; asked for is mp3.", texts[1])


class Moods(unittest.TestCase):
    def test_they_are_drawn_from_the_seed_and_never_last(self):
        first, second = ([faults.next() for _ in range(200)] for faults in (Faults(3), Faults(3)))
        self.assertEqual(first, second)
        self.assertEqual(set(first), {"none", "busy", "drop"})
        self.assertNotIn("badbadbadbad", "".join("good" if one == "none" else "bad" for one in first))
        self.assertEqual({Faults(None).next() for _ in range(20)}, {"none"})


class Protocol(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.package = packed({"01.mp3": encoded(voice(), "MP3")})
        cls.sha256 = hashlib.sha256(cls.package).hexdigest()

    def served(self, faults: Faults | None = None, folder: str = "desk") -> httpx.Client:
        """A real server on loopback, and a client with the token."""
        address = served(self.folder / folder, self.addCleanup, faults)
        client = httpx.Client(base_url=address, headers={"authorization": f"Bearer {TOKEN}"}, trust_env=False)
        self.addCleanup(client.close)
        return client

    def put(
        self, client: httpx.Client, content: bytes | None = None, sha256: str = "", requirements: str = "any-recordings"
    ) -> httpx.Response:
        path = f"/submissions/{requirements}/{sha256 or self.sha256}"
        return client.put(path, params={"title": "Book"}, content=content or self.package)

    def checked(self, client: httpx.Client) -> dict:
        while (found := client.get(f"/submissions/any-recordings/{self.sha256}").json())["state"] != "checked":
            time.sleep(0.02)
        return found

    def test_a_package_is_handed_in_once_however_often_it_is_sent(self):
        client = self.served()
        self.assertEqual(self.put(client).status_code, 201)
        found = self.checked(client)
        self.assertTrue(found["answer"]["accepted"])
        self.assertEqual(found["answer"]["files"][0]["sha256"], hashlib.sha256(encoded(voice(), "MP3")).hexdigest())
        again = self.put(client)
        self.assertEqual((again.status_code, again.json()), (200, found))
        self.assertEqual([one["sha256"] for one in client.get("/submissions").json()], [self.sha256])
        other = self.put(client, requirements="broadcast-items")
        self.assertEqual((other.status_code, len(client.get("/submissions").json())), (201, 2), "held against something else")

    def test_what_is_wrong_is_refused_in_words(self):
        client = self.served(folder="refusing")
        self.assertEqual(client.get("/submissions", headers={"authorization": "Bearer other"}).status_code, 401)
        self.assertEqual(self.put(client, requirements="nothing").status_code, 422)
        self.assertIn("its SHA-256 is another", self.put(client, b"other").json()["detail"])
        self.assertEqual(self.put(client, sha256="abc").status_code, 422)
        self.assertEqual(client.get(f"/submissions/any-recordings/{'0' * 64}").status_code, 404)
        self.assertEqual(list((self.folder / "refusing").iterdir()), [], "nothing half is left")

    def test_it_is_described_and_answers_as_described(self):
        client = self.served(folder="described")
        described = client.get("/openapi.json").json()
        self.put(client)
        schema = {"$ref": "#/components/schemas/Submission", "components": described["components"]}
        jsonschema.validate(self.checked(client), schema)
        self.assertEqual([one["id"] for one in client.get("/requirements").json()], list(asked()))

    def test_busy_and_broken_off_are_what_they_are_called(self):
        client = self.served(Faults(1, busy=1.0, drop=0.0), folder="busy")
        answer = self.put(client)
        self.assertEqual((answer.status_code, answer.headers["retry-after"]), (503, "1"))
        client = self.served(Faults(1, busy=0.0, drop=1.0), folder="dropping")
        with self.assertRaises(httpx.TransportError):
            self.put(client)

    def test_what_was_received_is_checked_after_a_restart(self):
        folder = self.folder / "restarted"
        desk = Desk(folder)
        desk._worker.shutdown()  # ends before it checks
        part = folder / ".x.part"
        part.write_bytes(self.package)
        with self.assertRaises(RuntimeError):
            desk.receive(part, self.sha256, "Book", "any-recordings")
        self.assertEqual(desk.get(f"any-recordings-{self.sha256}").state, "received")
        (folder / ".half.part").write_bytes(b"half")
        self.assertTrue(self.checked(self.served(folder="restarted"))["answer"]["accepted"])
        self.assertFalse((folder / ".half.part").exists())
