"""Steps on several speakers' words. A sample; whole: `./run bench --voices`."""

import tempfile
import unittest
from collections.abc import Sequence
from itertools import product
from typing import NamedTuple

import numpy as np
import soundfile

from ispettore.core.measure.inspecting import measure_array
from ispettore.core.treat import noise_reduction
from ispettore.core.treat.step import Context
from tests import corpus, speakers
from tests.treating import RATE, db, treated


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
        gained = {case: gained_db(case) for case in corpus.some(cut_cases(), every=47)}
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
                    if there.sum() < 20:
                        continue
                    changed = np.abs(out[part, channel] - cut[part, channel])[there] > 0
                    self.assertGreater(changed.mean(), 0.6, (channel, part))

    def test_nothing_comes_back_far_above_what_both_sides_lead_up_to(self):
        for name in speakers.NAMES:
            true, cut = clipped(Cut(name, 44_100, 0.0001, "both", 0.0))
            out, _ = treated(cut, ("clip-repair", {}))
            with self.subTest(name=name):
                self.assertLess(np.abs(out).max(), 1.1 * np.abs(true).max())


class Repaired(NamedTuple):
    """Clicks that were told of those put in, and still are afterwards; how much nearer each is then to what it was, in dB."""

    told: int
    left: int
    nearer_db: tuple[float, ...]


def clicked_cases() -> list[tuple[str, str, int]]:
    return list(product(speakers.NAMES, ("ringing", "impulse", "step"), (0, 10, 20)))


def repaired(case: tuple[str, str, int]) -> Repaired:
    """Clicks of one kind, so far under the peak, once a second."""
    name, kind, under_peak_db = case
    laid = speakers.laid(name, rate=RATE, pause_s=0.7)
    laid = laid.over(speakers.room(laid.wave.size, rate=RATE, dbfs=-70, seed=5))
    wave, places = speakers.faulty(laid, kind, under_peak_db=under_peak_db, seed=4)
    true, wave = laid.wave * 0.4, wave * 0.4
    out, _ = treated(wave, ("click-repair", {}))
    before, after = ([place for place in places if _told(each, place)] for each in (clicks_of(wave), clicks_of(out)))
    near = [slice(round((place - 0.006) * RATE), round((place + 0.018) * RATE)) for place in before]
    return Repaired(
        len(before), len(after), tuple(db(np.sum((wave[at] - true[at]) ** 2) / np.sum((out[at] - true[at]) ** 2)) for at in near)
    )


def clicks_of(wave: np.ndarray) -> list[float]:
    found = measure_array(wave[:, None], sample_rate_hz=RATE).inspection.findings
    return [each.start_s for each in found if each.kind == "click"]


def _told(clicks: Sequence[float], place: float) -> bool:
    return any(abs(each - place) < 0.02 for each in clicks)


class ClickRepair(unittest.TestCase):
    def test_the_meter_tells_none_of_them_any_more_and_the_sound_is_nearer_to_what_it_was(self):
        for case in corpus.some(clicked_cases(), every=7):
            with self.subTest(case=case):
                done = repaired(case)
                self.assertGreater(done.told, 0.75 * 17)
                self.assertEqual(done.left, 0)
                self.assertGreater(np.median(done.nearer_db), 0)
                self.assertGreater(np.mean(np.array(done.nearer_db) > -0.1), 0.8)


def in_room(where: speakers.Laid, dbfs: float) -> speakers.Laid:
    return where.over(speakers.room(where.wave.size, rate=where.rate, dbfs=dbfs, seed=3))


def change_db(before: np.ndarray, after: np.ndarray, start_s: float, end_s: float) -> float:
    """What a step did to the energy of a span at 44.1 kHz."""
    span = slice(round(start_s * RATE), round(end_s * RATE))
    return db(np.sum(after[span] ** 2)) - db(np.sum(before[span] ** 2))


def long_phrases(name: str, phrase_s: float, *, seconds: float = 40) -> tuple[np.ndarray, np.ndarray]:
    """A speaker without pauses but one of 0.8 s after so many seconds, at −20 dBFS over a room, and a mask of the words."""
    run_on = speakers.laid(name, rate=RATE, pause_s=0.02, head_s=0, tail_s=0, seconds=seconds).wave
    still, size = np.zeros(round(0.8 * RATE)), round(phrase_s * RATE)
    pieces, words = [still], [np.zeros(still.size, dtype=bool)]
    for at in range(0, run_on.size, size):
        phrase = run_on[at : at + size]
        pieces += [phrase, still]
        words += [np.ones(phrase.size, dtype=bool), words[0]]
    wave, mask = np.concatenate(pieces), np.concatenate(words)
    wave *= 0.1 / np.sqrt(np.mean(wave[mask] ** 2))
    return wave + speakers.room(wave.size, rate=RATE, dbfs=-72), mask


HUMS: dict[str, Sequence[int]] = {"all lines": range(1, 11), "even lines": (2, 4, 6, 8, 10)}


