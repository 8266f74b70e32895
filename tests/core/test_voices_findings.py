"""Faults of a known size in several speakers' words, at every gain and rate. A sample; whole: `./run bench --voices`."""

import unittest
from collections import defaultdict
from collections.abc import Iterable, Sequence
from itertools import product
from typing import NamedTuple

import numpy as np
import scipy
import soxr

from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.reading import Finding
from tests import corpus, speakers

GAINS_DB = (0, -8, -16, -24, -30)
TOLD = {"gap": "dropout", "hole": "dropout", "held": "dropout", "repeated": "repeated-buffer"}
"""What each fault is told as; the others are clicks."""
LOOKED_AT = ("click", "dropout", "repeated-buffer", "clipping", "clipping-suspected")
CLICKS = ("ringing", "impulse", "step")
NEAR_S = 0.02
CUT = ("hard", "one side", "hard, high-pass", "hard, steep high-pass")


class Case(NamedTuple):
    speaker: str
    rate: int
    gain_db: int
    fault: str
    under_peak_db: int = 0


class Count(NamedTuple):
    made: int
    found: int
    false: int
    minutes: float


def cases() -> list[Case]:
    """Every fault of every speaker at every rate and gain; clicks at three levels."""
    faults = [*product(CLICKS, (0, 10, 20)), *((kind, 0) for kind in (*TOLD, "none"))]
    return [Case(*where, *fault) for where in product(speakers.NAMES, corpus.RATES, GAINS_DB) for fault in faults]


def made(case: Case) -> tuple[np.ndarray, list[float]]:
    """The wave, its highest peak at −3 dBFS and the gain, and where its faults are in seconds."""
    laid = speakers.laid(case.speaker, rate=case.rate, pause_s=0.7)
    laid = laid.over(speakers.room(laid.wave.size, rate=case.rate, dbfs=-70, seed=5))
    scale = 10 ** ((case.gain_db - 3) / 20) / np.abs(laid.wave).max()
    if case.fault == "none":
        return laid.wave * scale, []
    wave, places = speakers.faulty(laid, case.fault, under_peak_db=case.under_peak_db, seed=4)
    return wave * scale, places


def counted(case: Case) -> Count:
    """Faults made and found, and findings where none was made."""
    wave, places = made(case)
    told = [f for f in measure_array(wave[:, None], sample_rate_hz=case.rate).inspection.findings if f.kind in LOOKED_AT]
    kind = TOLD.get(case.fault, "click")
    at = np.array(places)
    found = sum(any(f.kind == kind and _near(f, place) for f in told) for place in places)
    false = sum(f.kind == kind or case.fault == "none" for f in told if not any(_near(f, place, 0.09) for place in at))
    return Count(len(places), found, false, wave.size / case.rate / 60)


def _near(finding: Finding, place: float, within_s: float = NEAR_S) -> bool:
    return finding.start_s - within_s < place < finding.end_s + within_s


def summed(counts: Iterable[Count]) -> Count:
    return Count(*(sum(each) for each in zip(*counts, strict=True)))


def cut(speaker: str, rate: int, how: str, share: float, gain_db: float) -> np.ndarray:
    """Words with so large a share of their samples beyond a ceiling, cut there, of 16 bits."""
    laid = speakers.laid(speaker, rate=rate, pause_s=0.7)
    wave = laid.over(speakers.room(laid.wave.size, rate=rate, dbfs=-70, seed=5)).wave
    ceiling = np.quantile(wave if how == "one side" else np.abs(wave), 1 - share)
    wave = np.clip(wave, -np.inf if how == "one side" else -ceiling, ceiling)
    if "high-pass" in how:
        order, hz = (4, 100) if "steep" in how else (2, 80)
        wave = scipy.signal.sosfilt(scipy.signal.butter(order, hz, "highpass", fs=rate, output="sos"), wave)
    return np.round(wave * 10 ** (gain_db / 20) * 0.9 / np.abs(wave).max() * 32_768) / 32_768


def clipping_told(speaker: str, rate: int, how: str, share: float, gain_db: float) -> bool:
    return clipping_in(cut(speaker, rate, how, share, gain_db), rate)


def clipping_in(wave: np.ndarray, rate: int) -> bool:
    findings = measure_array(wave[:, None], sample_rate_hz=rate).inspection.findings
    return any(f.kind in ("clipping", "clipping-suspected") for f in findings)


def clipping_cases(how: str, share: float) -> list[tuple[str, int, str, float, int]]:
    return [(name, rate, how, share, gain) for name, rate, gain in product(speakers.NAMES, corpus.RATES, (0, -12, -30))]


