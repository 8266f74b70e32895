"""Dynamics against plain references, the limiter's distortion, memory that does not grow, and the pitch of voices."""

import tempfile
import tracemalloc
import unittest
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.treat import tone
from ispettore.core.treat.compressor import Compressor, static_curve
from ispettore.core.treat.control import tick_frames
from ispettore.core.treat.runner import run
from ispettore.core.treat.treatment import Step, Treatment
from ispettore.demo import faults
from tests import signals
from tests.treating import RATE, db, fed, measured, reading


def held_levels(wave: np.ndarray, ahead_ms: float) -> np.ndarray:
    """The largest |sample| within 5 ms of each tick, `ahead_ms` later, frame by frame in plain Python."""
    tick = tick_frames(RATE)
    count = len(wave) // tick
    peaks = [max(abs(float(value)) for value in wave[n * tick : (n + 1) * tick]) for n in range(count)]
    hold, ahead = round(0.005 * RATE / tick), round(ahead_ms / 1000 * RATE / tick)
    padded = [0.0] * hold + peaks + [0.0] * (hold + ahead + 2)
    held = [max(padded[n : n + 2 * hold + 1]) for n in range(count + ahead + 1)]
    return np.array(held)


class References(unittest.TestCase):
    """The same arithmetic, written as plainly as it can be."""

    def check(self, kind: str, settings: dict, gains) -> None:
        wave = reading(seconds=3)[RATE : 3 * RATE]
        tick = tick_frames(RATE)
        wave = wave[: len(wave) // tick * tick]
        out = fed(kind, wave[:, None], 10_000, **settings)[:, 0]
        factors = 10 ** (gains / 20)
        at = np.arange(len(wave)) / tick
        expected = wave * np.interp(at, np.arange(factors.size), factors)
        self.assertLess(np.abs(out - expected)[: -RATE // 50].max(), 2e-5)

    def test_the_compressor(self):
        settings = Compressor(threshold_dbfs=-32, ratio=3, knee_db=6, attack_ms=4, release_ms=90)
        held = held_levels(reading(seconds=3)[RATE : 3 * RATE].astype(np.float32), 4)
        step_ms = 1000 * tick_frames(RATE) / RATE
        attack, release = np.exp(-step_ms / 4), np.exp(-step_ms / 90)
        last, gains = 0.0, []
        for level in 20 * np.log10(np.maximum(held, 1e-8)):
            wanted = float(static_curve(np.array([level]), settings)[0])
            keep = attack if wanted < last else release
            last = keep * last + (1 - keep) * wanted
            gains.append(last)
        ahead = round(4 / step_ms)
        self.check("compressor", settings.model_dump(), np.array(gains)[ahead:])

    def test_the_expander(self):
        settings = {
            "threshold_dbfs": -45,
            "ratio": 3,
            "range_db": 15,
            "attack_ms": 4,
            "hold_ms": 30,
            "release_ms": 80,
            "hysteresis_db": 3,
        }
        held = held_levels(reading(seconds=3)[RATE : 3 * RATE].astype(np.float32), 8)
        step_ms = 1000 * tick_frames(RATE) / RATE
        attack, release, stay = np.exp(-step_ms / 4), np.exp(-step_ms / 80), round(30 / step_ms)
        gain, opened, below, gains = 0.0, True, 0, []
        for level in 20 * np.log10(np.maximum(held, 1e-8)):
            if level >= -45:
                opened, below = True, 0
            elif level < -48:
                below += 1
                opened = opened and below <= stay
            else:
                below = 0
            wanted = 0.0 if opened else max(-15.0, min(0.0, (level + 45) * 2))
            keep = attack if wanted > gain else release
            gain = keep * gain + (1 - keep) * wanted
            gains.append(gain if gain < -1e-4 else 0.0)
        self.check("expander", settings, np.array(gains)[round(8 / step_ms) :])


class Distortion(unittest.TestCase):
    def test_a_steady_tone_is_turned_down_and_nothing_is_added(self):
        for hz in (150, 997, 4_000):
            wave = signals.sine(hz, peak_dbfs=0, seconds=4, rate=RATE)[:, None]
            out = fed("true-peak-limiter", wave, 30_000, ceiling_dbtp=-6)[RATE : 3 * RATE, 0]
            line = np.exp(-2j * np.pi * hz * np.arange(out.size) / RATE)
            fundamental_of = 2 * np.mean(out * line)
            rest = out - np.real(fundamental_of * np.conj(line))
            with self.subTest(hz=hz):
                self.assertLess(db(np.mean(rest**2) / np.mean(out**2)), -55)

    def test_on_speech_the_gain_moves_slower_than_the_voice(self):
        wave = reading(seconds=12)
        wave = wave / np.abs(wave).max()
        out = fed("true-peak-limiter", wave[:, None], 30_000, ceiling_dbtp=-6)[:, 0]
        loud = np.abs(wave) > 0.02
        gain = np.ones_like(wave)
        gain[loud] = out[loud] / wave[loud]
        # From sample to sample the gain moves by less than a thousandth: no new sound, only a turned one.
        beside = loud[1:] & loud[:-1]
        self.assertLess(np.abs(np.diff(gain))[beside].max(), 0.02)
        self.assertLess(np.percentile(np.abs(np.diff(gain))[beside], 99), 0.004)


class Memory(unittest.TestCase):
    """A ledger adds up to 7 MB a step besides: what its meters keep beyond a megabyte each waits on disk."""

    def test_four_times_the_length_takes_no_more_memory_worth_saying(self):
        steps = (
            Step(kind="rumble-filter"),
            Step(kind="noise-reduction"),
            Step(kind="expander", settings={"threshold_dbfs": -50}),
            Step(kind="compressor", settings={"threshold_dbfs": -26}),
            Step(kind="true-peak-limiter", settings={"ceiling_dbtp": -9}),
        )
        rate, most = 8_000, []
        minute = signals.voice_like(60, rms_dbfs=-20, rate=rate, room_dbfs=-60).astype(np.float32)
        for minutes in (6, 24):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "in.wav"
                with soundfile.SoundFile(path, "w", rate, 1, subtype="PCM_16") as file:
                    for _ in range(minutes):
                        file.write(minute)
                tracemalloc.start()
                run(path, Treatment(steps=steps), folder=Path(folder))
                most.append(tracemalloc.get_traced_memory()[1] / 1e6)
                tracemalloc.stop()
        print(f"treating 6 and 24 minutes: at most {most[0]:.0f} and {most[1]:.0f} MB")
        self.assertLess(most[1], most[0] + 15)


class Voices(unittest.TestCase):
    def test_the_pitch_of_made_up_voices_is_found(self):
        for base in (95, 120, 180, 240):
            t = np.arange(20 * RATE) / RATE
            phase = 2 * np.pi * np.cumsum(base * (1 + 0.05 * np.sin(2 * np.pi * 0.7 * t))) / RATE
            tone_of = sum(np.sin(k * phase) / k for k in range(1, 12))
            envelope = np.clip(np.sin(2 * np.pi * 0.4 * t) * 3, 0, 1) * (0.7 + 0.3 * np.sin(2 * np.pi * 4 * t))
            voice = 0.1 * tone_of * envelope + signals.noise(20, rms_dbfs=-70, rate=RATE)
            self.assertAlmostEqual(measured(voice).inspection.spectrum.fundamental_hz, base, delta=0.04 * base)

    def test_a_lower_and_a_higher_voice_get_different_starting_points(self):
        found = {name: tone.propose(measured(faults.clean_speech(name)[0][: 30 * RATE])) for name in ("almanac-01", "almanac-04")}
        for name, start in found.items():
            with self.subTest(name=name):
                self.assertIsNotNone(start)
                self.assertTrue(60 <= start.bands[1].frequency_hz <= 300)

    def test_noise_has_no_pitch(self):
        self.assertIsNone(tone.propose(measured(signals.noise(5, rms_dbfs=-20, rate=RATE))))


if __name__ == "__main__":
    unittest.main()
