"""Tone, resonances, sibilance, riding, bands, spots and levels, each against what it must hold; and what every step must."""

import unittest

import numpy as np
from scipy import signal

from ispettore.core.measure.inspecting import measure_array
from ispettore.core.treat import tone
from ispettore.core.treat.runner import touched
from ispettore.core.treat.tone import Band, Tone
from ispettore.core.treat.treatment import STEPS, Step
from tests import signals, speakers
from tests.corpus import some
from tests.treating import EXAMPLES, RATE, db, fed, masked, measured, reading, treated

CREST = "crest_factor_db"


class ToneSteps(unittest.TestCase):
    def test_the_response_is_the_drawn_curve(self):
        bands = (
            Band(kind="high-pass", frequency_hz=80),
            Band(kind="low-shelf", frequency_hz=200, gain_db=-3),
            Band(kind="bell", frequency_hz=1_000, gain_db=5, q=1.4),
            Band(kind="notch", frequency_hz=3_000, q=8),
            Band(kind="high-shelf", frequency_hz=8_000, gain_db=4),
        )
        for rate in (16_000, 44_100, 96_000):
            impulse = np.zeros((rate, 1))
            impulse[0] = 1
            out = fed("tone", impulse, 5_000, rate=rate, bands=[band.model_dump() for band in bands])
            heard = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(out[:, 0])), 1e-6))
            hz = np.fft.rfftfreq(rate, 1 / rate)
            drawn = tone.response_db(Tone(bands=bands), hz, sample_rate_hz=rate)
            loud = (drawn > -50) & (hz > 20)
            self.assertLess(np.abs(heard - drawn)[loud].max(), 0.1)
        # By measurement with sines too, where the curve says what it says.
        for hz, least, most in ((1_000, 3.5, 5.5), (3_000, -400, -25), (15_000, 3.5, 4.5), (20, -30, -12)):
            wave = signals.sine(hz, peak_dbfs=-12, seconds=2, rate=RATE)[:, None]
            out = fed("tone", wave, 9_000, bands=[band.model_dump() for band in bands])
            gain = db(np.mean(out[RATE:] ** 2) / np.mean(wave[RATE:] ** 2))
            self.assertTrue(least <= gain <= most, (hz, gain))

    def test_starting_points_follow_the_fundamental_and_move_nothing(self):
        for fundamental in (95, 130, 210, 240):
            start = tone.starting_point(fundamental)
            self.assertLess(start.bands[0].frequency_hz, fundamental)
            self.assertTrue(all(band.gain_db == 0 for band in start.bands))
        lower, higher = tone.starting_point(100), tone.starting_point(220)
        self.assertTrue(all(a.frequency_hz < b.frequency_hz for a, b in zip(lower.bands, higher.bands, strict=True)))

    def test_resonances_are_proposed_with_evidence_and_cut(self):
        voice = signals.voice_like(25, rms_dbfs=-22, rate=RATE)
        b, a = signal.iirpeak(2_300, 20, fs=RATE)
        ringing = voice + 5 * signal.lfilter(b, a, voice)
        out, done = treated(ringing, ("resonance-search", {}))
        [cut, *_] = done.ledger[0].learned["cuts"]
        self.assertAlmostEqual(cut["frequency_hz"], 2_300, delta=80)
        self.assertRegex(cut["evidence"], r"At 2,\d\d\d Hz the long-term spectrum stands \d+\.\d dB above its surroundings")
        before, after = (measured(wave).inspection.spectrum.resonances for wave in (ringing, out))
        self.assertLess(after[0].stands_out_db if after else 0.0, before[0].stands_out_db - 3)
        untouched, done = treated(voice, ("resonance-search", {}))
        self.assertEqual(done.ledger[0].learned, {"cuts": []})
        np.testing.assert_allclose(untouched, voice, atol=1e-6)


