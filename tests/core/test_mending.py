"""What a limit on the recording's health asks for, and the room tone that takes the place of dead silence."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile
from scipy import signal

from ispettore.core import errors
from ispettore.core.plan.conform import Conformed, conform
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.treat.treatment import Step
from tests import speakers
from tests.treating import RATE, db, fed, measured, treated


def gated(name: str = "wren", *, room_dbfs: float = -58, every: int = 2) -> tuple[np.ndarray, speakers.Laid]:
    """A voice in a pink room, with dead silence in the middle of every second pause."""
    laid = speakers.laid(name, rate=RATE, pause_s=1.4)
    wave = 0.3 * laid.wave + speakers.room(laid.wave.size, rate=RATE, dbfs=room_dbfs)
    for start, end in laid.pauses()[::every]:
        wave[round((start + 0.2) * RATE) : round((end - 0.3) * RATE)] = 0.0
    return wave, laid


def holes(wave: np.ndarray) -> np.ndarray:
    """True where the wave stands still at zero for a tenth of a second."""
    still = np.convolve(np.abs(wave) < 1e-9, np.ones(RATE // 10), "same") > RATE // 10 - 1
    return np.convolve(still, np.ones(RATE // 10), "same") > 0.5


class RoomToneFill(unittest.TestCase):
    def test_dead_silence_becomes_room_of_the_same_level_and_colour(self):
        for name, room_dbfs in (("wren", -58), ("caller", -66)):
            wave, _ = gated(name, room_dbfs=room_dbfs)
            out, done = treated(wave, ("room-tone-fill", {}))
            before, after = measured(wave).inspection, measured(out).inspection
            dead = holes(wave)
            with self.subTest(name=name):
                self.assertEqual(out.shape, wave.shape)
                self.assertGreater(before.value("digital_silence_s"), 0.5)
                self.assertEqual(after.value("digital_silence_s"), 0)
                self.assertAlmostEqual(db(np.mean(out[dead] ** 2)), room_dbfs, delta=1)
                self.assertAlmostEqual(after.value("noise_floor_dbfs"), before.value("noise_floor_dbfs"), delta=0.5)
                spoken = {each.start_s for each in before.findings if each.kind == "click"}
                kinds = {each.kind for each in after.findings if each.start_s not in spoken}
                self.assertFalse(kinds & {"click", "dead-silence", "room-tone-jump"}, kinds)
                self.assertAlmostEqual(done.ledger[0].learned["filled_s"], before.value("digital_silence_s"), delta=0.3)
                for low, high in ((100, 400), (400, 1_600), (1_600, 6_400)):
                    sections = signal.butter(4, [low, high], "bandpass", fs=RATE, output="sos")
                    room = signal.sosfilt(sections, speakers.room(wave.size, rate=RATE, dbfs=room_dbfs))
                    filled = signal.sosfilt(sections, out)[dead]
                    self.assertAlmostEqual(db(np.mean(filled**2)), db(np.mean(room**2)), delta=1)

    def test_nothing_else_is_touched(self):
        wave, _ = gated()
        out, _ = treated(wave, ("room-tone-fill", {}))
        near = np.convolve(holes(wave), np.ones(RATE // 20), "same") > 0.5
        np.testing.assert_allclose(out[~near], wave[~near], atol=1e-7)
        whole = speakers.laid("reed", rate=RATE)
        same = 0.3 * whole.wave + speakers.room(whole.wave.size, rate=RATE, dbfs=-60)
        np.testing.assert_allclose(treated(same, ("room-tone-fill", {}))[0], same, atol=1e-7)

    def test_spans_chosen_by_hand(self):
        wave, laid = gated(every=10)
        start, end = laid.spans[2]
        out, _ = treated(wave, ("room-tone-fill", {"spans": [{"start_s": start, "end_s": end}]}))
        inside = slice(round((start + 0.02) * RATE), round((end - 0.02) * RATE))
        self.assertAlmostEqual(db(np.mean(out[inside] ** 2)), -58, delta=1)
        outside = np.ones(wave.size, dtype=bool)
        outside[round(start * RATE) : round(end * RATE)] = False
        np.testing.assert_allclose(out[outside], wave[outside], atol=1e-7)
        for spans in ([{"start_s": 3, "end_s": 2}], [{"start_s": -1, "end_s": 2}]):
            with self.assertRaisesRegex(ValueError, "a span starts at 0"):
                Step(kind="room-tone-fill", settings={"spans": spans})

    def test_the_size_of_blocks_changes_nothing_and_long_silence_does_not_repeat_at_once(self):
        wave, _ = gated()
        whole = fed("room-tone-fill", wave[:, None], len(wave))
        np.testing.assert_array_equal(fed("room-tone-fill", wave[:, None], 997, 44_100), whole)
        long = np.concatenate((wave, np.zeros(70 * RATE)))
        out, _ = treated(long, ("room-tone-fill", {}))
        tail = out[len(wave) + RATE :]
        self.assertAlmostEqual(db(np.mean(tail**2)), -58, delta=1)
        self.assertLess(abs(np.corrcoef(tail[: 10 * RATE], tail[10 * RATE : 20 * RATE])[0, 1]), 0.05)

    def test_two_channels(self):
        wave, _ = gated()
        both = np.stack((wave, 0.5 * wave), axis=1)
        out, _ = treated(both, ("room-tone-fill", {}))
        np.testing.assert_allclose(out[:, 1], 0.5 * out[:, 0], atol=1e-6)

    def test_without_room_tone_there_is_nothing_to_fill_with(self):
        wave = speakers.laid("wren", rate=RATE, pause_s=1.2).wave * 0.3
        with self.assertRaisesRegex(errors.NothingToFillWith, "no room tone to fill gaps with"):
            treated(wave, ("room-tone-fill", {}))


class Mending(unittest.TestCase):
    def conformed(self, wave: np.ndarray, *limits: Limit) -> Conformed:
        with tempfile.TemporaryDirectory() as folder:
            path, out = Path(folder) / "in.wav", Path(folder) / "out.wav"
            soundfile.write(path, wave, RATE, "PCM_24")
            result = conform(path, Specification(id="x", name="X", limits=limits), out)
            self.assertEqual(out.exists(), result.passes)
            return result

    def kinds(self, result: Conformed) -> list[str]:
        self.assertTrue(result.passes, result.obstacles)
        self.assertTrue(all(step.reason for step in result.treatment.steps))
        return [step.kind for step in result.treatment.steps]

    def test_dead_silence_is_filled_where_a_limit_asks_for_it(self):
        wave, _ = gated()
        self.assertEqual(self.kinds(self.conformed(wave, Limit(quantity="digital_silence_s", high=0))), ["room-tone-fill"])
        self.assertEqual(self.kinds(self.conformed(wave, Limit(quantity="sample_peak_dbfs", high=0))), [])

    def test_an_offset_is_taken_out(self):
        wave, _ = gated()
        result = self.conformed(wave + 0.03, Limit(quantity="dc_offset_percent", low=-0.1, high=0.1))
        self.assertEqual(self.kinds(result), ["rumble-filter"])
        self.assertIn("3.06 % off centre", result.treatment.steps[0].reason)
        self.assertLess(result.touch.touch, 5)

    def test_an_offset_is_not_delivered_louder_though_no_limit_asks_for_it(self):
        laid = speakers.laid("reed", rate=RATE, pause_s=0.9, seconds=20)
        wave = laid.wave / np.sqrt(np.mean(laid.wave**2)) * 10 ** (-33 / 20)
        wave += speakers.room(wave.size, rate=RATE, dbfs=-62, kind="white")
        loud = (Limit(quantity="integrated_loudness_lufs", low=-15, high=-13), Limit(quantity="true_peak_dbtp", high=-1))
        book = (Limit(quantity="rms_dbfs", low=-23, high=-18), Limit(quantity="sample_peak_dbfs", high=-3))
        for limits in (loud, book):
            plain = self.conformed(wave, *limits)
            self.assertNotIn("rumble-filter", self.kinds(plain))
            for offset in (0.003, -0.03):
                with self.subTest(limits=limits[0].quantity, offset=offset):
                    result = self.conformed(wave + offset, *limits)
                    self.assertEqual(self.kinds(result), ["rumble-filter", *self.kinds(plain)])
                    self.assertIn("% off centre, which counts as level", result.treatment.steps[0].reason)
                    self.assertLess(abs(result.after.value("dc_offset_percent")), 0.1)
                    self.assertEqual(result.rounds, 1)
                    self.assertAlmostEqual(result.touch.touch, plain.touch.touch, delta=4)
                    noise = "noise_floor_dbfs"
                    self.assertAlmostEqual(result.after.value(noise), plain.after.value(noise), delta=0.6)

    def test_an_offset_stays_where_the_level_does_or_where_nobody_would_be_told_of_it(self):
        laid = speakers.laid("reed", rate=RATE, pause_s=0.9)
        wave = 0.3 * laid.wave + speakers.room(laid.wave.size, rate=RATE, dbfs=-70)
        level = db(np.mean(wave**2))
        met, near = (Limit(quantity="rms_dbfs", low=level + by - 0.5, high=level + by + 0.5) for by in (0, 2))
        self.assertEqual(self.kinds(self.conformed(wave + 0.006, met)), [])
        ends = Limit(quantity="head_s", low=1.0, high=2.0)
        self.assertEqual(self.kinds(self.conformed(wave + 0.006, met, ends)), ["head-and-tail"])
        self.assertEqual(self.kinds(self.conformed(wave + 0.002, near)), ["gain"])

    def test_what_is_cleaned_after_filling_is_what_the_filled_room_asks_for(self):
        # Beside the words the gate left the ends of breaths, and hardly any room.
        laid = speakers.laid("wren", rate=RATE, pause_s=1.4)
        wave = 0.6 * laid.wave + speakers.room(laid.wave.size, rate=RATE, dbfs=-74)
        wave += speakers.breaths(laid, seconds=0.5, dbfs=-48, before_s=0.05)
        for start, end in laid.pauses():
            wave[round((start + 0.15) * RATE) : round((end - 0.15) * RATE)] = 0.0
        wave[: round(0.6 * RATE)] = wave[-RATE:] = 0.0
        result = self.conformed(
            wave,
            Limit(quantity="digital_silence_s", high=0),
            Limit(quantity="noise_floor_dbfs", high=-60),
            Limit(quantity="rms_dbfs", low=-23, high=-18),
            Limit(quantity="sample_peak_dbfs", high=-1),
        )
        self.assertFalse({"noise-reduction", "expander"} & set(self.kinds(result)), self.kinds(result))

    def test_clipped_waves_are_rebuilt(self):
        laid = speakers.laid("caller", rate=RATE)
        wave = 0.5 * laid.wave / np.abs(laid.wave).max() + speakers.room(laid.wave.size, rate=RATE, dbfs=-75)
        top = 0.55 * np.abs(wave).max()
        result = self.conformed(np.clip(wave, -top, top), Limit(quantity="clipped_runs", high=0))
        self.assertEqual(self.kinds(result), ["clip-repair"])
        self.assertGreater(result.before.value("clipped_runs"), 5)

    def test_all_three_and_the_level_at_once(self):
        wave, _ = gated("heron")
        top = 0.6 * np.abs(wave).max()
        limits = (
            Limit(quantity="clipped_runs", high=0),
            Limit(quantity="digital_silence_s", high=0),
            Limit(quantity="dc_offset_percent", low=-0.1, high=0.1),
            Limit(quantity="rms_dbfs", low=-26, high=-24),
            Limit(quantity="sample_peak_dbfs", high=-3),
        )
        silent = np.abs(wave) == 0
        offset = np.where(silent, 0.0, np.clip(wave, -top, top) + 0.01)
        kinds = self.kinds(self.conformed(offset, *limits))
        self.assertEqual(kinds[:3], ["clip-repair", "room-tone-fill", "rumble-filter"])

    def test_a_rumble_filter_that_cleans_takes_the_offset_too(self):
        laid = speakers.laid("wren", rate=RATE, pause_s=0.9)
        voice = laid.wave / np.sqrt(np.mean(laid.wave**2)) * 10 ** (-21.5 / 20)
        low = signal.sosfilt(
            signal.butter(4, 60, fs=RATE, output="sos"), speakers.room(voice.size, rate=RATE, dbfs=0, kind="white")
        )
        wave = voice + low / low.std() * 10 ** (-50 / 20) + speakers.room(voice.size, rate=RATE, dbfs=-72) + 0.01
        result = self.conformed(
            wave,
            Limit(quantity="dc_offset_percent", low=-0.1, high=0.1),
            Limit(quantity="rms_dbfs", low=-23, high=-18),
            Limit(quantity="noise_floor_dbfs", high=-60),
        )
        self.assertEqual(self.kinds(result).count("rumble-filter"), 1)

    def test_what_cannot_be_filled_is_said(self):
        wave = speakers.laid("wren", rate=RATE, pause_s=1.2).wave * 0.3
        result = self.conformed(wave, Limit(quantity="digital_silence_s", high=0))
        [obstacle] = result.obstacles
        self.assertIn("there is no room tone to fill it with", obstacle.advice)
        self.assertEqual(obstacle.limits, ("digital_silence_s", "digital_silence_s"))
