"""A room that swells: told by its own spectrum, whatever its level."""

import unittest

import numpy as np

from ispettore.core.measure import speech, swelling
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.inspecting import measure_array
from tests import signals, speakers

RATE = 48_000


def found(wave: np.ndarray, *, alone: np.ndarray | None = None) -> swelling.Swelling:
    """How the room of a wave swells; unless it is said where it is heard `alone`, where its level is in the lowest quarter."""
    meters = measure_array(wave[:, None], sample_rate_hz=RATE).meters
    power = meters.filtered.voice_power.whole()[0]
    slow = speech._decibels(power, speech.TENTH)
    alone = slow <= np.percentile(slow, 25) if alone is None else alone
    return swelling.find(alone=alone, soft=np.ones(power.size, dtype=bool), spectra=meters.spectra)


class Swelling(unittest.TestCase):
    def test_it_follows_the_level_of_a_room(self):
        for kind, period_s in (("pink", 5.0), ("dull", 3.0), ("white", 7.0)):
            noise = speakers.swelling(20 * RATE, rate=RATE, dbfs=-55, swing_db=12, period_s=period_s, kind=kind)
            swell = found(noise)
            level = 6 * np.sin(2 * np.pi * np.arange(0, 20, CELL_S) / period_s)
            raised = swell.at(0, level.size)
            usual = np.median(level[raised > 0] - raised[raised > 0])
            with self.subTest(kind=kind):
                self.assertLess(np.percentile(np.abs(level - usual - raised)[raised > 0], 95), 1.5)
                self.assertGreater((raised > 0).mean(), 0.4)

    def test_a_steady_room_does_not_swell_and_gives_nothing_to_raise(self):
        swell = found(speakers.room(10 * RATE, rate=RATE, dbfs=-60))
        self.assertFalse(swell.any)
        self.assertEqual(swell.at(100, 140).tolist(), [0.0] * 40)

    def test_a_voice_in_a_steady_room_is_no_swelling(self):
        for name in speakers.NAMES:
            laid = speakers.laid(name, rate=RATE, pause_s=0.8)
            wave = laid.over(speakers.room(laid.wave.size, rate=RATE, dbfs=-62)).wave
            meters = measure_array(wave[:, None], sample_rate_hz=RATE).meters
            dead = speech.dead_cells(meters.cells)
            level, above, _, loud = speech._levels(meters.filtered.voice_power, dead)
            soft = level <= loud - speech.STEADY_BELOW_VOICE_DB
            swell = swelling.find(alone=above == 0, soft=soft, spectra=meters.spectra)
            with self.subTest(name=name):
                self.assertLess((swell.raised_db > 0).mean(), 0.02)

    def test_another_sound_is_no_room_however_it_swells(self):
        noise = speakers.room(12 * RATE, rate=RATE, dbfs=-60)
        whistle = signals.sine(2_000, peak_dbfs=-50, seconds=4, rate=RATE)
        noise[4 * RATE : 8 * RATE] += whistle
        alone = np.ones(round(12 / CELL_S), dtype=bool)
        alone[round(3.9 / CELL_S) : round(8.1 / CELL_S)] = False
        self.assertFalse(found(noise, alone=alone).any)

    def test_what_sets_in_at_once_is_no_swelling(self):
        noise = speakers.room(12 * RATE, rate=RATE, dbfs=-60)
        noise[5 * RATE : 5 * RATE + RATE // 2] *= 10 ** (10 / 20)
        self.assertFalse(found(noise).any)

    def test_too_little_of_the_room_tells_nothing(self):
        noise = speakers.swelling(4 * RATE, rate=RATE, dbfs=-55, swing_db=12, period_s=4.0)
        self.assertFalse(found(noise, alone=np.zeros(round(4 / CELL_S), dtype=bool)).any)
        self.assertFalse(found(noise[: RATE // 10]).any)
