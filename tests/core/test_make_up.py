"""What tells a voice from a room that grew louder: its make-up and its pitch move."""

import unittest
import unittest.mock

import numpy as np
import scipy

from ispettore.core.measure import octaves, pitch
from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.inspecting import measure_array
from ispettore.demo import faults
from tests import signals, speakers

RATE = 48_000
SECONDS = 12
FRAMES = SECONDS * RATE


def make_up(wave: np.ndarray, rate: int = RATE) -> octaves.MakeUp:
    return octaves.make_up(measure_array(wave[:, None], sample_rate_hz=rate).meters.spectra)


def covered(wave: np.ndarray, rate: int = RATE) -> float:
    """The share of the frames that lie in a stretch which keeps its make-up."""
    found = make_up(wave, rate)
    half = octaves.half_frames(found.spectra)
    return float(scipy.ndimage.maximum_filter1d(found.stays.view(np.uint8), 2 * half + 1)[half:-half].mean())


class MakeUp(unittest.TestCase):
    def test_a_room_keeps_it_whatever_its_level(self):
        for kind in ("white", "pink", "dull"):
            noise = speakers.room(FRAMES, rate=RATE, dbfs=-60, kind=kind)
            swinging = speakers.swelling(FRAMES, rate=RATE, dbfs=-60, swing_db=12, period_s=1.5, kind=kind)
            trembling = noise * (1 + 0.5 * np.sin(2 * np.pi * 7 * np.arange(FRAMES) / RATE))
            humming = noise + faults.at_level(speakers.mains(FRAMES, rate=RATE), rms_dbfs=-54)
            for name, wave in {"steady": noise, "swinging": swinging, "a fan": trembling, "hum in it": humming}.items():
                with self.subTest(kind=kind, name=name):
                    self.assertGreater(covered(wave), 0.99)

    def test_a_room_keeps_it_at_every_rate(self):
        for rate in (8_000, 16_000, 96_000, 192_000):
            with self.subTest(rate=rate):
                self.assertGreater(covered(speakers.room(5 * rate, rate=rate, dbfs=-60), rate), 0.99)

    def test_a_voice_ten_decibels_over_the_room_does_not(self):
        for name in speakers.NAMES:
            laid = speakers.laid(name, rate=RATE)
            found = make_up(laid.over(speakers.room(laid.wave.size, rate=RATE, dbfs=-30, kind="white")).wave)
            middles = ((np.arange(found.stays.size) + 0.25) * found.spectra.step_s * RATE).astype(int)
            with self.subTest(name=name):
                # Phrases have gaps, in which only the room is heard.
                self.assertLess(found.stays[laid.words[np.minimum(middles, laid.wave.size - 1)]].mean(), 0.2)

    def test_it_stays_through_a_room_and_not_through_a_breath(self):
        noise = speakers.room(FRAMES, rate=RATE, dbfs=-60)
        breath = speakers.breath(rate=RATE, seconds=0.4, dbfs=-44)
        noise[5 * RATE : 5 * RATE + breath.size] += breath
        found = make_up(noise)
        per_second = CELLS_PER_SECOND
        for first_s, last_s, stays in ((1.0, 1.6, True), (1.0, 4.5, True), (4.8, 5.6, False), (2.0, 2.3, False)):
            with self.subTest(first_s=first_s, last_s=last_s):
                self.assertEqual(found.through(round(first_s * per_second), round(last_s * per_second)), stays)

    def test_at_the_ends_and_in_what_is_too_short_nothing_is_known(self):
        noise = speakers.room(FRAMES, rate=RATE, dbfs=-60)
        found = make_up(noise)
        half = octaves.half_frames(found.spectra)
        self.assertFalse(found.stays[:half].any() or found.stays[-half:].any())
        self.assertFalse(make_up(noise[: RATE // 5]).stays.any())

    def test_a_click_in_a_file_shorter_than_a_frame_is_measured(self):
        for seconds in (0.01, 0.03, 0.045):
            wave = speakers.room(round(seconds * RATE), rate=RATE, dbfs=-70)
            wave[wave.size // 2 :] += 0.5
            with self.subTest(seconds=seconds):
                found = make_up(wave)
                self.assertEqual(found.at(0, 2).tolist(), [False, False])
                self.assertFalse(found.through(0, 2))

    def test_it_is_the_same_read_in_parts(self):
        laid = speakers.laid("wren", rate=RATE)
        whole = make_up(laid.over(speakers.room(laid.wave.size, rate=RATE, dbfs=-50)).wave)
        with unittest.mock.patch.object(octaves, "PART", 50):
            self.assertEqual(octaves.make_up(whole.spectra).stays.tolist(), whole.stays.tolist())


class Pitch(unittest.TestCase):
    def moves(self, wave: np.ndarray, *spans_s: tuple[float, float]) -> list[bool]:
        low = measure_array(wave[:, None], sample_rate_hz=RATE).meters.low_rate
        runs = np.round(np.array(spans_s or [(1.0, 1.5)]) * CELLS_PER_SECOND).astype(np.int64).reshape(-1, 2)
        return pitch.moves(low, runs).tolist()

    def test_a_held_sound_of_a_voice_moves(self):
        """A vowel whose pitch falls by a semitone in half a second, in noise 10 dB under it."""
        t = np.arange(2 * RATE) / RATE
        phase = 2 * np.pi * np.cumsum(120 * 2 ** (-t / 6)) / RATE
        vowel = faults.at_level(sum(np.sin(line * phase) / line for line in range(1, 9)), rms_dbfs=-40)
        self.assertEqual(self.moves(vowel + speakers.room(t.size, rate=RATE, dbfs=-50)), [True])

    def test_mains_machines_and_noise_do_not(self):
        t = np.arange(4 * RATE) / RATE
        machine = sum(np.sin(2 * np.pi * 178 * line * t + line) / line for line in (1, 2, 3, 5))
        sounds = {
            "mains": speakers.mains(t.size, rate=RATE),
            "their harmonics": sum(np.sin(2 * np.pi * 120.03 * line * t + line) / line for line in (1, 2, 3)),
            "a machine": machine,
            "noise": speakers.room(t.size, rate=RATE, dbfs=-40),
            "chords": sum(np.sin(2 * np.pi * hz * t + hz) * (1 + np.sin(0.7 * t + hz)) for hz in (196.0, 246.9, 293.7, 392.0)),
        }
        for name, sound in sounds.items():
            wave = faults.at_level(sound, rms_dbfs=-45) + speakers.room(t.size, rate=RATE, dbfs=-57)
            with self.subTest(name=name):
                self.assertEqual(self.moves(wave, (1.0, 1.4), (2.0, 3.5)), [False, False])

    def test_many_runs_are_told_as_one_by_one(self):
        laid = speakers.laid("sluice", rate=RATE)
        low = measure_array(laid.wave[:, None], sample_rate_hz=RATE).meters.low_rate
        runs = np.stack((np.arange(0, 2_000, 10), np.arange(60, 2_060, 10)), axis=1)
        found = pitch.moves(low, runs)
        self.assertEqual(found.tolist(), [bool(pitch.moves(low, run[None, :])[0]) for run in runs])
        self.assertTrue(found.any() and not found.all())

    def test_a_run_too_short_to_hold_a_pitch_does_not(self):
        wave = signals.sine(150, peak_dbfs=-20, seconds=3, rate=RATE)
        self.assertEqual(self.moves(wave, (1.0, 1.05), (2.0, 2.07)), [False, False])
        self.assertEqual(
            pitch.moves(measure_array(wave[:, None], sample_rate_hz=RATE).meters.low_rate, np.zeros((0, 2), int)).size, 0
        )
