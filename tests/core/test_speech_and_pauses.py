"""Speech, pauses and room tone where finding them is hard: sentences are laid at known places, with known noise between."""

import unittest

import numpy as np
from scipy import signal as dsp

from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.reading import Span
from ispettore.demo import faults
from tests import signals

RATE = 44_100
PAUSE_S = 1.2


def sentences(name: str = "almanac-01", count: int = 6) -> list[np.ndarray]:
    """Clean sentences at −20 dBFS, each cut where it begins and ends (40 dB under its loudest 5 ms)."""
    wave, spans = faults.clean_speech(name)
    found = []
    for start, end in spans[:count]:
        piece = wave[int(start * RATE) : int(end * RATE)]
        cells = np.abs(piece[: piece.size // 220 * 220]).reshape(-1, 220).max(axis=1)
        loud = np.flatnonzero(cells > 0.01 * cells.max())
        piece = piece[loud[0] * 220 : (loud[-1] + 1) * 220].copy()
        piece[-220:] *= np.linspace(1, 0, 220)  # or the cut itself is a click
        found.append(faults.at_level(piece, rms_dbfs=-20.0))
    return found


def laid_out(pieces: list[np.ndarray], *, pause_s: float = PAUSE_S, head_s: float = 0.8, tail_s: float = 1.5):
    """The sentences with silence between, and where each lies in seconds, shape (sentences, 2)."""
    wave, spans = [np.zeros(round(head_s * RATE))], []
    for piece in pieces:
        start = sum(part.size for part in wave)
        spans.append((start / RATE, (start + piece.size) / RATE))
        wave += [piece, np.zeros(round(pause_s * RATE))]
    wave[-1] = np.zeros(round(tail_s * RATE))
    return np.concatenate(wave), np.array(spans)


class Hard(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.pieces = sentences()
        cls.dry, cls.spans = laid_out(cls.pieces)

    def inspected(self, wave, **options):
        return measure_array(np.asarray(wave)[:, None], sample_rate_hz=RATE, **options).inspection

    def assert_pauses_found(self, inspection, spans, *, within_s: float = 0.12):
        """Each sentence is speech, each pause between two is a pause, and no room tone lies in a sentence."""
        edges = [span.start_s for span in inspection.speech] + [span.end_s for span in inspection.speech]
        for start, end in spans:
            self.assertLess(min(abs(edge - start) for edge in edges), within_s, f"start {start:.2f} of {inspection.speech}")
            self.assertLess(min(abs(edge - end) for edge in edges), within_s, f"end {end:.2f} of {inspection.speech}")
        for span in inspection.speech:
            inside = (spans[:, 0] - within_s <= span.start_s) & (span.end_s <= spans[:, 1] + within_s)
            self.assertTrue(inside.any(), f"speech outside every sentence: {span}")
        for span in inspection.room_tone:
            self.assertFalse(((spans[:, 0] + 0.06 < span.start_s) & (span.end_s < spans[:, 1] - 0.06) & (
                span.end_s - span.start_s > 0.3)).any(), f"room tone in a sentence: {span}")  # fmt: skip

    def room(self, dbfs: float, seed: int = 11) -> np.ndarray:
        return faults.room_noise(self.dry.size, noise_dbfs=dbfs, seed=seed)

    def test_quiet_narration(self):
        for speech_dbfs, noise_dbfs in ((-45, -72), (-52, -75)):
            found = self.inspected(self.dry * 10 ** ((speech_dbfs + 20) / 20) + self.room(noise_dbfs))
            with self.subTest(speech_dbfs=speech_dbfs):
                self.assert_pauses_found(found, self.spans)
                self.assertAlmostEqual(found.value("noise_floor_dbfs"), noise_dbfs, delta=1.0)

    def test_a_noisy_room(self):
        for noise_dbfs in (-44, -38, -35):
            found = self.inspected(self.dry + self.room(noise_dbfs))
            with self.subTest(noise_dbfs=noise_dbfs):
                self.assert_pauses_found(found, self.spans, within_s=0.25)
                self.assertAlmostEqual(found.value("noise_floor_dbfs"), noise_dbfs, delta=1.0)
                self.assertAlmostEqual(found.value("head_s"), 0.8, delta=0.12)

    def test_a_room_that_grows_louder(self):
        rising = np.linspace(-68, -52, self.dry.size)
        found = self.inspected(self.dry + self.room(0) * 10 ** (rising / 20))
        self.assert_pauses_found(found, self.spans)
        self.assertAlmostEqual(found.value("noise_floor_worst_pause_dbfs"), -52.8, delta=1.5)

    def test_a_lorry_that_fills_a_whole_pause_is_no_speech(self):
        for louder in (-58, -50, -44):
            wave = self.dry + self.room(-64)
            first, last = round(self.spans[2, 1] * RATE) - 2_000, round(self.spans[3, 0] * RATE) + 2_000
            wave[first:last] += faults.room_noise(last - first, noise_dbfs=louder, seed=12)
            found = self.inspected(wave)
            with self.subTest(louder=louder):
                self.assert_pauses_found(found, self.spans)
                total = 10 * np.log10(10 ** (louder / 10) + 10**-6.4)
                self.assertAlmostEqual(found.value("noise_floor_worst_pause_dbfs"), total, delta=1.0)

    def test_quieter_room_tone_laid_at_the_head_moves_no_word(self):
        wave = self.dry + self.room(-58)
        wave[: round(0.4 * RATE)] *= 10 ** (-9 / 20)
        found = self.inspected(wave)
        self.assertAlmostEqual(found.value("head_s"), 0.8, delta=0.12)
        self.assert_pauses_found(found, self.spans)

    def test_a_gated_file_has_dead_silence_and_no_room_tone(self):
        found = self.inspected(self.dry + np.where(self.dry != 0, self.room(-60), 0))
        self.assert_pauses_found(found, self.spans)
        silent = 0.8 + 1.5 + PAUSE_S * (len(self.pieces) - 1)
        self.assertAlmostEqual(found.value("digital_silence_s"), silent, delta=0.1)
        self.assertIsNone(found.value("noise_floor_dbfs"))
        self.assertTrue(found.readings["noise_floor_dbfs"].silence)
        self.assertEqual(sum(f.kind == "dead-silence" for f in found.findings), len(self.pieces) + 1)

    def test_a_gate_that_lets_some_room_through(self):
        kept = np.zeros(self.dry.size)
        for start, end in self.spans:
            kept[int((start - 0.1) * RATE) : int((end + 0.6) * RATE)] = 1.0
        found = self.inspected((self.dry + self.room(-60)) * kept)
        self.assert_pauses_found(found, self.spans)
        self.assertAlmostEqual(found.value("noise_floor_dbfs"), -60, delta=1.0)

    def test_music_under_speech(self):
        t = np.arange(self.dry.size) / RATE
        chord = sum(np.sin(2 * np.pi * f * t) * (1 + 0.3 * np.sin(2 * np.pi * 0.3 * t + f)) / f for f in (131, 165, 196, 262, 523))
        for under in (-16, -22):
            music = faults.at_level(chord, rms_dbfs=-20 + under)
            found = self.inspected(self.dry + music + self.room(-70))
            with self.subTest(under=under):
                self.assert_pauses_found(found, self.spans, within_s=0.25)
                self.assertAlmostEqual(found.value("noise_floor_dbfs"), -20 + under, delta=1.0)

    def test_no_pauses_at_all(self):
        pieces = sentences("almanac-01", 8)
        wave, _ = laid_out(pieces, pause_s=0.08, head_s=0.0, tail_s=0.0)
        found = self.inspected(wave + faults.room_noise(wave.size, noise_dbfs=-65, seed=3))
        self.assertLess(found.value("head_s"), 0.06)
        self.assertLess(found.value("tail_s"), 0.06)
        reading = found.readings["noise_floor_dbfs"]
        self.assertIn("quietest 500 ms", reading.method)
        self.assertIsNone(reading.value)  # the quietest half second is voice, and no bound on the room worth having
        self.assertIn("nobody pauses long enough", reading.note)

    def test_speech_cut_at_the_very_start(self):
        cut = self.dry[round((0.8 + 0.35) * RATE) :]
        found = self.inspected(cut + faults.room_noise(cut.size, noise_dbfs=-62, seed=4))
        self.assertLess(found.value("head_s"), 0.06)
        self.assertAlmostEqual(found.value("tail_s"), 1.5, delta=0.06)
        self.assertAlmostEqual(found.value("noise_floor_dbfs"), -62, delta=1.0)

    def test_a_whisper(self):
        frames, shift = 1_024, 256
        _, _, spectrum = dsp.stft(self.dry, RATE, nperseg=frames, noverlap=frames - shift)
        random = np.random.default_rng(8).uniform(-np.pi, np.pi, spectrum.shape)
        smooth = dsp.convolve2d(np.abs(spectrum), np.ones((9, 1)) / 9, mode="same")
        _, breathed = dsp.istft(smooth * np.exp(1j * random), RATE, nperseg=frames, noverlap=frames - shift)
        tilted = dsp.sosfilt(dsp.butter(1, 1_200, "highpass", fs=RATE, output="sos"), breathed[: self.dry.size])
        found = self.inspected(faults.at_level(tilted, rms_dbfs=-34) + self.room(-70))
        self.assert_pauses_found(found, self.spans, within_s=0.2)
        self.assertAlmostEqual(found.value("noise_floor_dbfs"), -70, delta=1.0)

    def test_a_file_half_dead(self):
        living = self.dry + self.room(-60)
        found = self.inspected(np.concatenate((living, np.zeros(20 * RATE))))
        self.assert_pauses_found(found, self.spans)
        self.assertAlmostEqual(found.value("noise_floor_dbfs"), -60, delta=1.0)
        self.assertAlmostEqual(found.value("digital_silence_s"), 20.0, delta=0.05)

    def test_an_offset_changes_nothing_between_the_words(self):
        found = self.inspected(self.dry + self.room(-65) + 0.01)
        self.assert_pauses_found(found, self.spans)
        self.assertAlmostEqual(found.value("noise_floor_dbfs"), -65, delta=0.5)

    def test_breaths_and_mouth_noises_in_every_pause_become_findings_and_no_room_tone(self):
        wave = self.dry + self.room(-66)
        for index, (_, end) in enumerate(self.spans[:-1]):
            if index % 2:
                faults.laid(wave, faults.click(peak=0.05), end + 0.6)
            else:
                faults.laid(wave, faults.breath(seconds=0.35, level_dbfs=-46, seed=index), end + 0.55)
        found = self.inspected(wave)
        self.assert_pauses_found(found, self.spans)
        self.assertAlmostEqual(found.value("noise_floor_dbfs"), -66, delta=0.7)
        kinds = [finding.kind for finding in found.findings]
        self.assertEqual((kinds.count("breath"), kinds.count("click")), (3, 2))

    def test_room_tone_marked_by_hand_is_what_is_used(self):
        wave = self.dry + self.room(-66)
        loud = round((self.spans[1, 1] + 0.3) * RATE)
        wave[loud : loud + round(0.4 * RATE)] *= 10 ** (12 / 20)
        marked = [Span(start_s=float(self.spans[1, 1]) + 0.35, end_s=float(self.spans[1, 1]) + 0.65)]
        self.assertAlmostEqual(self.inspected(wave).value("noise_floor_dbfs"), -66, delta=1.0)
        found = self.inspected(wave, room_tone=marked)
        self.assertAlmostEqual(found.value("noise_floor_dbfs"), -54, delta=1.0)
        self.assertIn("by hand", found.readings["noise_floor_dbfs"].method)
        self.assertEqual(len(found.room_tone), 1)
        self.assertAlmostEqual(found.room_tone[0].start_s, marked[0].start_s, delta=0.006)

    def test_both_voices_and_every_clean_reading(self):
        for name in ("almanac-02", "almanac-04", "almanac-06"):
            dry, spans = laid_out(sentences(name))
            found = self.inspected(dry + faults.room_noise(dry.size, noise_dbfs=-60, seed=5))
            with self.subTest(name=name):
                self.assert_pauses_found(found, spans)

    def test_pure_noise_and_a_steady_tone_hold_no_speech(self):
        for wave in (signals.noise(10, rms_dbfs=-30, rate=RATE), signals.sine(440, peak_dbfs=-12, seconds=10, rate=RATE)):
            found = self.inspected(wave)
            self.assertEqual(found.speech, [])
            self.assertIsNone(found.value("head_s"))
