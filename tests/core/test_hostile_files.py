"""Files with bits flipped, bytes cut, headers overwritten: an error in words or a measurement, never a crash or a leftover."""

import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile

from ispettore.core.audio import mpeg_frames
from ispettore.core.audio.chunks import chunks
from ispettore.core.audio.facts import recognise
from ispettore.core.errors import IspettoreError
from ispettore.core.measure.inspecting import inspect
from tests import signals
from tests.spoilt_files import mutated, originals

RATE = 44_100
TRIES = 60


class Mutations(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.originals = originals(cls.folder, 3)

    def test_nothing_crashes_hangs_or_is_left(self):
        random = np.random.default_rng(2026)
        outcomes = {"measured": 0, "refused": 0}
        scratch = self.folder / "scratch"
        scratch.mkdir()
        self.enterContext(mock.patch.object(tempfile, "tempdir", str(scratch)))
        for ending, content in self.originals.items():
            for number in range(TRIES):
                path = self.folder / f"mutated.{ending}"
                path.write_bytes(mutated(content, random))
                before = set(self.folder.iterdir())
                begun = time.process_time()
                with self.subTest(ending=ending, number=number):
                    try:
                        inspection = inspect(path).inspection
                        self.assertGreater(inspection.facts.frames, 0)
                        outcomes["measured"] += 1
                    except IspettoreError as error:
                        self.assertIn(path.name, error.sentence)
                        self.assertNotIn("{", error.sentence)
                        outcomes["refused"] += 1
                self.assertEqual(set(self.folder.iterdir()), before)
                self.assertLess(time.process_time() - begun, 60, "no file of three seconds keeps the processor for a minute")
                self.assertEqual(list(scratch.iterdir()), [])
        self.assertGreater(min(outcomes.values()), 20)

    def test_a_recording_of_any_length_down_to_one_sample_is_measured(self):
        wave = signals.voice_like(2, rms_dbfs=-22, rate=RATE)[RATE // 2 :]
        for frames in (1, 2, 100, 220, 221, 440, 2_000, 4_410, 4_630, 4_851, 6_000, 8_820, 9_000, 17_640, 22_050):
            with self.subTest(frames=frames):
                path = signals.write(self.folder / "short.wav", wave[:frames], RATE)
                self.assertEqual(inspect(path).inspection.facts.frames, frames)

    def test_sizes_that_no_file_has_end_with_the_file(self):
        path = self.folder / "large.wav"
        soundfile.write(path, signals.voice_like(4, rms_dbfs=-22, rate=RATE), RATE, format="RF64", subtype="PCM_16")
        content = path.read_bytes()
        place = content.index(b"ds64") + 16
        plain = inspect(path).inspection.readings
        for size in (2**64 - 1, 2**63, 2**63 - 8, 2**40, len(content)):
            path.write_bytes(content[:place] + size.to_bytes(8, "little") + content[place + 8 :])
            with self.subTest(size=size):
                with path.open("rb") as file:
                    found = [(chunk.name, chunk.size) for chunk in chunks(file)]
                self.assertEqual(found[-1], (b"data", size))
                try:
                    self.assertEqual(inspect(path).inspection.readings["rms_dbfs"], plain["rms_dbfs"])
                except IspettoreError as refused:
                    self.assertIn("large.wav", refused.sentence)

    def test_a_header_of_200_hours_over_little_data(self):
        content = bytearray(self.originals["wav"])
        place = content.find(b"data") + 4
        content[place : place + 4] = (0xFFFFFFF0).to_bytes(4, "little")
        path = self.folder / "long.wav"
        path.write_bytes(content)
        self.assertAlmostEqual(inspect(path).inspection.facts.duration_s, 3, delta=0.01)


class Recognising(unittest.TestCase):
    def test_each_container_is_known_by_its_first_bytes(self):
        cases = {
            b"RIFF\0\0\0\0WAVE": "wav",
            b"RF64\xff\xff\xff\xffWAVE": "rf64",
            b"FORM\0\0\0\0AIFF": "aiff",
            b"FORM\0\0\0\0AIFC": "aiff",
            b"fLaC": "flac",
            b"OggS": "ogg",
            b"caff": "caf",
            b"ID3\x04": "mp3",
            b"\xff\xfb\x90\x00": "mp3",
            b"RIFF\0\0\0\0AVI ": None,
            b"%PDF-1.7": None,
            b"": None,
            b"\xff\xff\xff\xff": None,
        }
        for head, expected in cases.items():
            with self.subTest(head=head):
                self.assertEqual(recognise(head), expected)


class MpegFrames(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.path = Path(held.name) / "a.mp3"

    def rate_of(self, content: bytes):
        self.path.write_bytes(content)
        return mpeg_frames.bit_rate(self.path)

    def frame(self, index: int, *, padding: int = 0) -> bytes:
        """An MPEG 1 Layer III frame at 44.1 kHz, mono, of the bit rate with this index, filled with zeros."""
        kbps = int(mpeg_frames.KBPS_1[index])
        length = 144 * kbps * 1000 // 44_100 + padding
        return bytes([0xFF, 0xFB, index << 4 | padding << 1, 0xC4]) + bytes(length - 4)

    def test_constant_and_variable(self):
        self.assertEqual(self.rate_of(self.frame(11) * 20), (192.0, True))
        self.assertEqual(self.rate_of(self.frame(11, padding=1) + self.frame(11) * 9), (192.0, True))
        kbps, constant = self.rate_of(self.frame(9) * 10 + self.frame(11) * 10)
        self.assertEqual((kbps, constant), (160.0, False))

    def test_a_tag_before_and_rubbish_between_are_passed_over(self):
        tag = b"ID3\x04\x00\x00" + bytes([0, 0, 1, 0]) + bytes(128)
        self.assertEqual(self.rate_of(tag + self.frame(11) * 5 + b"rubbish" + self.frame(11) * 5), (192.0, True))

    def test_a_summary_frame_is_not_audio(self):
        summary = bytearray(self.frame(5))
        summary[21:25] = b"Info"
        self.assertEqual(self.rate_of(bytes(summary) + self.frame(11) * 5), (192.0, True))

    def test_no_frames_no_rate(self):
        self.assertIsNone(self.rate_of(b"Dear listener" * 100))
        self.assertIsNone(self.rate_of(b""))

    def test_lower_rates_of_mpeg_2(self):
        wave = signals.noise(2, rms_dbfs=-20, rate=22_050)
        soundfile.write(
            self.path, wave, 22_050, format="MP3", subtype="MPEG_LAYER_III", bitrate_mode="CONSTANT", compression_level=0.4
        )
        kbps, constant = mpeg_frames.bit_rate(self.path)
        self.assertEqual((kbps, constant), (96.0, True))
