"""Steps on several speakers' words. A sample; whole: `./run bench --voices`."""

import unittest
from itertools import product
from typing import NamedTuple

import numpy as np

from tests import corpus, speakers
from tests.treating import treated


class Cut(NamedTuple):
    """So large a share of the samples beyond a ceiling, which the second half has lower, as a part turned down later has."""

    speaker: str
    rate: int
    share: float
    how: str
    gain_db: float


def cut_cases() -> list[Cut]:
    """Lightly and heavily clipped, on both sides or one, one channel lower, a part turned down later."""
    shares, hows = (0.0001, 0.0005, 0.002, 0.01), ("both", "one side", "one channel lower", "turned down later")
    return [Cut(*each) for each in product(speakers.NAMES, (22_050, 44_100, 96_000), shares, hows, (0.0, -9.0))]


def clipped(case: Cut) -> tuple[np.ndarray, np.ndarray]:
    """What it was and what was cut, shape (frames, channels)."""
    wave = speakers.laid(case.speaker, rate=case.rate, pause_s=0.5).wave
    wave = wave / np.abs(wave).max() * 10 ** (case.gain_db / 20)
    ceiling = np.quantile(np.abs(wave), 1 - case.share)
    true = wave[:, None]
    cut = np.clip(true, -np.inf if case.how == "one side" else -ceiling, ceiling)
    if case.how == "one channel lower":
        true, cut = true * [1.0, 0.7], cut * [1.0, 0.7]
    if case.how == "turned down later":
        later = np.where(np.arange(wave.size) > wave.size / 2, 0.6, 1.0)[:, None]
        true, cut = true * later, cut * later
    return true, cut


def gained_db(case: Cut) -> float | None:
    """By how much the repaired samples are nearer to what they were than if they had been left; None where none was cut."""
    true, cut = clipped(case)
    wrong = np.abs(cut - true) > 1e-9
    if wrong.sum() < 12:
        return None
    out, _ = treated(cut, ("clip-repair", {}), rate=case.rate)
    left, mended = np.sum((cut - true) ** 2), np.sum((out - true) ** 2)
    return 10 * float(np.log10(left / max(mended, 1e-20)))


class ClipRepair(unittest.TestCase):
    def test_it_is_never_worse_than_leaving_it_and_mostly_much_better(self):
        gained = {case: gained_db(case) for case in corpus.some(cut_cases(), every=31)}
        known = {case: gain for case, gain in gained.items() if gain is not None}
        self.assertGreaterEqual(min(known.values()), -0.01, min(known, key=known.get))
        self.assertGreater(np.median(list(known.values())), 5.0, known)

    def test_each_run_channel_and_sign_has_its_own_threshold(self):
        for how in ("one side", "one channel lower", "turned down later"):
            case = Cut("caller", 44_100, 0.002, how, -3.0)
            true, cut = clipped(case)
            out, done = treated(cut, ("clip-repair", {}), rate=case.rate)
            wrong = np.abs(cut - true) > 1e-4
            with self.subTest(how=how):
                self.assertGreater(done.ledger[0].learned["repaired_runs"], 5)
                for channel, part in product(range(cut.shape[1]), (slice(0, len(cut) // 2), slice(len(cut) // 2, None))):
                    there = wrong[part, channel]
                    changed = np.abs(out[part, channel] - cut[part, channel])[there] > 0
                    self.assertGreater(changed.mean(), 0.6, (channel, part))

    def test_nothing_comes_back_far_above_what_both_sides_lead_up_to(self):
        for name in speakers.NAMES:
            true, cut = clipped(Cut(name, 44_100, 0.0001, "both", 0.0))
            out, _ = treated(cut, ("clip-repair", {}))
            with self.subTest(name=name):
                self.assertLess(np.abs(out).max(), 1.1 * np.abs(true).max())
