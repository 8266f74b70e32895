"""One pass over a file: channels that are alike are looked at once, and what goes on beside it ends with it."""

import functools
import tempfile
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile

from ispettore.core import errors
from ispettore.core.audio.facts import sha256_of
from ispettore.core.beside import ahead, both
from ispettore.core.measure.grid import Regrouped
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.measure.meters import Measured
from tests import speakers
from tests.corpus import RATES, some


class Stopped(Exception):
    """Raised by who watches."""


def faulty(name: str, rate: int) -> np.ndarray:
    """A voice in a room, a third of it clipped, with clicks and repeated buffers in the rest: shape (frames,)."""
    laid = speakers.laid(name, rate=rate, seconds=18)
    wave = laid.wave * 0.3 + speakers.room(laid.wave.size, rate=rate, dbfs=-90)
    for kind in ("impulse", "gap", "repeated"):
        wave, _ = speakers.faulty(speakers.Laid(wave, laid.spans, rate), kind, every_s=3)
    third = wave.size // 3
    top = 0.5 * np.abs(wave).max()
    wave[:third] = np.clip(wave[:third], -top, top)
    return (np.round(wave * 2**15) / 2**15).astype(np.float32)


def one_by_one(samples: np.ndarray, rate: int) -> Measured:
    """Measured with every channel looked at for itself."""

    def all_of_them(regrouped: Regrouped, _first: int, _last: int) -> None:
        regrouped._distinct = len(regrouped._samples)

    with mock.patch.object(Regrouped, "_compare", all_of_them):
        return measure_array(samples, sample_rate_hz=rate)


class Alike(unittest.TestCase):
    def same(self, samples: np.ndarray, rate: int) -> Measured:
        once, each = measure_array(samples, sample_rate_hz=rate), one_by_one(samples, rate)
        for quantity, reading in each.inspection.readings.items():
            found = once.inspection.readings[quantity]
            self.assertEqual(reading.model_copy(update={"value": None}), found.model_copy(update={"value": None}), quantity)
            if reading.value is not None:
                self.assertAlmostEqual(reading.value, found.value, delta=1e-6, msg=quantity)
        for name in ("findings", "speech", "room_tone", "pauses", "facts"):
            self.assertEqual(getattr(once.inspection, name), getattr(each.inspection, name), name)
        for name in ("peak", "mean", "power"):
            np.testing.assert_array_equal(getattr(once.cells, name), getattr(each.cells, name))
        np.testing.assert_allclose(once.k_power, each.k_power, rtol=1e-6)
        return once

    def test_a_channel_held_twice_reads_as_if_each_were_looked_at(self):
        cases = [(name, rate) for name in speakers.SYNTHETIC for rate in RATES]
        kinds = set()
        for name, rate in some(cases, every=11):
            with self.subTest(name=name, rate=rate):
                wave = faulty(name, rate)
                found = self.same(np.stack((wave, wave), axis=1), rate)
                kinds |= {(finding.kind, finding.channel) for finding in found.inspection.findings}
        for kind in ("clipping", "click", "repeated-buffer", "dropout"):
            self.assertLessEqual({(kind, 1), (kind, 2)}, kinds)

    def test_six_alike(self):
        self.same(np.stack([faulty("wren", 16_000)] * 6, axis=1), 16_000)

    def test_channels_that_part_in_the_middle(self):
        wave = faulty("heron", 44_100)
        for at in (1, 4 * 44_100 - 1, 4 * 44_100, 10 * 44_100 + 77, wave.size - 1):
            with self.subTest(at=at):
                pair = np.stack((wave, wave), axis=1)
                pair[at:, 1] *= 0.7
                self.same(pair, 44_100)

    def test_only_one_channel_is_worked_through(self):
        looked_at = []
        kept = Regrouped.put

        def noted(regrouped, block):
            for sound in kept(regrouped, block):
                looked_at.append(sound.looked_at.shape[0])
                yield sound

        wave = faulty("reed", 16_000)
        other = wave.copy()
        other[16_000 * 9] += 0.1
        with mock.patch.object(Regrouped, "put", noted):
            measure_array(np.stack((wave, wave, other), axis=1), sample_rate_hz=16_000)
        self.assertEqual(looked_at[:4], [1, 1, 3, 3])


class Beside(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.threads = threading.active_count()

    def written(self, samples: np.ndarray, *, subtype: str = "PCM_16") -> Path:
        path = self.folder / "voice.wav"
        soundfile.write(path, samples, 16_000, subtype)
        return path

    def test_a_file_reads_as_its_samples_do(self):
        path = self.written(faulty("plover", 16_000))
        found = inspect(path)
        samples, _ = soundfile.read(path, dtype="float32", always_2d=True)
        self.assertEqual(found.inspection.readings, measure_array(samples, sample_rate_hz=16_000).inspection.readings)
        self.assertEqual(found.inspection.sha256, sha256_of(path))
        self.assertEqual(threading.active_count(), self.threads)

    def test_samples_that_are_no_numbers_end_it_and_its_threads(self):
        wave = np.tile(faulty("wren", 16_000), 4)
        wave[16_000 * 30] = np.nan
        with self.assertRaises(errors.BadSamples) as raised:
            inspect(self.written(wave, subtype="FLOAT"))
        self.assertIn("30.0", str(raised.exception))
        self.assertEqual(threading.active_count(), self.threads)

    def test_who_watches_can_stop_it(self):
        told = []

        def watching(stage: str, fraction: float) -> None:
            told.append((stage, fraction))
            if fraction > 0.3:
                raise Stopped

        with self.assertRaises(Stopped):
            inspect(self.written(np.tile(faulty("wren", 16_000), 4)), progress=watching)
        self.assertLess(told[-1][1], 0.7)
        self.assertEqual(threading.active_count(), self.threads)

    def test_a_hash_given_up_reads_no_further(self):
        path = self.folder / "long"
        path.write_bytes(bytes(8 << 20))
        asked = []

        def given_up() -> bool:
            asked.append(True)
            return len(asked) == 3

        sha256_of(path, given_up=given_up)
        self.assertEqual(len(asked), 3)

    def test_an_error_comes_where_its_item_would_have_come(self):
        def items():
            yield 1
            yield 2
            raise Stopped

        with ThreadPoolExecutor(1) as pool, self.assertRaises(Stopped):
            list(ahead(items(), pool))
        with ThreadPoolExecutor(1) as pool:
            coming = ahead(items(), pool)
            self.assertEqual([next(coming), next(coming)], [1, 2])
            self.assertRaises(Stopped, next, coming)

    def test_both_are_ended_whichever_fails(self):
        def done(name: str, *, fails: bool) -> None:
            told.append(name)
            if fails:
                raise Stopped

        for failing in ("first", "second"):
            told: list[str] = []
            first, second = (functools.partial(done, name, fails=name == failing) for name in ("first", "second"))
            with ThreadPoolExecutor(1) as pool, self.assertRaises(Stopped):
                both(first, second, pool)
            self.assertEqual(sorted(told), ["first", "second"])
        told = []
        both(*(functools.partial(done, name, fails=False) for name in ("first", "second")), None)
        self.assertEqual(told, ["first", "second"])
