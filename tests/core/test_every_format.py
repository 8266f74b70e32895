"""The same recording in every format, depth, rate and number of channels: the same readings, and true facts of the file."""

import itertools
import struct
import tempfile
import unittest
from pathlib import Path

import mutagen
import numpy as np
import soundfile
import soxr
from mutagen.id3 import TALB, TIT2, TPE1

from ispettore.core.measure.inspecting import inspect, measure_array
from tests import signals

RATE = 48_000
#         ending, container, subtype, facts: container, codec, bits, constant; how far loudness and noise floor may be off
FORMATS = [
    ("wav", "WAV", "PCM_U8", ("wav", "pcm", 8, True), 0.05),
    ("wav", "WAV", "PCM_16", ("wav", "pcm", 16, True), 0.005),
    ("wav", "WAV", "PCM_24", ("wav", "pcm", 24, True), 0.001),
    ("wav", "WAV", "PCM_32", ("wav", "pcm", 32, True), 0.001),
    ("wav", "WAV", "FLOAT", ("wav", "pcm-float", 32, True), 0.001),
    ("wav", "WAV", "DOUBLE", ("wav", "pcm-float", 64, True), 0.001),
    ("wav", "WAV", "ULAW", ("wav", "u-law", 8, True), 0.1),
    ("wav", "WAVEX", "PCM_24", ("wav", "pcm", 24, True), 0.001),
    ("wav", "RF64", "PCM_24", ("rf64", "pcm", 24, True), 0.001),
    ("aiff", "AIFF", "PCM_S8", ("aiff", "pcm", 8, True), 0.05),
    ("aiff", "AIFF", "PCM_16", ("aiff", "pcm", 16, True), 0.005),
    ("aiff", "AIFF", "PCM_24", ("aiff", "pcm", 24, True), 0.001),
    ("aiff", "AIFF", "FLOAT", ("aiff", "pcm-float", 32, True), 0.001),
    ("caf", "CAF", "PCM_16", ("caf", "pcm", 16, True), 0.005),
    ("caf", "CAF", "PCM_24", ("caf", "pcm", 24, True), 0.001),
    ("caf", "CAF", "ALAC_24", ("caf", "alac", 24, False), 0.001),
    ("flac", "FLAC", "PCM_S8", ("flac", "flac", 8, False), 0.05),
    ("flac", "FLAC", "PCM_16", ("flac", "flac", 16, False), 0.005),
    ("flac", "FLAC", "PCM_24", ("flac", "flac", 24, False), 0.001),
    ("ogg", "OGG", "VORBIS", ("ogg", "vorbis", None, False), 0.2),
    ("opus", "OGG", "OPUS", ("ogg", "opus", None, False), 0.2),
    ("mp3", "MP3", "MPEG_LAYER_III", ("mp3", "mp3", None, None), 0.2),
]


class InFolder(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)


class Formats(InFolder):
    @classmethod
    def setUpClass(cls):
        cls.wave = signals.voice_like(6, rms_dbfs=-22, rate=RATE, room_dbfs=-55)

    def test_each_reads_like_the_samples_themselves(self):
        plain = measure_array(self.wave[:, None], sample_rate_hz=RATE).inspection
        for ending, container, subtype, expected, off in FORMATS:
            path = self.folder / f"a.{ending}"
            soundfile.write(path, self.wave, RATE, format=container, subtype=subtype)
            found = inspect(path).inspection
            with self.subTest(container=container, subtype=subtype):
                facts = found.facts
                self.assertEqual((facts.container, facts.codec, facts.bit_depth), expected[:3])
                if expected[3] is not None:
                    self.assertIs(facts.bit_rate_constant, expected[3])
                self.assertEqual((facts.sample_rate_hz, facts.channels, facts.channel_relation), (RATE, 1, "one"))
                self.assertAlmostEqual(facts.duration_s, 6.0, delta=0.06)
                self.assertAlmostEqual(facts.bit_rate_kbps, 8 * path.stat().st_size / 6_000, delta=0.05 * facts.bit_rate_kbps)
                for quantity in ("integrated_loudness_lufs", "rms_dbfs", "active_speech_level_dbfs"):
                    self.assertAlmostEqual(found.value(quantity), plain.value(quantity), delta=max(off, 0.002))
                if off < 0.01:
                    self.assertAlmostEqual(found.value("noise_floor_dbfs"), plain.value("noise_floor_dbfs"), delta=0.05)
                    self.assertEqual(found.speech, plain.speech)
                self.assertEqual(len(found.sha256), 64)

    def test_every_rate_and_up_to_six_channels(self):
        for rate in (8_000, 11_025, 16_000, 22_050, 32_000, 44_100, 88_200, 96_000, 192_000):
            wave = soxr.resample(self.wave, RATE, rate, quality="VHQ")
            for channels in (1, 2, 6):
                path = self.folder / "a.wav"
                gains = 10 ** (-np.arange(channels) / 20)
                soundfile.write(path, wave[:, None] * gains * 0.5, rate, subtype="PCM_24")
                found = inspect(path).inspection
                with self.subTest(rate=rate, channels=channels):
                    self.assertEqual((found.facts.sample_rate_hz, found.facts.channels), (rate, channels))
                    per_channel = found.readings["rms_dbfs"].per_channel
                    self.assertEqual(len(per_channel), channels)
                    for left, right in itertools.pairwise(per_channel):
                        self.assertAlmostEqual(left - right, 1.0, delta=0.02)
                    self.assertAlmostEqual(found.value("head_s"), 0.7, delta=0.06)
                    missing = [name for name, reading in found.readings.items() if reading.value is None and not reading.note]
                    self.assertEqual(missing, [])

    def test_no_channel_above_six_and_no_rate_out_of_range(self):
        for rate, channels, word in ((RATE, 9, "9 channels"), (4_000, 1, "4000"), (384_000, 1, "384000")):
            path = self.folder / "a.wav"
            soundfile.write(path, np.zeros((4_000, channels)), rate)
            with self.subTest(word=word), self.assertRaises(Exception) as caught:
                inspect(path)
            self.assertIn(word, str(caught.exception).replace(" 000", "000").replace(",", ""))