class DeEsser(unittest.TestCase):
    def test_it_acts_on_the_band_alone(self):
        low = signals.sine(900, peak_dbfs=-12, seconds=3, rate=RATE)
        hiss = signals.sine(7_500, peak_dbfs=-20, seconds=3, rate=RATE) * (np.arange(3 * RATE) % RATE < RATE // 2)
        out = fed("de-esser", (low + hiss)[:, None], 7_000, threshold_dbfs=-30, range_db=6)[:, 0]
        spoken = slice(2 * RATE + 5_000, 2 * RATE + RATE // 2 - 2_000)
        for hz, gain in ((900, 0.0), (7_500, -6.0)):
            line = np.exp(-2j * np.pi * hz * np.arange(3 * RATE) / RATE)
            before, after = (abs(np.mean((wave * line)[spoken])) for wave in (low + hiss, out))
            self.assertAlmostEqual(20 * np.log10(after / before), gain, delta=0.15)

    def test_below_the_threshold_it_is_the_sound_itself(self):
        wave = reading(seconds=8)[:, None]
        out = fed("de-esser", wave, 4_000, threshold_dbfs=0)
        np.testing.assert_allclose(out, wave, atol=1e-6)

    def test_sibilance_falls_and_vowels_stay(self):
        wave = reading(seconds=20)
        out, done = treated(wave, ("de-esser", {"threshold_dbfs": -45, "range_db": 8}))
        high = signal.butter(6, 6_000, "highpass", fs=RATE, output="sos")
        low = signal.butter(6, 3_500, fs=RATE, output="sos")
        self.assertLess(db(np.mean(signal.sosfilt(high, out) ** 2) / np.mean(signal.sosfilt(high, wave) ** 2)), -3)
        self.assertAlmostEqual(db(np.mean(signal.sosfilt(low, out) ** 2) / np.mean(signal.sosfilt(low, wave) ** 2)), 0, delta=0.1)
        self.assertGreaterEqual(float(done.reduction_db.min()), -8.001)


class LevelRiding(unittest.TestCase):
    def test_the_spread_of_short_term_level_falls_and_pauses_are_not_raised(self):
        clean = reading(seconds=45)
        slope = 10 ** (4 * np.sin(2 * np.pi * np.arange(len(clean)) / len(clean) * 1.5) / 20)
        wave = clean * slope + signals.noise(len(clean) / RATE, rms_dbfs=-70, rate=RATE)[: len(clean)]
        out, done = treated(wave, ("level-riding", {"up_db": 6, "down_db": 6}))
        before, after = measured(wave), measured(out)
        self.assertLess(after.inspection.value("loudness_range_lu"), before.inspection.value("loudness_range_lu") - 2)
        for pause in before.inspection.pauses:
            inside = slice(round((pause.start_s + 0.02) * RATE), round((pause.end_s - 0.02) * RATE))
            room = masked(before.passages.room, wave.size)[inside]
            if room.sum() > 2_000:
                self.assertLess(db(np.mean(out[inside][room] ** 2) / np.mean(wave[inside][room] ** 2)), 0.1)
        moved = done.reduction_db
        self.assertLessEqual(float(np.abs(moved).max()), 6.001)
        # Slow: over speech it moves by little in a tenth of a second.
        self.assertLess(np.abs(np.diff(moved))[before.speech_mask[1 : moved.size]].max(), 0.5)

    def test_an_even_recording_is_hardly_moved(self):
        wave = signals.voice_like(20, rms_dbfs=-22, rate=RATE)
        _, done = treated(wave, ("level-riding", {}))
        speech = measured(wave).speech_mask[: done.reduction_db.size]
        self.assertLess(float(np.abs(done.reduction_db[speech]).mean()), 1.0)


def _starts(laid: speakers.Laid) -> np.ndarray:
    """True in the first 50 ms of every phrase."""
    mask = np.zeros(laid.wave.size, dtype=bool)
    for start, _ in laid.spans:
        mask[round(start * RATE) : round((start + 0.05) * RATE)] = True
    return mask


class Multiband(unittest.TestCase):
    IDLE = ({"compressor": {"threshold_dbfs": 0}},) * 3

    def test_it_is_flat_when_idle(self):
        wave = signals.noise(4, rms_dbfs=-24, rate=RATE)[:, None]
        out = fed("multiband-compressor", wave, 10_000, bands=list(self.IDLE))
        np.testing.assert_allclose(out, wave, atol=2e-6)
        for hz in (60, 150, 151, 1_000, 3_000, 12_000):
            tone_of = signals.sine(hz, peak_dbfs=-6, seconds=1, rate=RATE)[:, None]
            out = fed("multiband-compressor", tone_of, 10_000, bands=list(self.IDLE))
            self.assertAlmostEqual(db(np.mean(out**2) / np.mean(tone_of**2)), 0, delta=0.1)

    def test_a_band_is_compressed_by_itself(self):
        bands = [
            {"on": False, "compressor": {"threshold_dbfs": 0}},
            {"compressor": {"threshold_dbfs": -30, "ratio": 4, "knee_db": 0}},
        ]
        low, high = (signals.sine(hz, peak_dbfs=-14, seconds=3, rate=RATE) for hz in (200, 6_000))
        out = fed("multiband-compressor", (low + high)[:, None], 8_000, crossovers_hz=[1_200], bands=bands)[:, 0]
        later = slice(RATE, 2 * RATE)
        for hz, gain in ((200, 0.0), (6_000, -12.0)):
            line = np.exp(-2j * np.pi * hz * np.arange(3 * RATE) / RATE)
            before, after = (abs(np.mean((wave * line)[later])) for wave in (low + high, out))
            self.assertAlmostEqual(20 * np.log10(after / before), gain, delta=0.15)

    def test_one_compressor_brings_the_crest_down_as_far_with_less_touch(self):
        """Why the planner takes no bands (docs/DECISIONS.md); every speaker in docs/BENCHMARKS.md."""
        for name in some(speakers.SYNTHETIC, every=3):
            laid = speakers.laid(name, rate=RATE, seconds=20)
            wave = laid.wave / np.sqrt(np.mean(laid.wave**2)) * 10 ** (-22 / 20)
            before = measured(wave)
            high = signal.sosfilt(signal.butter(4, 3_000, "highpass", fs=RATE, output="sos"), wave)
            middle = signal.sosfilt(signal.butter(4, [150, 3_000], "bandpass", fs=RATE, output="sos"), wave)
            low = signal.sosfilt(signal.butter(4, 150, fs=RATE, output="sos"), wave)
            usual = [20 * np.log10(np.percentile(np.abs(band), 99)) for band in (low, middle, high)]

            def one(by: float) -> tuple[str, dict]:
                return "compressor", {"threshold_dbfs": by, "ratio": 3}

            def bands(by: float, usual=usual) -> tuple[str, dict]:
                each = [{"compressor": {"threshold_dbfs": min(0.0, level + by + 12), "ratio": 3}} for level in usual]
                return "multiband-compressor", {"bands": each}

            touch = {}
            for made in (one, bands):
                least, most = -40.0, 0.0  # where it takes 1.5 dB of crest, by halves
                for _ in range(6):
                    by = (least + most) / 2
                    out, done = treated(wave, made(by))
                    after = measured(out)
                    if before.inspection.value(CREST) - after.inspection.value(CREST) >= 1.5:
                        least, touch[made] = by, touched(done, before.basis, after).touch
                    else:
                        most = by
            with self.subTest(name=name):
                self.assertLess(touch[one], touch[bands])

    def test_pauses_fall_with_the_words(self):
        bands = [{"compressor": {"threshold_dbfs": each}} for each in (-40, -35, -45)]
        for name in some(speakers.NAMES, every=4):
            laid = speakers.laid(name, rate=RATE, seconds=20)
            wave = laid.over(speakers.room(laid.wave.size, rate=RATE, dbfs=-62)).wave
            pauses = np.zeros_like(laid.words)
            for start, end in laid.pauses():
                pauses[round((start + 0.15) * RATE) : round((end - 0.1) * RATE)] = True
            for rests, rises, at_most in ((True, 0.0, 1.5), (False, 8.0, 20.0)):
                out, done = treated(wave, ("multiband-compressor", {"bands": bands, "rests_in_pauses": rests}))
                words, room, starts = (
                    db(np.mean(out[where] ** 2) / np.mean(wave[where] ** 2)) for where in (laid.words, pauses, _starts(laid))
                )
                crest = measured(wave).inspection.value("speech_crest_db") - measured(out).inspection.value("speech_crest_db")
                with self.subTest(name=name, rests=rests):
                    self.assertTrue(rises <= room - words <= at_most, room - words)
                    self.assertGreater(starts, words - 0.5, "first consonants are not softer than the words")
                    self.assertGreater(crest, 1.0)
                    self.assertEqual("rests_at_db" in done.ledger[0].learned, rests)

    def test_bands_and_crossovers_have_to_fit(self):
        for settings in ({"bands": self.IDLE[:2]}, {"bands": self.IDLE, "crossovers_hz": [3_000, 150]}):
            with self.assertRaises(ValueError):
                Step(kind="multiband-compressor", settings=settings)


class SpotsAndLevels(unittest.TestCase):
    def test_spot_gain_touches_nothing_else(self):
        wave = signals.noise(6, rms_dbfs=-24, rate=RATE)[:, None].astype(np.float32)
        spots = [{"start_s": 1.0, "end_s": 2.0, "gain_db": -9}, {"start_s": 4.0, "end_s": 4.2, "gain_db": 6, "fade_s": 0.05}]
        out = fed("spot-gain", wave, 30_000, spots=spots)
        outside = np.ones(len(wave), dtype=bool)
        outside[RATE : 2 * RATE] = outside[4 * RATE : round(4.2 * RATE)] = False
        np.testing.assert_array_equal(out[outside], wave[outside])
        middle = slice(round(1.1 * RATE), round(1.9 * RATE))
        self.assertAlmostEqual(db(np.mean(out[middle] ** 2) / np.mean(wave[middle] ** 2)), -9, places=4)
        self.assertLess(np.abs(np.diff(20 * np.log10(np.abs(out / wave)[outside == 0]), axis=0))[: RATE - 2].max(), 0.05)

    def test_the_reference_level_is_reached_within_a_twentieth(self):
        wave = reading(seconds=15)
        for quantity, target in (
            ("rms_dbfs", -27.3), ("sample_peak_dbfs", -6.0), ("true_peak_dbtp", -4.0), ("integrated_loudness_lufs", -23.0),
            ("active_speech_level_dbfs", -26.0),
        ):  # fmt: skip
            out, done = treated(wave, ("reference-level", {"quantity": quantity, "target_db": target}))
            self.assertAlmostEqual(measured(out).inspection.value(quantity), target, delta=0.05)
            self.assertEqual(done.ledger[0].warnings, ())

    def test_the_final_level_is_reached_or_says_what_blocked_it(self):
        wave = reading(seconds=15)
        settings = {"quantity": "integrated_loudness_lufs", "target_db": -26, "ceiling_dbtp": -1}
        out, done = treated(wave, ("final-level", settings))
        self.assertAlmostEqual(measured(out).inspection.value("integrated_loudness_lufs"), -26, delta=0.05)
        out, done = treated(wave, ("final-level", {**settings, "target_db": -6}))
        found = measured(out).inspection
        self.assertAlmostEqual(found.value("true_peak_dbtp"), -1, delta=0.02)
        short = -6 - found.value("integrated_loudness_lufs")
        self.assertIn(f"stays {short:.1f} dB below −6 LUFS", done.ledger[0].warnings[0])
        _, done = treated(np.zeros(RATE), ("final-level", settings))
        self.assertIn("could not be measured", done.ledger[0].warnings[0])


class EveryStep(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.wave = signals.voice_like(8, rms_dbfs=-20, rate=RATE, room_dbfs=-66)[:, None]

    def test_any_block_size_gives_the_same(self):
        for kind in STEPS:
            with self.subTest(step=kind):
                whole = fed(kind, self.wave, len(self.wave), **EXAMPLES.get(kind, {}))
                parts = fed(kind, self.wave, 1, 777, 44_100, 3, 12_345, **EXAMPLES.get(kind, {}))
                self.assertEqual(whole.shape, parts.shape)
                np.testing.assert_allclose(parts, whole, atol=2e-6)

    def test_lengths_and_places_are_kept(self):
        click = 0.1 * self.wave
        click[4 * RATE] = 0.9
        for kind in STEPS:
            if kind in ("sample-rate", "head-and-tail"):
                continue
            with self.subTest(step=kind):
                out = fed(kind, click, 10_000, **EXAMPLES.get(kind, {}))
                self.assertEqual(len(out), len(click))
                self.assertLessEqual(abs(int(np.abs(out[:, 0]).argmax()) - 4 * RATE), 1)

    def test_silence_in_gives_silence_out_and_nothing_is_never_a_number(self):
        random = np.random.default_rng(4)
        spikes = np.zeros((3 * RATE, 1))
        spikes[random.integers(0, 3 * RATE, 40)] = random.choice([-8.0, 8.0], 40)[:, None]
        for kind in STEPS:
            if kind in ("head-and-tail", "noise-reduction", "room-tone-fill"):  # they need room tone, and say so
                continue
            for name, wave in (("silence", np.zeros((2 * RATE, 1))), ("spikes", spikes)):
                with self.subTest(step=kind, wave=name):
                    out = fed(kind, wave, 8_192, **EXAMPLES.get(kind, {}))
                    self.assertTrue(np.isfinite(out).all())
                    if name == "silence":
                        self.assertEqual(float(np.abs(out).max()), 0.0)

    def test_two_and_six_channels_are_treated_alike(self):
        for channels in (2, 6):
            wave = np.repeat(self.wave[: 5 * RATE], channels, axis=1) * np.linspace(1, 0.5, channels)
            for kind in STEPS:
                if kind == "channels":
                    continue
                with self.subTest(step=kind, channels=channels):
                    out = fed(kind, wave, 20_000, **EXAMPLES.get(kind, {}))
                    self.assertEqual(out.shape[1], channels)
                    if kind not in ("clip-repair", "hum-filter", "head-and-tail"):  # these look at each channel by itself
                        np.testing.assert_allclose(out[:, -1], 0.5 * out[:, 0], atol=1e-5)

    def test_from_8_to_192_kilohertz(self):
        for rate in (8_000, 192_000):
            wave = signals.voice_like(5, rms_dbfs=-20, rate=rate, room_dbfs=-60)[:, None]
            for kind in STEPS:
                with self.subTest(step=kind, rate=rate):
                    out = fed(kind, wave, 20_000, rate=rate, **EXAMPLES.get(kind, {}))
                    self.assertTrue(np.isfinite(out).all())
                    self.assertGreater(float(np.abs(out).max()), 0.01)

    def test_extreme_settings_are_refused_with_a_sentence_or_behave(self):
        wave = signals.voice_like(3, rms_dbfs=-20, rate=RATE)[:, None]
        for kind, cls in STEPS.items():
            for name, field in cls.model_json_schema()["properties"].items():
                options = [field, *field.get("anyOf", [])]
                bounds = [one[key] for one in options for key in ("minimum", "maximum") if key in one]
                if not bounds:
                    continue
                for value in (*bounds, max(bounds) + 1_000, min(bounds) - 1_000):
                    settings = {**EXAMPLES.get(kind, {}), name: value}
                    with self.subTest(step=kind, **{name: value}):
                        if min(bounds) <= value <= max(bounds):
                            if kind not in ("head-and-tail",):
                                self.assertTrue(np.isfinite(fed(kind, wave, 50_000, **settings)).all())
                        else:
                            with self.assertRaisesRegex(ValueError, "less than|greater than"):
                                Step(kind=kind, settings=settings)

    def test_what_is_not_touched_reads_the_same(self):
        """A step that finds nothing to do leaves every level reading."""
        wave = self.wave
        for kind, settings in (
            ("de-esser", {"threshold_dbfs": 0}),
            ("expander", {"threshold_dbfs": -90}),
            ("breath-softening", {}),
        ):
            out = fed(kind, wave, 9_999, **settings)
            before, after = (measure_array(each, sample_rate_hz=RATE).inspection for each in (wave, out))
            for quantity in ("rms_dbfs", "integrated_loudness_lufs", "true_peak_dbtp"):
                self.assertAlmostEqual(before.value(quantity), after.value(quantity), delta=0.01)


if __name__ == "__main__":
    unittest.main()
