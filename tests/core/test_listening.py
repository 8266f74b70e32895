"""What was heard of a file, notes as tables and cues, and the WAV file that is never written."""

import io
import struct
import tempfile
import unittest
from contextlib import contextmanager
from pathlib import Path

import av
import numpy as np
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from ispettore.core.audio.cues import Mark
from ispettore.core.audio.virtual_wav import VirtualWav
from ispettore.core.deliver import listening
from ispettore.core.deliver.listening import Heard, Note
from tests import signals

RATE = 44_100
SPANS = st.lists(
    st.tuples(st.floats(0, 100), st.floats(0, 30), st.sampled_from((1.0, 1.5, 3.0))).map(
        lambda one: Heard(start_s=one[0], end_s=one[0] + one[1], speed=one[2])
    ),
    max_size=12,
)


class WhatWasHeard(unittest.TestCase):
    @settings(max_examples=200, deadline=None)
    @given(SPANS)
    def test_merged_in_any_order_and_any_number_of_times_it_is_the_same(self, spans: list[Heard]):
        found = listening.merged(spans)
        self.assertEqual(listening.merged([*reversed(spans), *found]), found)
        grid = np.arange(0.005, 140, 0.01)
        heard = np.zeros(grid.size, dtype=bool)
        for start, end in listening.covered(spans):
            heard |= (grid >= start) & (grid <= end)
        for span in spans:
            inside = (grid >= span.start_s) & (grid < span.end_s)
            self.assertTrue(heard[inside].all())
        self.assertLessEqual(listening.share(spans, duration_s=100), 1)

    def test_how_much_in_words(self):
        half = [Heard(start_s=0, end_s=20), Heard(start_s=10, end_s=30, speed=2)]
        self.assertEqual(listening.said(half, duration_s=60, who="A. Reed"), "50 % heard by A. Reed at up to 2 times its speed")
        whole = [Heard(start_s=0, end_s=20), Heard(start_s=20.1, end_s=59.9)]
        self.assertEqual(listening.said(whole, duration_s=60, who=""), "heard completely")
        self.assertEqual(listening.share([Heard(start_s=50, end_s=90)], duration_s=60), 1 / 6)
        self.assertEqual(listening.share([], duration_s=0), 0)
        self.assertEqual(listening.said([Heard(start_s=0, end_s=0.1)], duration_s=60, who=""), "less than 1 % heard")

    NOTES = (
        Note(at_s=62.5, kind="misread", text="says wier", who="A. Reed", file="delivered file"),
        Note(at_s=3.25, kind="noise", text="=chair", who="", file="delivered file"),
        Note(at_s=64.0, kind="retake", text="", who="", file="version 1"),
    )

    def test_notes_as_a_table_that_no_spreadsheet_takes_for_formulas(self):
        rows = listening.as_csv([("01.wav", note) for note in self.NOTES]).splitlines()
        self.assertEqual(rows[1], "01.wav,1:02.50,62.500,Misread,says wier,A. Reed,delivered file,")
        self.assertIn(",'=chair,", rows[2])

    def test_notes_as_cues_of_webvtt(self):
        text = listening.as_vtt(self.NOTES, duration_s=65)
        self.assertTrue(text.startswith("WEBVTT\n\n00:00:03.250 --> 00:00:08.250\nNoise: =chair\n"))
        self.assertIn("00:01:02.500 --> 00:01:04.000\nMisread: says wier\n", text)
        self.assertIn("00:01:04.000 --> 00:01:05.000\nNeeds a retake\n", text)
        with av.open(io.BytesIO(text.encode()), format="webvtt") as file:
            cues = [(float(packet.pts * packet.time_base), bytes(packet).decode()) for packet in file.demux() if packet.size]
        self.assertEqual(cues, [(3.25, "Noise: =chair"), (62.5, "Misread: says wier"), (64.0, "Needs a retake")])


class NeverWritten(unittest.TestCase):
    def setUp(self):
        self.wave = np.stack([signals.noise(3.1, rms_dbfs=-12, rate=RATE, seed=seed) for seed in (1, 2)], axis=1).astype(np.float32)
        self.wave[100] = (2.0, -2.0)

    def wav(self, *marks: Mark, frames: int | None = None) -> VirtualWav:
        @contextmanager
        def opened():
            yield lambda start, count: self.wave[start : start + count]

        return VirtualWav(opened, frames=frames or len(self.wave), channels=2, sample_rate_hz=RATE, marks=marks)

    def test_others_read_it_with_its_marks(self):
        marks = (Mark(0.5, "Misread: “weir”"), Mark(2.25, "Noise"))
        content = b"".join(self.wav(*marks).read())
        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "marked.wav"
        path.write_bytes(content)
        samples, rate = soundfile.read(path, always_2d=True)
        self.assertEqual((rate, samples.shape), (RATE, self.wave.shape))
        np.testing.assert_allclose(samples, np.clip(self.wave, -1, 32_767 / 32_768), atol=0.51 / 32_768)
        self.assertEqual(int.from_bytes(content[4:8], "little"), len(content) - 8)
        at = content.index(b"cue ")
        count, first, place = struct.unpack_from("<III", content, at + 8)
        self.assertEqual((count, first, place), (2, 1, RATE // 2))
        self.assertIn("Misread: “weir”".encode() + b"\0", content[at:])
        with av.open(io.BytesIO(content)) as file:
            self.assertEqual(sum(frame.samples for frame in file.decode(audio=0)), len(self.wave))

    def test_any_part_is_that_of_the_whole(self):
        wav = self.wav(Mark(1, "x"))
        whole = b"".join(wav.read())
        self.assertEqual(len(whole), wav.size)

        @settings(max_examples=100, deadline=None)
        @given(st.integers(0, wav.size), st.integers(0, wav.size))
        def tried(start: int, end: int):
            self.assertEqual(b"".join(wav.read(start, end)), whole[start:end])

        tried()

    def test_a_file_that_is_shorter_than_was_said_is_filled_up(self):
        wav = self.wav(frames=len(self.wave) + 1_000)
        self.assertEqual(len(b"".join(wav.read())), wav.size)