class Tags(InFolder):
    def wave_file(self, name: str, **options) -> Path:
        path = self.folder / name
        soundfile.write(path, signals.noise(1, rms_dbfs=-20, rate=RATE), RATE, **options)
        return path

    def test_titles_are_the_same_words_in_every_format(self):
        for name, options in (
            ("a.mp3", {"format": "MP3", "subtype": "MPEG_LAYER_III"}),
            ("a.wav", {}),
            ("a.aiff", {}),
            ("a.flac", {}),
            ("a.ogg", {"format": "OGG", "subtype": "VORBIS"}),
            ("a.opus", {"format": "OGG", "subtype": "OPUS"}),
        ):
            path = self.wave_file(name, **options)
            file = mutagen.File(path)
            if name in ("a.mp3", "a.wav", "a.aiff"):
                if file.tags is None:
                    file.add_tags()
                file.tags.add(TIT2(encoding=3, text="January"))
                file.tags.add(TPE1(encoding=3, text="Ada Quill"))
                file.tags.add(TALB(encoding=3, text="An almanac"))
            else:
                file["title"], file["artist"], file["album"] = "January", "Ada Quill", "An almanac"
            file.save()
            with self.subTest(name=name):
                tags = inspect(path).inspection.facts.tags
                wanted = {"title": "January", "artist": "Ada Quill", "album": "An almanac"}
                self.assertEqual({key: tags.get(key) for key in wanted}, {key: (text,) for key, text in wanted.items()})

    def test_broadcast_wave_says_where_it_comes_from(self):
        content = self.wave_file("a.wav").read_bytes()
        bext = b"Take three".ljust(256, b"\0") + b"Mill studio".ljust(32, b"\0") + b"TM-0003".ljust(32, b"\0")
        bext += b"2026-02-03" + b"10:11:12" + bytes(8 + 2 + 64 + 10 + 180)
        chunk = b"bext" + struct.pack("<I", len(bext)) + bext
        path = self.folder / "b.wav"
        path.write_bytes(content[:4] + struct.pack("<I", len(content) - 8 + len(chunk)) + content[8:12] + chunk + content[12:])
        found = inspect(path).inspection
        self.assertEqual(found.facts.frames, RATE)
        wanted = {"description": "Take three", "originator": "Mill studio", "reference": "TM-0003", "date": "2026-02-03",
                  "time": "10:11:12"}  # fmt: skip
        self.assertEqual(found.facts.tags, {key: (text,) for key, text in wanted.items()})

    def test_several_values_and_null_characters_are_read_as_lists(self):
        mp3 = self.wave_file("two.mp3", format="MP3", subtype="MPEG_LAYER_III")
        file = mutagen.File(mp3)
        file.add_tags()
        file.tags.add(TPE1(encoding=3, text=["Ada Quill", "Tom Weir"]))
        file.tags.add(TALB(encoding=3, text="An\0almanac\x07 of\ntides"))
        file.save(v2_version=4)
        flac = self.wave_file("two.flac")
        file = mutagen.File(flac)
        file["artist"], file["comment"] = ["Ada Quill", "Tom Weir"], "bell\x07\ttower"
        file.save()
        self.assertEqual(inspect(mp3).inspection.facts.tags["artist"], ("Ada Quill", "Tom Weir"))
        self.assertEqual(inspect(mp3).inspection.facts.tags["album"], ("An", "almanac of tides"))
        facts = inspect(flac).inspection.facts
        self.assertEqual((facts.tags["artist"], facts.tag("artist")), (("Ada Quill", "Tom Weir"), "Ada Quill; Tom Weir"))
        self.assertEqual(facts.tags["comment"], ("bell tower",))

    def test_broken_tags_keep_nothing_from_being_measured(self):
        path = self.wave_file("a.mp3", format="MP3", subtype="MPEG_LAYER_III")
        path.write_bytes(b"ID3\x04\x00\x00" + bytes([0, 0, 1, 0]) + b"\xff" * 128 + path.read_bytes())
        self.assertEqual(inspect(path).inspection.facts.tags, {})
        short = self.folder / "short.wav"
        short.write_bytes(b"RIFF\x00\x00\x00\x00WAVEbe")
        with self.assertRaises(Exception) as caught:
            inspect(short)
        self.assertIn("short.wav", str(caught.exception))