def hum_cases() -> list[tuple[str, float, str]]:
    """Speaker, length of phrases in seconds, and which lines the hum has."""
    return list(product(speakers.NAMES, (1.0, 4.0, 30.0), HUMS))


def unhummed(wave: np.ndarray, hum: np.ndarray) -> tuple[np.ndarray, float]:
    """What the filter leaves of a hum or adds to it, and the hum's power."""
    out, _ = treated(wave + hum, ("hum-filter", {"base_hz": 50.0}))
    return out - wave, float(np.mean(hum[hum != 0] ** 2))


def hum_left_db(case: tuple[str, float, str]) -> tuple[float, float, float]:
    """Against the hum: what is left of it under words, in pauses, and in the worst 100 ms."""
    name, phrase_s, which = case
    wave, words = long_phrases(name, phrase_s)
    rest, power = unhummed(wave, speakers.mains(wave.size, lines=HUMS[which]))
    worst = np.convolve(rest**2, np.ones(RATE // 10) / (RATE // 10), "same").max()
    return db(np.mean(rest[words] ** 2) / power), db(np.mean(rest[~words] ** 2) / power), db(worst / power)


class HumFilter(unittest.TestCase):
    def test_words_of_any_length_lose_their_hum_and_get_no_other(self):
        for case in corpus.some(hum_cases(), every=7):
            words, pauses, worst = hum_left_db(case)
            with self.subTest(case=case):
                self.assertLess(words, -20)
                self.assertLess(pauses, -30)
                self.assertLess(worst, -8)

    def test_hum_that_starts_in_mid_file_is_taken_from_its_start_on(self):
        for name in corpus.some(speakers.NAMES, every=4):
            wave, words = long_phrases(name, 4)
            hum = speakers.mains(wave.size)
            for start in (17.3, 19.55):  # under a word, and in a pause
                hum[: round(start * RATE)] = 0.0
                rest, power = unhummed(wave, hum)
                near = np.abs(np.arange(wave.size) / RATE - start) < 0.3
                with self.subTest(name=name, start=start):
                    self.assertGreater(db(power / np.mean(rest[~near & ~words] ** 2)), 35)
                    self.assertGreater(db(power / np.mean(rest[~near] ** 2)), 20)
                    self.assertLess(db(np.mean(rest[near] ** 2) / power), 0, "and nothing is added")


class Swelling(NamedTuple):
    """What 12 dB of noise reduction does to the noise: under the words against in pauses, told and true, and bounded to 4 dB."""

    told_db: float
    true_db: float
    in_pauses_db: float
    bounded_db: float
    bounded_in_pauses_db: float


def noisy_cases() -> list[tuple[str, float, str]]:
    """Speaker, level of the voice over the noise, kind of noise."""
    return list(product(speakers.NAMES, (20.0, 25.0, 30.0), ("white", "pink", "fan")))


def _noise(frames: int, dbfs: float, kind: str) -> np.ndarray:
    if kind != "fan":
        return speakers.room(frames, rate=RATE, dbfs=dbfs, kind=kind, seed=3)
    blades = 1 + 0.5 * np.sin(2 * np.pi * 7 * np.arange(frames) / RATE)
    return speakers.room(frames, rate=RATE, dbfs=dbfs, kind="white", seed=3) * blades


class _Gains(noise_reduction.NoiseProcessor):
    """Keeps the gains it gives, or gives those of another."""

    given: list[np.ndarray]
    kept: np.ndarray | None = None

    def _gains(self, count: int) -> np.ndarray:
        if self.kept is not None:
            gains, self.kept = self.kept[:count], self.kept[count:]
            return gains
        self.given.append(super()._gains(count))
        return self.given[-1]


def swelling(case: tuple[str, float, str]) -> Swelling:
    name, ratio_db, kind = case
    laid = speakers.laid(name, rate=RATE, seconds=25)
    voice = laid.wave * 0.1 / np.sqrt(np.mean(laid.wave[laid.words] ** 2))
    noise = _noise(voice.size, -20 - ratio_db, kind)
    at = np.arange(voice.size) / RATE
    still = np.any([(at > start + 0.2) & (at < end - 0.2) for start, end in laid.pauses()], axis=0)
    measured = measure_array((voice + noise)[:, None], sample_rate_hz=RATE)
    words = np.repeat(measured.speech_mask, RATE // 200)  # where the recording itself says that somebody speaks
    words = np.pad(words, (0, voice.size - words.size)) & ~still

    def left(bound_db: float) -> tuple[float, float, dict]:
        with tempfile.NamedTemporaryFile(suffix=".wav") as file:
            soundfile.write(file.name, voice + noise, RATE, subtype="FLOAT")
            context = Context("test", RATE, 1, measured, file.name)
            settings = noise_reduction.NoiseReduction(amount_db=12, swelling_db=bound_db)
            first, again = _Gains(context, settings), _Gains(context, settings)
        first.given = []
        first.feed((voice + noise)[:, None].astype(np.float32))
        first.finish()
        again.kept = np.concatenate(first.given)
        out = np.concatenate((again.feed(noise[:, None].astype(np.float32)), again.finish()))[:, 0].astype(np.float64)
        return change(noise, out, words), change(noise, out, still), first.learned()

    under, between, learned = left(18)
    bounded_under, bounded_between, _ = left(4)
    return Swelling(learned["swelling_db"], under - between, between, bounded_under - bounded_between, bounded_between)


def change(before: np.ndarray, after: np.ndarray, where: np.ndarray) -> float:
    return db(np.mean(after[where] ** 2) / np.mean(before[where] ** 2))


class NoiseReduction(unittest.TestCase):
    def test_how_far_noise_swells_with_the_words_is_known_and_can_be_bounded(self):
        for case in corpus.some(noisy_cases(), every=10):
            found = swelling(case)
            with self.subTest(case=case):
                self.assertAlmostEqual(found.told_db, found.true_db, delta=1.0)
                self.assertLess(found.bounded_db, 4.5)
                self.assertLess(found.bounded_in_pauses_db, -4.0, "and something is still taken")

    def test_noise_that_is_heard_to_swell_is_warned_of(self):
        laid = in_room(speakers.laid("wren", rate=RATE, seconds=20), -45)
        _, done = treated(laid.wave, ("noise-reduction", {"amount_db": 12}))
        line = done.ledger[0]
        told = r"swells by \d\.\d dB with the words.* With \d\.\d dB of noise reduction it swells by 4 dB"
        self.assertRegex(line.warnings[0], told)
        self.assertNotIn("taken_db", line.learned, "what was asked is what was taken")
        _, gentle = treated(laid.wave, ("noise-reduction", {"amount_db": 12, "swelling_db": 4}))
        self.assertEqual(gentle.ledger[0].warnings, ())
        self.assertLess(gentle.ledger[0].learned["taken_db"], 10)
        self.assertIn(f"With {gentle.ledger[0].learned['taken_db']:.1f} dB", line.warnings[0])


class Expander(unittest.TestCase):
    def test_a_proposed_threshold_leaves_every_phrase_its_start_and_lowers_the_pauses(self):
        cases = list(product(speakers.NAMES, (-55, -65), (None, -42)))
        for name, room_dbfs, breath_dbfs in corpus.some(cases, every=3):
            laid = in_room(speakers.laid(name, rate=RATE, pause_s=1.2), room_dbfs)
            wave = laid.wave
            if breath_dbfs is not None:
                wave = wave + speakers.breaths(laid, seconds=0.4, dbfs=breath_dbfs, seed=2)
            out, done = treated(wave, ("expander", {}))
            starts = [change_db(wave, out, start, start + 0.05) for start, _ in laid.spans]
            # Once it has let go: half a second after the phrase, up to the breath before the next.
            pauses = [change_db(wave, out, start + 0.55, end - 0.52) for start, end in laid.pauses()]
            with self.subTest(name=name, room_dbfs=room_dbfs, breath_dbfs=breath_dbfs):
                self.assertGreater(min(starts), -1.5, done.ledger[0].learned)
                # In a room 35 dB under the voice some soft starts forbid a threshold by which it would fall all 12 dB.
                self.assertLess(np.median(pauses), -10.0 if room_dbfs == -65 else -7.5, done.ledger[0].learned)


class LevelRiding(unittest.TestCase):
    def test_even_speech_stays_as_it_is(self):
        for name in speakers.NAMES[::2]:
            laid = in_room(speakers.laid(name, rate=RATE, pause_s=0.9, seconds=30), -65)
            out, _ = treated(laid.wave, ("level-riding", {}))
            with self.subTest(name=name):
                self.assertLess(np.abs(out - laid.wave).max(), 1e-6)

    def test_uneven_phrases_come_closer_and_begin_as_they_go_on(self):
        for name in speakers.NAMES[1::2]:
            dry = speakers.laid(name, rate=RATE, pause_s=0.9, seconds=40)
            uneven, steps = dry.wave.copy(), np.resize((-6, 0, 0, -5, 3), len(dry.spans))
            for (start, end), step in zip(dry.spans, steps, strict=True):
                uneven[round((start - 0.3) * RATE) : round((end + 0.3) * RATE)] *= 10 ** (step / 20)
            laid = in_room(speakers.Laid(uneven, dry.spans, RATE), -65)
            out, _ = treated(laid.wave, ("level-riding", {}))
            moved = np.array([change_db(laid.wave, out, start, end) for start, end in dry.spans])
            begins = np.array([change_db(laid.wave, out, start, start + 0.15) for start, _ in dry.spans])
            pauses = [change_db(laid.wave, out, start + 0.3, end - 0.1) for start, end in laid.pauses()]
            with self.subTest(name=name):
                self.assertLess(np.std(steps + moved), 0.7 * np.std(steps))
                self.assertGreater(np.percentile(begins - moved, 10), -1.5)
                self.assertLess(max(pauses), 0.05)
