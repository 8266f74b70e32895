"""Retakes made to sound like the recording: level, tone, room, rate and channels; and where they are laid."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import scipy

from ispettore.core.audio.reading import read_all
from ispettore.core.measure import voice_tone
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.reading import Span
from ispettore.core.treat import retake
from ispettore.core.treat.retake import Into, RetakeTooLong, RetakeUnfit, RetakeWithoutSpeech
from tests import signals, speakers

RATE = 44_100
LEVEL = "active_speech_level_dbfs"


def spoken(name: str, *, rms_dbfs: float, room_dbfs: float, phrases: slice) -> np.ndarray:
    """Phrases of a speaker in a room of noise, (frames, 1)."""
    laid = speakers.laid(name, rate=RATE, seconds=60)
    first, last = laid.spans[phrases][0][0] - 0.4, laid.spans[phrases][-1][1] + 0.4
    wave = laid.wave[max(round(first * RATE), 0) : round(last * RATE)]
    wave = wave * 10 ** (rms_dbfs / 20) / np.sqrt(np.mean(wave**2))
    room = np.random.default_rng(3).normal(0, 10 ** (room_dbfs / 20), wave.size)
    return np.clip(wave + room, -1, 1).astype(np.float32).reshape(-1, 1)


class Prepared(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.recording = spoken("reed", rms_dbfs=-22, room_dbfs=-62, phrases=slice(0, 8))
        cls.basis = measure_array(cls.recording, sample_rate_hz=RATE).basis
        found = retake.into(cls.basis, Span(start_s=3, end_s=5))
        assert found is not None
        cls.into: Into = found

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def prepare(self, wave: np.ndarray, rate: int = RATE, into: Into | None = None):
        take = signals.write(self.folder / "take.wav", wave, rate)
        room = [self.recording[: round(0.3 * RATE)]]
        target, made = self.folder / "prepared.rf64", self.folder / "made"
        made.mkdir(exist_ok=True)
        matched = retake.prepare(take, into or self.into, target, name="take.wav", room=room, folder=made)
        found, found_rate = read_all(target)
        self.assertEqual(found_rate, RATE)
        return matched, found

    def test_level_and_room_are_those_of_the_recording_whatever_they_were(self) -> None:
        target = self.basis.inspection
        for rms, room in ((-40, -90), (-30, -70), (-18, -62)):
            with self.subTest(rms=rms):
                wave = spoken("reed", rms_dbfs=rms, room_dbfs=room, phrases=slice(8, 12))
                matched, found = self.prepare(wave)
                own = measure_array(found, sample_rate_hz=RATE).inspection
                self.assertAlmostEqual(own.value(LEVEL), target.value(LEVEL), delta=0.8)
                self.assertAlmostEqual(matched.gain_db, -22 - rms, delta=1.5)
                if matched.filled_db:
                    self.assertAlmostEqual(own.value("noise_floor_dbfs"), target.value("noise_floor_dbfs"), delta=1.0)

    def test_a_louder_room_stays_and_is_told(self) -> None:
        matched, found = self.prepare(spoken("reed", rms_dbfs=-22, room_dbfs=-50, phrases=slice(8, 12)))
        own = measure_array(found, sample_rate_hz=RATE).inspection.value("noise_floor_dbfs")
        self.assertAlmostEqual(matched.louder_room_db, own - self.basis.inspection.value("noise_floor_dbfs"), delta=0.2)
        self.assertGreater(matched.louder_room_db, 9)
        self.assertIn("its room is", matched.told)
        self.assertEqual(matched.filled_db, 0)

    def test_the_tone_comes_nearer_by_a_gentle_curve(self) -> None:
        plain = spoken("reed", rms_dbfs=-22, room_dbfs=-62, phrases=slice(8, 14))
        shelf = scipy.signal.butter(1, 1_500, "high", fs=RATE, output="sos")
        dull = plain - 0.5 * scipy.signal.sosfilt(shelf, plain, axis=0).astype(np.float32)
        matched, found = self.prepare(dull.astype(np.float32))

        def apart(wave: np.ndarray) -> float:
            tone = voice_tone.of(measure_array(wave, sample_rate_hz=RATE).inspection.spectrum)
            return voice_tone.apart(self.into.tone_db, tone)

        self.assertLess(apart(found), 0.75 * apart(dull))
        self.assertTrue(0.5 < matched.tone_db <= retake.TONE_MOST_DB)

    def test_rate_and_channels_are_those_of_the_recording(self) -> None:
        wave = spoken("reed", rms_dbfs=-30, room_dbfs=-70, phrases=slice(8, 12))
        other = scipy.signal.resample_poly(wave, 160, 147, axis=0).astype(np.float32)
        matched, found = self.prepare(np.repeat(other, 2, axis=1), 48_000)
        self.assertEqual(found.shape[1], 1)
        self.assertAlmostEqual(len(found) / RATE, len(wave) / RATE, delta=0.001)
        self.assertAlmostEqual(matched.duration_s, len(found) / RATE, delta=0.001)
        stereo = self.into.model_copy(update={"channels": 2})
        self.assertEqual(self.prepare(wave, into=stereo)[1].shape[1], 2)
        with self.assertRaises(RetakeUnfit):
            self.prepare(wave, into=self.into.model_copy(update={"channels": 6}))

    def test_a_peak_is_never_made_to_clip(self) -> None:
        wave = spoken("reed", rms_dbfs=-36, room_dbfs=-80, phrases=slice(8, 12))
        wave[round(0.2 * RATE)] = 0.5
        matched, found = self.prepare(wave)
        self.assertLessEqual(float(np.abs(found).max()), 1.0)
        self.assertGreater(matched.withheld_db, 5)
        self.assertIn("as its peaks would clip", matched.told)

    def test_what_is_no_retake_is_refused(self) -> None:
        with self.assertRaises(RetakeWithoutSpeech):
            self.prepare(signals.noise(2, rms_dbfs=-60, rate=RATE))
        with self.assertRaises(RetakeTooLong):
            self.prepare(np.zeros((301 * 8_000, 1), dtype=np.float32), 8_000)

    def test_the_level_is_that_of_the_voice_nearby(self) -> None:
        far = np.concatenate((self.recording * 0.25, np.zeros((25 * RATE, 1), dtype=np.float32), self.recording))
        basis = measure_array(far, sample_rate_hz=RATE).basis
        first, second = (retake.into(basis, Span(start_s=at, end_s=at + 1)) for at in (3.0, len(far) / RATE - 3))
        assert first is not None and second is not None
        self.assertAlmostEqual(second.speech_dbfs - first.speech_dbfs, 12, delta=1)
        silent = measure_array(np.zeros((RATE, 1), dtype=np.float32), sample_rate_hz=RATE).basis
        self.assertIsNone(retake.into(silent, Span(start_s=0, end_s=1)))


class Laid(unittest.TestCase):
    def test_its_words_come_and_go_as_those_did(self) -> None:
        inspection = measure_array(signals.voice_like(8, rms_dbfs=-24, rate=RATE), sample_rate_hz=RATE).inspection
        first = inspection.speech[0]
        lead, trail = retake.around(inspection, Span(start_s=first.start_s - 0.2, end_s=first.end_s + 0.1))
        self.assertAlmostEqual(lead, 0.2)
        self.assertAlmostEqual(trail, 0.1)
        inside = retake.around(inspection, Span(start_s=first.start_s + 0.05, end_s=first.end_s - 0.05))
        self.assertEqual(inside, (retake.MARGIN_S, retake.MARGIN_S))

    def test_a_join_in_a_voice_is_moved_until_both_sides_swing_together(self) -> None:
        time = np.arange(RATE) / RATE

        def vowel(degrees: float) -> np.ndarray:
            parts = [np.sin(2 * np.pi * 120 * number * time + np.radians(degrees * number)) / number for number in range(1, 8)]
            return np.sum(parts, axis=0).reshape(-1, 1)

        half, at = 441, RATE // 2
        there = vowel(0)[at - half : at + half]
        for degrees in (0, 40, 133, 250):
            take = vowel(degrees)
            moved = at + retake.swings_with(there, take, at, sample_rate_hz=RATE)
            alike = np.corrcoef(there[:, 0], take[moved - half : moved + half, 0])[0, 1]
            with self.subTest(degrees=degrees):
                self.assertGreater(alike, 0.99)
        noise = np.random.default_rng(1).normal(size=(RATE, 1))
        self.assertEqual(retake.swings_with(there, noise, at, sample_rate_hz=RATE), 0)
        self.assertEqual(retake.swings_with(there, vowel(0), 10, sample_rate_hz=RATE), 0, "too near to its start")
