"""Each fault, put in at a known place, is found there and measured; and what is no fault is not reported."""

import tempfile
import unittest
from collections import Counter
from pathlib import Path

import numpy as np
import soundfile
import soxr
from scipy import signal as dsp

from ispettore.core.measure import dropouts, reading
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.plan.remedies import REMEDIES
from ispettore.demo import faults
from tests import signals

RATE = 44_100


def speech(name: str = "almanac-01", *, noise_dbfs: float = -65.0, rms_dbfs: float = -20.0) -> np.ndarray:
    """Clean demo speech in a quiet room, shape (frames,)."""
    wave = faults.at_level(faults.clean_speech(name)[0], rms_dbfs=rms_dbfs)
    return faults.in_room(wave, noise_dbfs=noise_dbfs, head_s=0.7, tail_s=1.8, seed=5)


def inspected(wave: np.ndarray, rate: int = RATE):
    return measure_array(wave if wave.ndim == 2 else wave[:, None], sample_rate_hz=rate).inspection


def kinds(inspection) -> Counter:
    return Counter(finding.kind for finding in inspection.findings)


class Counting:
    """Samples that count how often one of them is looked at."""

    def __init__(self, samples: np.ndarray):
        self.samples, self.size, self.looked = samples, samples.size, 0

    def __getitem__(self, at: int) -> np.float32:
        self.looked += 1
        return self.samples[at]


class OneChannel:
    """Of such samples, as a kernel is handed channels."""

    def __init__(self, samples: Counting):
        self.shape, self.channel = (1, samples.size), samples

    def __getitem__(self, number: int) -> Counting:
        return self.channel


