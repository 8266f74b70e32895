"""Files with bits flipped, bytes cut, headers overwritten: an error in words or a measurement, never a crash or a leftover."""

import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile

from ispettore.core.audio import mpeg_frames
from ispettore.core.audio.facts import recognise
from ispettore.core.audio.writing import Sink, format_for
from ispettore.core.errors import IspettoreError
from ispettore.core.measure.inspecting import inspect
from tests import signals

RATE = 44_100
TRIES = 60


class Mutations(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.originals = {}
        wave = signals.voice_like(3, rms_dbfs=-22, rate=RATE).astype(np.float32)[:, None]
        for ending in ("wav", "flac", "mp3"):
            path = cls.folder / f"original.{ending}"
            with Sink(path, sample_rate_hz=RATE, channels=1, form=format_for(path)) as sink:
                sink.write(wave)
            cls.originals[ending] = path.read_bytes()
        for ending, subtype in (("aiff", "PCM_16"), ("caf", "PCM_16"), ("ogg", "VORBIS")):
            path = signals.write(cls.folder / f"original.{ending}", wave, RATE, subtype)
            cls.originals[ending] = path.read_bytes()
        for ending, container, subtype in (("opus", "OGG", "OPUS"), ("rf64", "RF64", "PCM_24"), ("alac", "CAF", "ALAC_16")):
            path = cls.folder / f"original.{ending}"
            soundfile.write(path, wave[::-1], 48_000, format=container, subtype=subtype)
            cls.originals[ending] = path.read_bytes()

    def mutated(self, content: bytes, random: np.random.Generator) -> bytes:
        changed = bytearray(content)
        kind = random.integers(0, 4)
        if kind == 0:  # bits in the header
            for place in random.integers(0, min(200, len(changed)), 4):
                changed[place] ^= 1 << int(random.integers(0, 8))
        elif kind == 1:  # bytes anywhere
            for place in random.integers(0, len(changed), 30):
                changed[place] = int(random.integers(0, 256))
        elif kind == 2:  # cut off
            changed = changed[: int(random.integers(1, len(changed)))]
        else:  # a stretch overwritten with ones
            start = int(random.integers(0, len(changed)))
            changed[start : start + 64] = b"\xff" * min(64, len(changed) - start)
        return bytes(changed)

    def test_nothing_crashes_hangs_or_is_left(self):
        random = np.random.default_rng(2026)
        outcomes = {"measured": 0, "refused": 0}
        scratch = self.folder / "scratch"
        scratch.mkdir()
        self.enterContext(mock.patch.object(tempfile, "tempdir", str(scratch)))
        for ending, content in self.originals.items():
            for number in range(TRIES):
                path = self.folder / f"mutated.{ending}"
                path.write_bytes(self.mutated(content, random))
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
