"""Steps that clean: hum, noise, breaths, what lies under a threshold, and clipped waves, each against what it must hold."""

import unittest
from unittest.mock import patch

import numpy as np
from pystoi import stoi
from scipy import fft, ndimage, signal, stats

from ispettore.core import errors
from ispettore.core.treat import expander, hum_filter
from tests import signals
from tests.treating import RATE, db, fed, masked, measured, reading, treated


def hum(frames: int, *, base_hz: float = 50.03, wander_hz: float = 0.0, seed: int = 1) -> list[np.ndarray]:
    """The lines of a hum whose base frequency wanders by so many Hz rms, as slowly as mains do."""
    dev = np.zeros(frames)
    if wander_hz:
        noise = np.random.default_rng(seed).standard_normal(frames * 20 // RATE + 220)
        slow = np.convolve(noise, np.hanning(200), "same")
        dev = np.interp(np.arange(frames) / RATE, np.arange(slow.size) / 20, slow * wander_hz / slow.std())
    phase = 2 * np.pi * np.cumsum(base_hz + dev) / RATE
    return [0.008 / k * np.sin(k * phase + k) for k in range(1, 11)]


def around(wave: np.ndarray, *at_hz: float, width_hz: float = 2.0) -> list[float]:
    """Power of a wave within some Hz of each frequency."""
    size = fft.next_fast_len(wave.size, real=True)
    spectrum = np.abs(fft.rfft(wave * np.hanning(wave.size), size)) ** 2
    bins = fft.rfftfreq(size, 1 / RATE)
    edges = [np.searchsorted(bins, (hz - width_hz, hz + width_hz)) for hz in at_hz]
    return [float(spectrum[first:last].sum()) for first, last in edges]


def smoothed(power: np.ndarray, frames: int) -> np.ndarray:
    """The mean over so many frames around each."""
    return ndimage.uniform_filter1d(power, frames, mode="constant")


class HumFilter(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.voice = reading(seconds=40) + signals.noise(42, rms_dbfs=-72, rate=RATE)[: 42 * RATE][: len(reading(seconds=40))]

    def check(self, lines: list[np.ndarray], least: list[float], hz: float, **settings) -> None:
        out, done = treated(self.voice + sum(lines), ("hum-filter", settings))
        rest = out - self.voice
        left = around(rest, *(hz * k for k in range(1, len(least) + 1)))
        for k, wanted in enumerate(least, start=1):
            with self.subTest(line=k):
                [put_in] = around(lines[k - 1], hz * k)
                self.assertGreater(db(put_in / left[k - 1]), wanted)
        self.assertAlmostEqual(done.ledger[0].learned["base_hz"], hz, delta=0.05)
        voice = [measured(wave).inspection.value("active_speech_level_dbfs") for wave in (self.voice, out)]
        self.assertAlmostEqual(voice[0], voice[1], delta=0.5)

    def test_a_steady_family_falls_by_thirty_decibels(self):
        self.check(hum(len(self.voice)), [30.0] * 10, 50.03)
        self.check(hum(len(self.voice), base_hz=59.96), [30.0] * 6, 59.96)

    def test_it_follows_mains_that_wander(self):
        for seed in (1, 2):
            self.check(hum(len(self.voice), wander_hz=0.02, seed=seed), [20.0] * 10, 50.03)

    def test_the_base_can_be_given_and_without_hum_nothing_is_done(self):
        self.check(hum(len(self.voice)), [30.0] * 5, 50.03, base_hz=50, harmonics=5)
        out, done = treated(self.voice, ("hum-filter", {}))
        np.testing.assert_allclose(out, self.voice, atol=1e-7)
        self.assertEqual(done.ledger[0].warnings, ("No hum was found, so nothing was removed.",))

    def test_nothing_is_heard_where_one_learned_stretch_meets_the_next(self):
        lines = sum(hum(len(self.voice), wander_hz=0.02))
        with patch.multiple(hum_filter, STRETCH_S=9.0, AROUND_S=4.0):
            wave = (self.voice + lines)[:, None]
            out = fed("hum-filter", wave, 65_536, base_hz=50)
            np.testing.assert_array_equal(out, fed("hum-filter", wave, 30_011, base_hz=50), "for blocks of any size")
        rest = out[:, 0] - self.voice
        near = np.convolve(rest**2, np.ones(RATE // 20) / (RATE // 20), "same")
        for meeting in range(9, 35, 9):
            self.assertLess(db(near[meeting * RATE] / np.mean(lines**2)), -20)
        self.assertLess(np.abs(np.diff(rest))[[9 * RATE - 1, 18 * RATE - 1]].max(), 5e-4, "and it does not click")
        self.assertLess(db(np.mean(rest**2) / np.mean(lines**2)), -30)

    def test_channels_have_hums_of_their_own(self):
        lines = sum(hum(len(self.voice)))
        both = np.stack((self.voice + lines, self.voice - 0.3 * lines), axis=1)
        out, _ = treated(both, ("hum-filter", {}))
        for channel in (0, 1):
            [put_in], [left] = (around(wave[:, channel] - self.voice, 50.03) for wave in (both, out))
            self.assertGreater(db(put_in / left), 30)


class NoiseReduction(unittest.TestCase):
    AMOUNTS = (6.0, 12.0, 18.0)

    @classmethod
    def setUpClass(cls):
        cls.clean = reading(seconds=40)
        cls.other = reading("almanac-04", seconds=30)

    def noisy(self, clean: np.ndarray, snr_db: float, *, colour: str = "white", drift_db: float = 0.0) -> np.ndarray:
        noise = np.random.default_rng(3).standard_normal(clean.size)
        if colour == "pink":
            noise = signal.lfilter([0.0499, -0.0959, 0.0506, -0.0044], [1, -2.4949, 2.0172, -0.5222], noise)
        noise *= 10 ** ((-20 - snr_db) / 20) / noise.std()
        return clean + noise * 10 ** (np.linspace(0, drift_db, noise.size) / 20)

    def check(self, clean: np.ndarray, noisy: np.ndarray, amount: float) -> None:
        out, _ = treated(noisy, ("noise-reduction", {"amount_db": amount}))
        self.assertEqual(out.shape, noisy.shape)
        before = measured(noisy)
        room = masked(before.passages.room, noisy.size)
        self.assertAlmostEqual(db(np.mean(noisy[room] ** 2) / np.mean(out[room] ** 2)), amount, delta=1)
        # What is left of the voice, by how much of the clean wave is in what came out.
        loud = 10 * np.log10(np.maximum(smoothed(clean**2, 4_410), 1e-12)) + 20
        quiet = (loud > -25) & (loud <= -10)
        for least, most in ((-15, -10), (-20, -15), (-25, -20)):
            part = (loud > least) & (loud <= most)
            self.assertGreater(db((np.mean(clean[part] * out[part]) / np.mean(clean[part] ** 2)) ** 2), -2)
        self.assertGreater(quiet.mean(), 0.02)
        sections = signal.butter(6, 4_000, "highpass", fs=RATE, output="sos")
        hiss, left = signal.sosfilt(sections, clean), signal.sosfilt(sections, out)
        level = 10 * np.log10(np.maximum(smoothed(hiss**2, 1_764), 1e-14))
        for least, most in ((0, 10), (10, 20), (20, 25)):
            part = (level <= level.max() - least) & (level > level.max() - most)
            self.assertGreater(db((np.mean(hiss[part] * left[part]) / np.mean(hiss[part] ** 2)) ** 2), -2)
        if amount <= 12:
            self.assertLess(self.kurtosis(out, before.passages.room) / self.kurtosis(noisy, before.passages.room), 1.2)
        self.assertGreater(stoi(clean, out, RATE), stoi(clean, noisy, RATE) - 0.02)

    def kurtosis(self, wave: np.ndarray, room: np.ndarray) -> float:
        """Of the spectral magnitudes in room tone, the mean of the bins."""
        _, at, spectrum = signal.stft(wave, RATE, nperseg=1_024, noverlap=768)
        inside = np.array([room[min(int(t * 200), len(room) - 1)] for t in at], dtype=float)
        inside = np.convolve(inside, np.ones(9) / 9, "same") > 0.999
        return float(np.mean(stats.kurtosis(np.abs(spectrum[4:-4][:, inside]), axis=1, fisher=False)))

    def test_pauses_fall_by_the_amount_and_the_voice_stays(self):
        for snr, amount in ((25, 6), (25, 12), (25, 18), (35, 12), (45, 12)):
            with self.subTest(snr=snr, amount=amount):
                self.check(self.clean, self.noisy(self.clean, snr), amount)

    def test_another_voice_and_a_darker_noise(self):
        self.check(self.other, self.noisy(self.other, 25, colour="pink"), 10)

    def test_noise_that_drifts_is_followed(self):
        noisy = self.noisy(self.clean, 34, drift_db=9)
        out, _ = treated(noisy, ("noise-reduction", {"amount_db": 10}))
        room = masked(measured(noisy).passages.room, noisy.size)
        for third in np.array_split(np.arange(noisy.size), 3):
            inside = third[room[third]]
            self.assertAlmostEqual(db(np.mean(noisy[inside] ** 2) / np.mean(out[inside] ** 2)), 10, delta=1)

    def test_channels_are_linked_and_in_place(self):
        noisy = self.noisy(self.clean[: 20 * RATE], 30)
        both = np.stack((noisy, 0.5 * noisy), axis=1)
        out, _ = treated(both, ("noise-reduction", {"amount_db": 8}))
        np.testing.assert_allclose(out[:, 1], 0.5 * out[:, 0], atol=1e-6)
        self.assertEqual(int(np.argmax(np.abs(out[:, 0]))), int(np.argmax(np.abs(noisy))))

    def test_much_of_it_is_warned_of_and_without_room_tone_it_is_refused(self):
        noisy = self.noisy(self.clean[: 20 * RATE], 30)
        _, done = treated(noisy, ("noise-reduction", {"amount_db": 15}))
        self.assertIn("15 dB of noise reduction becomes audible", done.ledger[0].warnings[0])
        self.assertGreater(done.ledger[0].learned["pauses"], 2)
        with self.assertRaises(errors.NoRoomTone):
            treated(signals.voice_like(6, rms_dbfs=-20, rate=RATE, room_dbfs=-200), ("noise-reduction", {}))

    def test_nothing_asked_is_nothing_done(self):
        noisy = self.noisy(self.clean[: 12 * RATE], 30).astype(np.float32)
        out, _ = treated(noisy, ("noise-reduction", {"amount_db": 0}))
        np.testing.assert_array_equal(out.astype(np.float32), noisy)


class Expander(unittest.TestCase):
    def test_it_never_lowers_by_more_than_its_range_and_holds_its_curve(self):
        levels = [-10.0, -30.0, -45.0, -50.0, -60.0, -80.0]
        wave = signals.steps(1_000, [(level, 2.0) for level in levels], rate=RATE)[:, None]
        out = fed("expander", wave, 10_000, threshold_dbfs=-40, ratio=2, range_db=12, hold_ms=50, release_ms=50)
        for index, level in enumerate(levels):
            part = slice(round((index * 2 + 1) * RATE), round((index * 2 + 1.9) * RATE))
            gain = db(np.mean(out[part] ** 2) / np.mean(wave[part] ** 2))
            wanted = 0.0 if level >= -40 else max(-12.0, level + 40)
            self.assertAlmostEqual(gain, wanted, delta=0.1)

    def test_first_consonants_survive_and_the_hold_keeps_words_whole(self):
        clean = reading(seconds=30)
        noisy = clean + signals.noise(len(clean) / RATE, rms_dbfs=-62, rate=RATE)[: len(clean)]
        out, done = treated(noisy, ("expander", {"ratio": 4, "range_db": 20}))
        speech = measured(noisy).inspection.speech
        for span in speech:
            first = slice(round(span.start_s * RATE), round((span.start_s + 0.06) * RATE))
            self.assertGreater(db(np.mean(out[first] ** 2) / np.mean(noisy[first] ** 2)), -1.5)
        learned = done.ledger[0].learned
        self.assertLess(learned["threshold_dbfs"], learned["softest_speech_dbfs"])
        room = masked(measured(noisy).passages.room, noisy.size)
        self.assertLess(db(np.mean(out[room] ** 2) / np.mean(noisy[room] ** 2)), -12)
        self.assertGreaterEqual(float(done.reduction_db.min()), -20.001)

    def test_the_proposed_threshold_lies_between_breath_and_softest_speech(self):
        clean = reading(seconds=30)
        room = clean + signals.noise(len(clean) / RATE, rms_dbfs=-70, rate=RATE)[: len(clean)]
        threshold, learned = expander.propose(measured(room), expander.Expander())
        self.assertGreater(threshold, -70)
        self.assertLess(threshold, learned["softest_speech_dbfs"])
        low = [value for name, value in learned.items() if name.startswith(("loudest", "room"))]
        self.assertGreater(threshold, low[0])


class BreathSoftening(unittest.TestCase):
    def test_found_breaths_fall_by_the_amount_and_nothing_else_changes(self):
        wave = signals.voice_like(20, rms_dbfs=-22, rate=RATE, room_dbfs=-75)
        pauses = [pause for pause in measured(wave).inspection.pauses if pause.length_s > 0.6]
        band = signal.butter(2, [800, 7_000], "bandpass", fs=RATE, output="sos")
        hiss = signal.sosfilt(band, np.random.default_rng(2).standard_normal(RATE))
        for pause in pauses:
            first = round((pause.start_s + 0.2) * RATE)
            size = round(0.25 * RATE)
            wave[first : first + size] += 10 ** (-48 / 20) / hiss.std() * hiss[:size] * np.hanning(size)
        found = [finding for finding in measured(wave).inspection.findings if finding.kind == "breath"]
        self.assertGreaterEqual(len(found), len(pauses) - 1)
        out, done = treated(wave, ("breath-softening", {"amount_db": 8}))
        for breath in found:
            inside = slice(round(breath.start_s * RATE), round(breath.end_s * RATE))
            self.assertAlmostEqual(db(np.mean(out[inside] ** 2) / np.mean(wave[inside] ** 2)), -8, delta=0.5)
        self.assertEqual(done.ledger[0].learned["breaths"], len(found))
        speech = masked(measured(wave).speech_mask, wave.size)
        # Straight lines between cells reach half a cell into the word beside.
        inner = np.convolve(speech.astype(float), np.ones(700) / 700, "same") > 0.999
        np.testing.assert_allclose(out[inner], wave[inner], atol=1e-6)


class ClipRepair(unittest.TestCase):
    def test_only_samples_in_clipped_runs_change_and_come_back(self):
        voice = reading(seconds=12, speech_dbfs=-12)
        voice = 0.9 * voice / np.abs(voice).max()
        clipped = np.clip(voice, -0.35, 0.35)
        for settings in ({"threshold_dbfs": -9.13}, {}):
            out, done = treated(clipped, ("clip-repair", settings))
            flat = np.abs(clipped) >= 0.349
            np.testing.assert_array_equal(out[~flat].astype(np.float32), clipped[~flat].astype(np.float32))
            self.assertTrue((np.abs(out[flat]) >= 0.349).all())
            error, before = np.mean((out - voice)[flat] ** 2), np.mean((clipped - voice)[flat] ** 2)
            self.assertLess(db(error / before), -6)
            self.assertGreater(done.ledger[0].learned["repaired_runs"], 20)

    def test_a_clean_recording_stays_as_it_is(self):
        wave = signals.voice_like(6, rms_dbfs=-20, rate=RATE).astype(np.float32)
        out, done = treated(wave, ("clip-repair", {}))
        np.testing.assert_array_equal(out.astype(np.float32), wave)
        self.assertEqual(done.ledger[0].learned, {"threshold_dbfs": None, "repaired_runs": 0})


if __name__ == "__main__":
    unittest.main()
