"""MP3 files as they are written here: as long as what went in, in time, at the rate asked for, told so by others' code too."""

import tempfile
import unittest
from itertools import product
from pathlib import Path

import numpy as np
import soundfile
from mutagen.mp3 import MP3, BitrateMode

from ispettore.core.audio import mp3
from ispettore.core.audio.formats import WRITABLE
from ispettore.core.audio.reading import Source
from ispettore.core.audio.writing import OutputFormat, Sink
from ispettore.core.measure.inspecting import inspect
from tests import signals, speakers


class Mp3(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "out.mp3"

    def written(self, wave: np.ndarray, rate: int, kbps: int = 192, *, block: int = 7_001) -> Path:
        form = OutputFormat(container="mp3", bit_rate_kbps=kbps)
        with Sink(self.path, sample_rate_hz=rate, channels=wave.shape[1], form=form) as sink:
            for first in range(0, len(wave), block):
                sink.write(wave[first : first + block].astype(np.float32))
        return self.path

    def read(self) -> np.ndarray:
        with Source(self.path) as source:
            return np.concatenate([block.copy() for block in source.blocks()])

    def test_as_long_and_in_time_at_every_rate_and_number_of_channels(self):
        for rate, channels, frames in product((32_000, 44_100, 48_000), (1, 2), (90_001, 115_200, 1_152 * 50 - 576)):
            wave = np.repeat(speakers.laid("wren", rate=rate).wave[:frames, None], channels, axis=1)
            self.written(wave, rate)
            came = self.read()
            lag = np.argmax(np.correlate(came[:rate, 0], wave[2_000 : rate - 2_000, 0], "valid")) - 2_000
            with self.subTest(rate=rate, channels=channels, frames=frames):
                self.assertEqual(came.shape, wave.shape)
                self.assertEqual(lag, 0)

    def test_others_read_the_rate_the_length_and_the_encoders_delay(self):
        wave = signals.noise(3, rms_dbfs=-25, rate=44_100)[:, None]
        for kbps in WRITABLE["mp3"].bit_rates_kbps:
            told = MP3(self.written(wave, 44_100, kbps)).info
            facts = inspect(self.path).inspection.facts
            with self.subTest(kbps=kbps):
                self.assertEqual((told.bitrate_mode, told.channels), (BitrateMode.CBR, 1))
                self.assertAlmostEqual(told.bitrate / 1000, kbps, delta=1)  # all bytes over the length of the sound
                self.assertAlmostEqual(told.length, 3.0, delta=0.001)
                self.assertEqual(round(facts.bit_rate_kbps), kbps)
                self.assertTrue(facts.bit_rate_constant)
                self.assertEqual(facts.frames, len(wave))

    def test_the_first_frame_is_silent_and_its_check_sum_holds(self):
        data = self.written(signals.noise(2, rms_dbfs=-25, rate=48_000)[:, None], 48_000).read_bytes()
        at = data.index(b"Info")
        self.assertEqual(data[4:at], bytes(at - 4))
        self.assertEqual(
            int.from_bytes(data[at + 12 : at + 16], "big"), 2 * len(data) - int.from_bytes(data[at + 12 : at + 16], "big")
        )
        tag_end = at + 154
        self.assertEqual(mp3.crc_16(data[:tag_end]), int.from_bytes(data[tag_end : tag_end + 2], "big"))
        self.assertEqual(data[576:578], data[:2])  # the next frame begins where this one ends

    def test_as_good_as_the_sound_librarys_own(self):
        laid = speakers.laid("almanac-01", rate=44_100, seconds=20)
        wave = (laid.wave * 0.5)[:, None]
        self.written(wave, 44_100)
        ours = self.read()[:, 0]
        other = self.folder / "other.mp3"
        soundfile.write(other, wave, 44_100, format="MP3", subtype="MPEG_LAYER_III", bitrate_mode="CONSTANT", compression_level=0.4)
        theirs, _ = soundfile.read(other)

        def off(came: np.ndarray) -> tuple[float, float]:
            gain = float(came @ wave[:, 0] / (wave[:, 0] @ wave[:, 0]))
            rest = came - gain * wave[:, 0]
            return 20 * np.log10(gain), 10 * np.log10(np.mean((gain * wave[:, 0]) ** 2) / np.mean(rest**2))

        (our_level, our_ratio), (level, ratio) = off(ours), off(theirs)
        self.assertAlmostEqual(our_level, level, delta=0.01)
        self.assertGreater(our_ratio, ratio - 1)

    def test_silence_stays_silent_and_an_empty_file_is_empty(self):
        self.written(np.zeros((30_000, 1)), 44_100)
        self.assertEqual(np.abs(self.read()).max(), 0.0)
        self.written(np.zeros((0, 1)), 44_100)
        self.assertEqual(self.path.stat().st_size, 0)

    def test_the_same_sound_gives_the_same_file_for_any_block(self):
        wave = speakers.laid("reed", rate=44_100).wave[:80_000, None]
        once = self.written(wave, 44_100, block=1_000).read_bytes()
        self.assertEqual(self.written(wave, 44_100, block=80_000).read_bytes(), once)

    def test_an_error_leaves_nothing(self):
        with (
            self.assertRaises(ZeroDivisionError),
            Sink(self.path, sample_rate_hz=44_100, channels=1, form=OutputFormat(container="mp3")) as sink,
        ):
            sink.write(np.zeros((10, 1), dtype=np.float32))
            raise ZeroDivisionError
        self.assertEqual(list(self.folder.iterdir()), [])


if __name__ == "__main__":
    unittest.main()
