"""Files of every kind the slice reads, and files that are broken in every way."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core import errors
from ispettore.core.audio.reading import Source, read_all
from ispettore.core.audio.writing import OutputFormat, Sink, format_for
from ispettore.core.measure.inspecting import inspect
from tests import signals

RATE = 44_100


class InFolder(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def file(self, name: str, content: bytes) -> Path:
        path = self.folder / name
        path.write_bytes(content)
        return path

    def wave(self, seconds: float = 2.0) -> np.ndarray:
        return signals.noise(seconds, rms_dbfs=-20, rate=RATE)[:, None]


class Facts(InFolder):
    def test_each_format_says_what_it_is(self):
        cases = [
            ("a.wav", "PCM_16", ("wav", "pcm", 16)),
            ("a.wav", "PCM_24", ("wav", "pcm", 24)),
            ("a.wav", "FLOAT", ("wav", "pcm-float", 32)),
            ("a.flac", "PCM_24", ("flac", "flac", 24)),
            ("a.aiff", "PCM_16", ("aiff", "pcm", 16)),
        ]
        for name, subtype, expected in cases:
            path = signals.write(self.folder / name, self.wave(), RATE, subtype)
            facts = inspect(path).inspection.facts
            with self.subTest(name=name, subtype=subtype):
                codec = "flac" if facts.container == "flac" else facts.codec
                self.assertEqual((facts.container, codec, facts.bit_depth), expected)
                self.assertEqual((facts.sample_rate_hz, facts.channels, facts.frames), (RATE, 1, 2 * RATE))

    def test_the_name_means_nothing_the_content_everything(self):
        path = signals.write(self.folder / "a.wav", self.wave(), RATE)
        disguised = path.rename(self.folder / "a.mp3")
        self.assertEqual(inspect(disguised).inspection.facts.container, "wav")

    def test_a_constant_mp3_is_known_from_its_frames(self):
        path = self.folder / "a.mp3"
        with Sink(path, sample_rate_hz=RATE, channels=1, form=OutputFormat(container="mp3")) as sink:
            sink.write(self.wave(3).astype(np.float32))
        facts = inspect(path).inspection.facts
        self.assertEqual((facts.container, facts.codec, facts.bit_rate_kbps, facts.bit_rate_constant), ("mp3", "mp3", 192, True))
        self.assertEqual(facts.frames, 3 * RATE)

    def test_a_variable_mp3_is_read_to_the_sample_and_known_as_variable(self):
        path = self.folder / "v.mp3"
        wave = np.concatenate((self.wave(2), np.zeros((RATE, 1)), self.wave(2)))
        soundfile.write(path, wave, RATE, format="MP3", subtype="MPEG_LAYER_III", bitrate_mode="VARIABLE", compression_level=0.5)
        self.assertIs(inspect(path).inspection.facts.bit_rate_constant, False)
        whole, _ = soundfile.read(path, dtype="float32", always_2d=True)
        with Source(path) as source:
            blocks = np.concatenate([block.copy() for block in source.blocks(1000)])
        self.assertTrue(np.array_equal(whole, blocks))


class Broken(InFolder):
    def assert_said(self, path: Path, kind: type[errors.IspettoreError], *words: str) -> None:
        with self.assertRaises(kind) as caught:
            inspect(path)
        for word in (path.name, *words):
            self.assertIn(word, caught.exception.sentence)

    def test_missing_empty_and_folder(self):
        self.assert_said(self.folder / "none.wav", errors.FileMissing)
        self.assert_said(self.file("empty.wav", b""), errors.FileEmpty, "0 bytes")
        self.assert_said(self.folder, errors.FileUnreadable, "folder")

    def test_text_and_random_bytes_under_any_name(self):
        random = np.random.default_rng(5).bytes(5_000)
        for name in ("letter.mp3", "letter.wav", "letter.flac"):
            self.assert_said(self.file(name, b"Dear listener, this is no sound.\n" * 40), errors.NotAudio)
            self.assert_said(self.file(name, b"\x00" + random), errors.NotAudio)

    def test_a_header_without_audio(self):
        path = signals.write(self.folder / "a.wav", np.zeros((0, 1)), RATE)
        self.assert_said(path, errors.NoSamples)

    def test_a_header_cut_short(self):
        whole = signals.write(self.folder / "a.flac", self.wave(), RATE).read_bytes()
        self.assert_said(self.file("cut.flac", whole[:30]), errors.NotAudio)

    def test_a_truncated_file_is_measured_as_far_as_it_goes(self):
        for name in ("a.flac", "a.mp3", "a.wav"):
            path = self.folder / name
            with Sink(path, sample_rate_hz=RATE, channels=1, form=format_for(path)) as sink:
                sink.write(self.wave(4).astype(np.float32))
            half = self.file(f"half-{name}", path.read_bytes()[: path.stat().st_size // 2])
            inspection = inspect(half).inspection
            with self.subTest(name=name):
                self.assertAlmostEqual(inspection.facts.duration_s, 2, delta=0.3)
                self.assertIsNotNone(inspection.value("rms_dbfs"))
                if name != "a.wav":  # a WAV reader clips the header to the data, silently
                    self.assertIn("broken-off", {finding.kind for finding in inspection.findings})

    def test_samples_that_are_no_numbers(self):
        wave = self.wave().astype(np.float32)
        wave[30_000] = np.nan
        self.assert_said(signals.write(self.folder / "nan.wav", wave, RATE, "FLOAT"), errors.BadSamples, "0.680 s")
        wave[30_000] = np.inf
        self.assert_said(signals.write(self.folder / "inf.wav", wave, RATE, "FLOAT"), errors.BadSamples)

    def test_a_header_of_0_hz(self):
        for ending, place, size in (("wav", 24, 4), ("flac", 18, 3)):
            content = bytearray(signals.write(self.folder / f"a.{ending}", self.wave(), RATE, "PCM_16").read_bytes())
            content[place : place + size] = bytes(size)
            path = self.file(f"0 Hz.{ending}", bytes(content))
            with self.subTest(ending=ending), self.assertRaises(errors.IspettoreError) as caught:
                inspect(path)
            self.assertIn(path.name, caught.exception.sentence)

    def test_too_many_channels_and_odd_rates(self):
        self.assert_said(signals.write(self.folder / "9.wav", np.zeros((500, 9)), RATE), errors.TooManyChannels, "9 channels")
        self.assert_said(signals.write(self.folder / "4k.wav", np.zeros((500, 1)), 4_000), errors.RateOutOfRange, "4000 Hz")


class Writing(InFolder):
    def test_what_is_written_is_what_was_given_within_dither(self):
        wave = self.wave().astype(np.float32)
        for name, depth in (("a.wav", 16), ("a.wav", 24), ("a.flac", 24)):
            path = self.folder / name
            form = OutputFormat.model_validate({"container": name.split(".")[1], "bit_depth": depth})
            with Sink(path, sample_rate_hz=RATE, channels=1, form=form) as sink:
                for start in range(0, len(wave), 7_000):
                    sink.write(wave[start : start + 7_000])
            back, _ = read_all(path)
            with self.subTest(name=name, depth=depth):
                self.assertLessEqual(np.abs(back - wave).max(), 1.51 / 2 ** (depth - 1))
                self.assertEqual(len(back), len(wave))

    def test_an_error_leaves_nothing_behind(self):
        with (
            self.assertRaises(ZeroDivisionError),
            Sink(self.folder / "a.wav", sample_rate_hz=RATE, channels=1, form=OutputFormat(container="wav")) as sink,
        ):
            sink.write(self.wave().astype(np.float32))
            raise ZeroDivisionError
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_what_cannot_be_written_is_said(self):
        with self.assertRaises(errors.UnsupportedOutput):
            format_for(Path("a.docx"))
        with self.assertRaises(errors.UnsupportedOutput) as caught:
            Sink(self.folder / "a.mp3", sample_rate_hz=96_000, channels=1, form=OutputFormat(container="mp3"))
        self.assertIn("96 kHz", caught.exception.sentence)