class Faults(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.clean = speech()

    def assert_found(self, inspection, kind: str, at_s: float, within_s: float = 0.05):
        near = [f for f in inspection.findings if f.kind == kind and f.start_s - within_s <= at_s <= f.end_s + within_s]
        self.assertTrue(near, f"no {kind} at {at_s}: {inspection.findings}")
        return near[0]

    def test_clean_speech_has_no_findings_at_all(self):
        for name in ("almanac-01", "almanac-03", "almanac-05"):
            with self.subTest(name=name):
                self.assertEqual(inspected(speech(name)).findings, [])

    def test_every_kind_of_finding_is_emitted_by_a_meter(self):
        folder = Path(reading.__file__).parent
        sources = "".join(path.read_text(encoding="utf-8") for path in folder.glob("*.py") if path.name != "reading.py")
        for kind in REMEDIES:
            with self.subTest(kind=kind):
                self.assertIn(f'"{kind}"', sources)

    def test_a_click_in_speech_and_one_in_a_pause(self):
        wave = self.clean.copy()
        for at_s in (0.35, 6.0):
            faults.laid(wave, faults.click(peak=0.25), at_s)
        found = inspected(wave)
        self.assertEqual(kinds(found), {"click": 2})
        for at_s in (0.35, 6.0):
            self.assert_found(found, "click", at_s, 0.01)

    def test_breaths_are_found_with_their_level_and_are_no_room_tone(self):
        wave = self.clean.copy()
        at_s = wave.size / RATE - 1.2
        faults.laid(wave, faults.breath(seconds=0.4, level_dbfs=-50.0, seed=2), at_s)
        found = inspected(wave)
        self.assertAlmostEqual(self.assert_found(found, "breath", at_s + 0.2).measure, -50.0, delta=1.5)
        self.assertAlmostEqual(found.value("noise_floor_dbfs"), -65.0, delta=0.5)
        self.assertAlmostEqual(found.value("tail_s"), 1.8, delta=0.06)

    def test_a_breath_before_the_first_word_is_not_speech(self):
        wave = np.concatenate((np.zeros(RATE), self.clean))
        wave[: RATE + round(0.6 * RATE)] += faults.room_noise(RATE + round(0.6 * RATE), noise_dbfs=-65, seed=9)
        for level in (-45.0, -38.0):
            loud = wave.copy()
            faults.laid(loud, faults.breath(seconds=0.4, level_dbfs=level, seed=3), 1.25)
            with self.subTest(level=level):
                self.assertAlmostEqual(inspected(loud).value("head_s"), 1.7, delta=0.06)

    def test_a_burst_of_air(self):
        wave = self.clean.copy()
        faults.laid(wave, faults.plosive(level_dbfs=-14.0), 4.0)
        self.assert_found(inspected(wave), "plosive", 4.02)

    def test_harsh_sibilance(self):
        wave = self.clean.copy()
        noise = np.random.default_rng(4).standard_normal(round(0.12 * RATE))
        band = dsp.sosfilt(dsp.butter(4, [5_500, 9_500], "bandpass", fs=RATE, output="sos"), noise)
        faults.laid(wave, faults.at_level(band, rms_dbfs=-16.0), 5.0)
        self.assert_found(inspected(wave), "sibilance", 5.05)

    def test_a_level_jump_between_passages(self):
        wave = np.concatenate((speech("almanac-01"), speech("almanac-03", rms_dbfs=-26.0)))
        jump = self.assert_found(inspected(wave), "level-jump", speech("almanac-01").size / RATE, 3.0)
        self.assertAlmostEqual(jump.measure, -6.0, delta=1.5)

    def test_hum_names_its_base(self):
        for base in (50.0, 60.0):
            found = inspected(self.clean + faults.hum(self.clean.size, base_hz=base, level_dbfs=-58.0))
            with self.subTest(base=base):
                finding = self.assert_found(found, "hum", 1.0)
                self.assertEqual(finding.detail, f"{base:g} Hz")
                self.assertGreater(found.value("hum_db"), 15)

    def test_rumble_below_60_hz(self):
        rumble = dsp.sosfilt(
            dsp.butter(4, [15, 45], "bandpass", fs=RATE, output="sos"),
            signals.noise(self.clean.size / RATE, rms_dbfs=-20, rate=RATE),
        )
        found = inspected(self.clean + faults.at_level(rumble, rms_dbfs=-50.0)[: self.clean.size])
        self.assert_found(found, "rumble", 1.0)
        self.assertAlmostEqual(found.value("rumble_db"), 15.0, delta=2.0)

    def test_offset_and_asymmetry(self):
        found = inspected(self.clean + 0.02)
        self.assertAlmostEqual(found.value("dc_offset_percent"), 2.0, delta=0.01)
        self.assert_found(found, "dc-offset", 1.0)
        leaning = np.where(self.clean > 0, self.clean, 0.3 * self.clean)
        self.assert_found(inspected(leaning), "asymmetry", 1.0)
        flat = inspected(np.where(np.arange(RATE) % 100 < 50, 0.5, -0.25))
        self.assertAlmostEqual(flat.value("asymmetry_db"), 6.02, delta=0.01)

    def test_dropouts_and_repeated_buffers(self):
        wave = self.clean.copy()
        loud = int(np.argmax(np.abs(wave[3 * RATE : 4 * RATE]))) + 3 * RATE
        wave[loud + 20 : loud + 20 + 441] = 0.0
        again = 8 * RATE
        wave[again : again + 512] = wave[again - 512 : again]
        found = inspected(np.round(wave * 32768) / 32768)
        self.assertEqual(kinds(found)["repeated-buffer"], 1)
        self.assert_found(found, "repeated-buffer", again / RATE, 0.02)
        self.assertAlmostEqual(self.assert_found(found, "dropout", (loud + 240) / RATE, 0.01).measure, 10.0, delta=1.1)

    def test_a_repeated_tone_is_no_repeated_buffer(self):
        tone = np.round(signals.sine(1_000, peak_dbfs=-6, seconds=3, rate=48_000) * 32768) / 32768
        self.assertNotIn("repeated-buffer", kinds(inspected(tone, 48_000)))

    def test_what_repeats_for_long_costs_little_and_hides_no_buffer_after_it(self):
        rate = 4_000
        noise = np.random.default_rng(4).standard_normal(rate) * 0.05
        noise[2_000:2_200] = noise[1_800:2_000]
        before = {
            "a tone": np.sin(2 * np.pi * 80 * np.arange(3 * rate) / rate) * 0.4,
            "one value": np.full(3 * rate, 0.4),
            "a loop": np.tile(np.random.default_rng(5).standard_normal(160) * 0.1, 75),
        }
        for name, long in before.items():
            wave = np.round(np.concatenate([long, noise]) * 32_768).astype(np.float32) / 32_768
            ms = rate // 1_000
            largest = np.abs(wave).reshape(1, -1, ms).max(axis=2)
            edges, counting = np.arange(0, wave.size + 1, ms), Counting(wave)
            found = dropouts._repeats._function(OneChannel(counting), edges, largest, 0.001, rate // 200, np.zeros(1, np.int64))
            with self.subTest(before=name):
                self.assertEqual(found.tolist(), [[3 * rate + 2_000, 200, 0]])
                self.assertLess(counting.looked, 200 * wave.size)

    def test_room_tone_jumps_at_an_edit_inside_a_pause_and_from_pause_to_pause(self):
        quiet, loud = speech("almanac-01", noise_dbfs=-70), speech("almanac-03", noise_dbfs=-55)
        edited = inspected(np.concatenate((quiet, loud)))
        self.assertAlmostEqual(self.assert_found(edited, "room-tone-jump", quiet.size / RATE, 0.1).measure, 15, delta=2)
        self.assertEqual(kinds(edited)["room-tone-jump"], 1)
        other = loud[round(0.65 * RATE) :]
        spoken = inspected(np.concatenate((quiet[: -round(1.75 * RATE)], other)))
        self.assertIn("room-tone-jump", kinds(spoken))

    def test_over_long_pauses_and_the_longest(self):
        wave = np.concatenate((self.clean, faults.room_noise(4 * RATE, noise_dbfs=-65, seed=4), speech("almanac-03")))
        found = inspected(wave)
        self.assertAlmostEqual(found.value("longest_pause_s"), 1.8 + 4 + 0.7, delta=0.1)
        self.assert_found(found, "long-pause", self.clean.size / RATE + 1)

    def test_channels(self):
        one = self.clean
        other = speech("almanac-03")[: one.size]
        one = one[: other.size]
        cases = [
            ((one, one), "identical", "identical-channels"),
            ((one, -one), "inverted", "inverted-channel"),
            ((one, 0 * one), "silent", "silent-channel"),
            ((one, other), "different", None),
            ((one, 0.5 * one), "different", None),
        ]
        for (left, right), relation, kind in cases:
            found = inspected(np.stack((left, right), axis=1))
            with self.subTest(relation=relation):
                self.assertEqual(found.facts.channel_relation, relation)
                channel_kinds = {k for k in kinds(found) if "channel" in k}
                self.assertEqual(channel_kinds, {kind} if kind else set())


class Clipping(unittest.TestCase):
    def test_flat_tops_are_counted_even_after_the_file_was_turned_down(self):
        for down in (0, -3, -12):
            wave = faults.clipped(speech() / np.abs(speech()).max(), share=0.7) * 10 ** (down / 20)
            found = inspected(np.round(wave * 32768) / 32768)
            with self.subTest(down=down):
                self.assertGreater(found.value("clipped_runs"), 50)
                levels = [f.measure for f in found.findings if f.kind == "clipping"]
                self.assertAlmostEqual(levels[0], 20 * np.log10(0.7) + down, delta=0.1)

    def test_none_in_clean_speech_nor_in_an_8_bit_sine(self):
        for name in ("almanac-02", "almanac-04", "almanac-06", "almanac-08"):
            wave = speech(name)
            with self.subTest(name=name):
                self.assertEqual(inspected(np.round(wave / np.abs(wave).max() * 32767) / 32768).value("clipped_runs"), 0)
        sine = np.round(signals.sine(100, peak_dbfs=-0.1, seconds=5, rate=RATE) * 127) / 128
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "eight.wav"
            soundfile.write(path, sine, RATE, subtype="PCM_U8")
            self.assertEqual(inspect(path).inspection.value("clipped_runs"), 0)
            self.assertNotIn("clipping-suspected", kinds(inspect(path).inspection))

    def test_after_encoding_or_resampling_it_is_suspected(self):
        wave = faults.clipped(speech("almanac-01") / np.abs(speech("almanac-01")).max(), share=0.5)
        resampled = soxr.resample(wave, RATE, 48_000, quality="VHQ")
        self.assertTrue({"clipping", "clipping-suspected"} & set(kinds(inspected(resampled * 0.7, 48_000))))
        with tempfile.TemporaryDirectory() as folder:
            for content, expected in ((wave * 0.7, True), (speech("almanac-01"), False)):
                path = Path(folder) / "a.mp3"
                soundfile.write(
                    path, content, RATE, format="MP3", subtype="MPEG_LAYER_III", bitrate_mode="CONSTANT", compression_level=0.4
                )
                with self.subTest(clipped=expected):
                    self.assertEqual("clipping-suspected" in kinds(inspect(path).inspection), expected)

    def test_inter_sample_overs_have_places(self):
        wave = np.zeros(3 * RATE)
        for at in (RATE, 2 * RATE):
            wave[at : at + 400] = 1.2 * np.sin(np.pi / 2 * np.arange(400) + np.pi / 4) * np.hanning(400)
        found = inspected(np.clip(wave, -1, 1))
        self.assertEqual(found.value("inter_sample_overs"), 2)
        self.assertEqual([round(f.start_s, 1) for f in found.findings if f.kind == "inter-sample-over"], [1.0, 2.0])


class Bandwidth(unittest.TestCase):
    def test_a_file_brought_up_from_a_lower_rate_ends_too_early(self):
        full = speech("almanac-02", noise_dbfs=-60)
        for lower in (16_000, 22_050, 32_000):
            wave = soxr.resample(soxr.resample(full, RATE, lower, quality="VHQ"), lower, RATE, quality="VHQ")
            found = inspected(wave)
            with self.subTest(lower=lower):
                self.assertAlmostEqual(found.value("bandwidth_hz"), lower / 2, delta=0.06 * lower / 2)
                self.assertIn("band-limited", kinds(found))
        self.assertEqual(inspected(full).value("bandwidth_hz"), RATE / 2)

    def test_a_lossy_past_shows(self):
        wave = speech("almanac-02", noise_dbfs=-55)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.mp3"
            soundfile.write(
                path, wave, RATE, format="MP3", subtype="MPEG_LAYER_III", bitrate_mode="CONSTANT", compression_level=0.7
            )
            back, _ = soundfile.read(path)
            self.assertIn("band-limited", kinds(inspected(back)))
            self.assertNotIn("band-limited", kinds(inspect(path).inspection))  # there it is no news


class Room(unittest.TestCase):
    def test_the_decay_of_the_room_is_read_within_a_quarter_and_the_noise_floor_within_a_decibel(self):
        for decay in (0.2, 0.3, 0.4, 0.6):
            for name in ("almanac-01", "almanac-02", "almanac-05"):
                wave = faults.at_level(
                    faults.in_hall(faults.clean_speech(name)[0], decay_s=decay, direct_db=0.0, seed=2), rms_dbfs=-20
                )
                found = inspected(faults.in_room(wave, noise_dbfs=-65, head_s=0.7, tail_s=1.5, seed=3))
                with self.subTest(decay=decay, name=name):
                    self.assertAlmostEqual(found.value("decay_s"), decay, delta=0.25 * decay)
                    self.assertAlmostEqual(found.value("noise_floor_dbfs"), -65, delta=1.0)
                    self.assertEqual("room-echo" in kinds(found), decay > 0.5)