class Findings(unittest.TestCase):
    def counted(self, chosen: Sequence[Case], *, every: int) -> Count:
        self.assertGreater(len(chosen), every)
        return summed(counted(case) for case in corpus.some(chosen, every=every))

    def test_whatever_takes_sound_away_is_found_at_every_gain_and_rate(self):
        for fault in TOLD:
            count = self.counted([case for case in cases() if case.fault == fault], every=53)
            with self.subTest(fault=fault):
                self.assertGreaterEqual(count.found, 0.9 * count.made, count)
                self.assertLessEqual(count.false, 0.05 * count.found, count)

    def test_clicks_are_found_at_every_gain(self):
        # docs/BENCHMARKS.md has all of them, those 20 dB under the peak at low rates too, where words hide some.
        for levels, rates in (((0, 10, 20), corpus.RATES[3:]), ((0, 10), corpus.RATES[:3])):
            chosen = [case for case in cases() if case.fault in CLICKS and case.under_peak_db in levels and case.rate in rates]
            count = self.counted(chosen, every=97 if len(levels) == 3 else 53)
            with self.subTest(levels=levels):
                self.assertGreaterEqual(count.found, 0.93 * count.made, count)
                self.assertLessEqual(count.false, 0.03 * count.found, count)

    def test_clicks_are_found_in_pauses_far_under_the_voice(self):
        made = found = 0
        for name, rate in product(("caller", "reed", "plover"), (16_000, 48_000)):
            laid = speakers.laid(name, rate=rate)
            wave, random = laid.wave + speakers.room(laid.wave.size, rate=rate, dbfs=-65), np.random.default_rng(3)
            places = [random.uniform(start + 0.1, end - 0.1) for start, end in laid.pauses()]
            for place, kind in zip(places, CLICKS * len(places), strict=False):
                speakers.put_in(wave, kind, round(place * rate), rate=rate, top=0.01, random=random)
            told = [f for f in measure_array(wave[:, None], sample_rate_hz=rate).inspection.findings if f.kind == "click"]
            made, found = made + len(places), found + sum(any(_near(f, place) for f in told) for place in places)
        self.assertGreaterEqual(found, 0.7 * made, (found, made))

    def test_noise_alone_has_no_clicks(self):
        for kind, rate in (("white", 16_000), ("pink", 44_100), ("dull", 44_100)):
            noise = speakers.room(120 * rate, rate=rate, dbfs=-50, kind=kind, seed=3)
            with self.subTest(kind=kind):
                found = measure_array(noise[:, None], sample_rate_hz=rate).inspection.findings
                self.assertEqual([f for f in found if f.kind == "click"], [])

    def test_hiss_that_sets_in_at_once_is_no_click(self):
        rate = 44_100
        for name in ("caller", "wren"):
            laid, random = speakers.laid(name, rate=rate), np.random.default_rng(2)
            wave = laid.wave + speakers.room(laid.wave.size, rate=rate, dbfs=-70)
            high = scipy.signal.butter(4, 4_000, "high", fs=rate, output="sos")
            for start, end in laid.spans:
                for place in np.arange(start + 0.2, end - 0.2, 0.5):
                    hiss = scipy.signal.sosfilt(high, random.standard_normal(round(0.08 * rate)))[200:]
                    wave[round(place * rate) :][: hiss.size] += 0.025 * hiss * np.linspace(1, 0, hiss.size) / hiss.std()
            clean = [f for f in measure_array(wave[:, None] * 0.3, sample_rate_hz=rate).inspection.findings if f.kind == "click"]
            with self.subTest(name=name):
                self.assertLessEqual(len(clean), 1 if name == speakers.REAL else 0, clean)

    def test_what_is_cut_at_the_level_of_clipping_is_no_click(self):
        for name in ("reed", "wren", "almanac-02"):
            findings = measure_array(cut(name, 44_100, "hard", 0.01, -12)[:, None], sample_rate_hz=44_100).inspection.findings
            with self.subTest(name=name):
                self.assertTrue(any(f.kind == "clipping" for f in findings))
                self.assertEqual([f for f in findings if f.kind == "click"], [])

    def test_a_click_as_high_as_the_clipping_is_told_in_a_pause(self):
        wave = cut("wren", 44_100, "hard", 0.01, -12)
        place = speakers.laid("wren", rate=44_100, pause_s=0.7).pauses()[2].mean()
        wave[round(place * 44_100)] = wave.max()
        findings = measure_array(wave[:, None], sample_rate_hz=44_100).inspection.findings
        self.assertTrue(any(f.kind == "click" and _near(f, place) for f in findings), findings)

    def test_a_gain_changes_nothing_that_is_found(self):
        for fault, under in (("ringing", 10), ("gap", 0), ("held", 0), ("none", 0)):
            counts = {counted(Case("caller", 96_000, gain, fault, under))[:3] for gain in GAINS_DB}
            with self.subTest(fault=fault):
                self.assertEqual(len(counts), 1, counts)

    def test_clean_voices_raise_at_most_one_false_alarm_a_minute(self):
        # Every speaker counts once: a sample of some would weigh one that alarms more or less than another.
        clean = [case for case in cases() if case.fault == "none" and case.rate >= 44_100]
        once = [case for case in clean if case.rate == 48_000 and case.gain_db == -16]
        count = summed(counted(case) for case in (clean if corpus.WHOLE else once))
        self.assertEqual({case.speaker for case in once}, set(speakers.NAMES))
        self.assertLessEqual(count.false, count.minutes, count)

    def test_clipping_is_told_after_a_high_pass_and_on_one_side_alone(self):
        told = defaultdict(list)
        for how in CUT[:3]:
            for case in corpus.some(clipping_cases(how, 0.002), every=13):
                told[how].append(clipping_told(*case))
            with self.subTest(how=how):
                self.assertGreaterEqual(np.mean(told[how]), 0.9)

    def test_tops_that_a_change_of_rate_rounded_are_suspected_and_wide_crests_of_a_voice_are_not(self):
        told = [
            clipping_in(soxr.resample(cut(name, 44_100, "hard", 0.0005, -6), 44_100, 32_000), 32_000) for name in speakers.NAMES
        ]
        self.assertGreaterEqual(np.mean(told), 0.75, told)
        for name in speakers.NAMES:
            with self.subTest(name=name):
                self.assertFalse(clipping_in(made(Case(name, 32_000, -16, "none"))[0], 32_000))

    def test_no_clipping_where_none_is(self):
        for case in corpus.some(clipping_cases("hard, high-pass", 0.0), every=29):
            with self.subTest(case=case):
                self.assertFalse(clipping_told(*case))
