"""Edits carried over to a newer file of the same reading."""

import unittest

import numpy as np

from ispettore.core.edit import making
from ispettore.core.edit.carrying import carried, moments
from ispettore.core.edit.edits import Edits, Put
from tests import speakers

RATE, CELL_S = 8_000, 0.005


def reading(name: str) -> np.ndarray:
    """Forty seconds of a speaker in a room."""
    laid = speakers.laid(name, rate=RATE, seconds=42)
    wave = laid.wave[: 40 * RATE] * 10 ** (-24 / 20) / np.sqrt(np.mean(laid.wave**2))
    return wave + np.random.default_rng(4).normal(0, 1e-3, wave.size)


def powers(wave: np.ndarray) -> np.ndarray:
    size = round(CELL_S * RATE)
    cells = len(wave) // size
    return np.mean(wave[: cells * size].reshape(cells, size) ** 2, axis=1)


def bare(wave: np.ndarray) -> Edits:
    return making.unedited(sample_rate_hz=RATE, frames=len(wave), room=[(0.0, 0.5)])


class Carrying(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.wave = reading("reed")
        edits = making.cut(bare(cls.wave), 7, 9, file="x")
        edits = making.lengthened(edits, 18.0, 0.5, file="x")
        cls.edits = making.replaced(edits, 27, 28, file="x")

    def carry(self, newer: np.ndarray):
        return carried(self.edits, powers(self.wave), bare(newer), powers(newer), cell_s=CELL_S)

    def places(self, edits: Edits) -> list[tuple[float, float]]:
        return [(edit.start / RATE, edit.end / RATE) for edit in edits.edits]

    def test_the_same_file_at_another_level_keeps_them_all_where_they_were(self) -> None:
        for gain in (0.3, 1.0, 2.0):
            found = self.carry(self.wave * gain)
            self.assertEqual((found.edits.edits, found.lost), (self.edits.edits, ()))

    def test_moments_come_where_what_follows_them_is_heard_and_never_before_one_another(self) -> None:
        at = [0.0, 6.5, 14.2, 27.3, 33.0]
        room = np.random.default_rng(5).normal(0, 1e-3, 3 * RATE)
        newer = np.concatenate((room, self.wave[: 20 * RATE] * 0.5, self.wave[25 * RATE : 36 * RATE]))
        found = moments(at, powers(self.wave), powers(newer), cell_s=CELL_S)
        np.testing.assert_allclose(found, [3.0, 9.5, 17.2, 25.3, 31.0], atol=CELL_S)
        gone = np.concatenate((self.wave[: 10 * RATE], self.wave[20 * RATE :]))
        found = moments(at, powers(self.wave), powers(gone), cell_s=CELL_S)
        self.assertIsNone(found[2])
        np.testing.assert_allclose([one for one in found if one is not None], [0.0, 6.5, 17.3, 23.0], atol=CELL_S)
        twice = np.concatenate((self.wave[: 8 * RATE], self.wave[: 8 * RATE]))
        [one, other] = moments([2.0, 10.0], powers(twice), powers(twice), cell_s=CELL_S)
        np.testing.assert_allclose([one, other], [2.0, 10.0], atol=CELL_S)

    def test_what_was_trimmed_or_put_before_them_moves_them(self) -> None:
        for newer, by in ((self.wave[round(1.234 * RATE) :], -1.234), (np.concatenate((self.wave[: 5 * RATE], self.wave)), 5.0)):
            found = self.carry(newer)
            with self.subTest(by=by):
                self.assertEqual(found.lost, ())
                for (start, end), (was_start, was_end) in zip(self.places(found.edits), self.places(self.edits), strict=True):
                    self.assertAlmostEqual(start, was_start + by, delta=0.006)
                    self.assertAlmostEqual(end, was_end + by, delta=0.006)

    def test_what_was_recorded_again_loses_its_own_alone(self) -> None:
        newer = np.concatenate((self.wave[: 12 * RATE], reading("wren")[: 12 * RATE], self.wave[23 * RATE :]))
        found = self.carry(newer)
        self.assertEqual(found.lost, (self.edits.edits[1],))
        self.assertEqual(self.places(found.edits)[0], (7, 9))
        self.assertAlmostEqual(self.places(found.edits)[1][0], self.places(self.edits)[2][0] + 1.0, delta=0.006)

    def test_what_the_newer_file_mended_itself_leaves_nothing_to_cut(self) -> None:
        newer = np.concatenate((self.wave[: 7 * RATE], self.wave[9 * RATE :]))
        found = self.carry(newer)
        self.assertEqual(found.lost, (self.edits.edits[0],))
        self.assertEqual(len(found.edits.edits), 2)

    def test_another_reading_keeps_nothing(self) -> None:
        for name in ("wren", "heron", "caller"):
            found = self.carry(reading(name))
            with self.subTest(name=name):
                self.assertEqual((found.edits.edits, found.lost), ((), self.edits.edits))

    def test_retakes_stay_with_the_file_that_they_were_made_for(self) -> None:
        edits = making.retaken(self.edits, 4, 5, [Put(frames=RATE, take="t")], file="x")
        found = carried(edits, powers(self.wave), bare(self.wave), powers(self.wave), cell_s=CELL_S)
        self.assertEqual([len(found.edits.edits), len(found.lost)], [3, 1])
