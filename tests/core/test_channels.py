"""Channels: how left and right belong together is measured, and decided once before anything is mixed."""

import tempfile
import unittest
from itertools import product
from pathlib import Path

import numpy as np
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from ispettore.core.audio.layout import LAYOUTS, downmix
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import preparing
from ispettore.core.plan.conform import conform
from ispettore.core.spec import builtin
from ispettore.core.spec.verdict import judge
from ispettore.core.treat.channels import Channels, decided, told
from tests import signals, speakers
from tests.corpus import some
from tests.treating import fed, treated

RATE = 44_100
LAYOUT = st.sampled_from(sorted(LAYOUTS))


def inspected(*channels: np.ndarray, rate: int = RATE) -> Inspection:
    return measure_array(np.stack(channels, axis=1), sample_rate_hz=rate).inspection


def voice(seconds: float = 12, seed: int = 3, rms_dbfs: float = -22) -> np.ndarray:
    return signals.voice_like(seconds, rms_dbfs=rms_dbfs, rate=RATE, seed=seed)


def room(seconds: float, dbfs: float, seed: int) -> np.ndarray:
    return signals.noise(seconds, rms_dbfs=dbfs, rate=RATE, seed=seed)


class Downmix(unittest.TestCase):
    def test_weights_stand_to_one_another_as_in_the_recommendation(self):
        half = np.sqrt(0.5)
        to_one, to_two = downmix(6, 1), downmix(6, 2)
        np.testing.assert_allclose(to_one / to_one[0, 2], [[half, half, 1, 0, 0.5, 0.5]])
        np.testing.assert_allclose(to_two / to_two[0, 0], [[1, 0, half, 0, half, 0], [0, 1, half, 0, 0, half]])

    @given(LAYOUT, st.sampled_from([1, 2]), st.sets(st.integers(1, 6)), st.sets(st.integers(1, 6)))
    def test_no_sum_can_pass_full_scale_and_nothing_dead_or_low_is_mixed_in(self, channels, wanted, live, turned):
        live, turned = ({each for each in some_of if each <= channels} for some_of in (live, turned))
        weights = downmix(channels, wanted, live=live, turned=turned)
        self.assertEqual(weights.shape, (wanted, channels))
        self.assertAlmostEqual(np.abs(weights).sum(axis=1).max(), 1)
        self.assertTrue(np.abs(weights).sum(axis=1).min() > 0)
        for number, name in enumerate(LAYOUTS[channels], 1):
            alone = live == {number}
            if (live and number not in live) or (name == "LFE" and not alone):
                self.assertFalse(weights[:, number - 1].any())
            self.assertTrue((weights[:, number - 1] * (-1 if number in turned else 1) >= 0).all())

    @settings(max_examples=25, deadline=None)
    @given(LAYOUT, st.sampled_from([1, 2]), st.integers(1, 6))
    def test_one_that_sounds_alone_is_taken_as_it_is(self, channels, wanted, number):
        number = min(number, channels)
        wave = np.zeros((500, channels))
        wave[:, number - 1] = room(500 / RATE, -20, number)
        out = fed("channels", wave, 130, channels=wanted, live=[number], turned=[])
        np.testing.assert_array_equal(out, np.repeat(wave[:, [number - 1]].astype(np.float32), wanted, axis=1))


class Readings(unittest.TestCase):
    def test_correlation_and_loss_are_what_they_were_made_to_be(self):
        common, own = voice(20), voice(20, seed=9)
        for share in (1.0, 0.9, 0.5, 0.0, -0.5, -0.9):
            left, right = common, share * common + np.sqrt(1 - share**2) * own
            found = inspected(left, right)
            made = np.corrcoef(left, right)[0, 1]
            with self.subTest(share=share):
                self.assertAlmostEqual(found.value("channel_correlation"), made, delta=0.02)
                # In the worst three seconds: at least what is lost over all of it.
                whole = 10 * np.log10(np.mean(left**2 + right**2) / 2 / np.mean(((left + right) / 2) ** 2))
                self.assertGreaterEqual(found.value("mono_loss_db"), whole - 0.15)
                self.assertLess(found.value("mono_loss_db"), whole + 3)

    def test_what_one_side_has_alone_and_what_is_mono_or_still(self):
        one, still = voice(), np.zeros(12 * RATE)
        self.assertAlmostEqual(inspected(one, one).value("mono_loss_db"), 0, delta=1e-4)
        self.assertAlmostEqual(inspected(one, one).value("channel_correlation"), 1, delta=1e-5)
        self.assertAlmostEqual(inspected(one, -one).value("mono_loss_db"), 60, delta=0.01)
        side = inspected(one, still)
        self.assertAlmostEqual(side.value("mono_loss_db"), 3.01, delta=0.01)
        self.assertIsNone(side.value("channel_correlation"))
        self.assertEqual(side.readings["channel_correlation"].note, "only one side sounds")
        self.assertEqual((inspected(one).value("channel_correlation"), inspected(one).value("mono_loss_db")), (1.0, 0.0))
        nothing = inspected(still, still)
        self.assertEqual((nothing.value("channel_correlation"), nothing.value("mono_loss_db")), (None, None))
        self.assertTrue(nothing.readings["mono_loss_db"].silence)

    def test_an_offset_is_no_likeness(self):
        left, right = voice(), voice(seed=9)
        plain, shifted = inspected(left, right), inspected(left + 0.2, right + 0.2)
        self.assertAlmostEqual(shifted.value("channel_correlation"), plain.value("channel_correlation"), delta=0.002)
        self.assertAlmostEqual(shifted.value("mono_loss_db"), plain.value("mono_loss_db"), delta=0.05)

    def test_the_worst_place_is_told(self):
        left = np.concatenate((voice(30), voice(10, seed=5), voice(30, seed=6)))
        right = left.copy()
        right[30 * RATE : 40 * RATE] *= -1
        found = inspected(left, right)
        loss = found.readings["mono_loss_db"]
        self.assertGreater(loss.value, 40)
        self.assertTrue(29.9 <= loss.start_s < loss.end_s <= 40.1, loss)
        told = [one for one in found.findings if one.kind == "inverted-channel"]
        self.assertEqual([one.channel for one in told], [2])
        self.assertAlmostEqual(told[0].start_s, 30, delta=2)
        self.assertAlmostEqual(told[0].end_s, 40, delta=2)
        self.assertEqual(found.facts.channel_relation, "different")

    def test_more_channels_are_read_as_two_loudspeakers_play_them(self):
        still = np.zeros(12 * RATE)
        centre = inspected(still, still, voice(), room(12, -20, 4), still, still)
        self.assertAlmostEqual(centre.value("mono_loss_db"), 0, delta=0.01)
        self.assertAlmostEqual(centre.value("channel_correlation"), 1, delta=1e-4)
        against = inspected(voice(), -voice(), still, still, still, still)
        self.assertGreater(against.value("mono_loss_db"), 40)

    def test_every_shipped_specification_advises_on_both(self):
        for specification in builtin.shipped().values():
            for quantity in ("channel_correlation", "mono_loss_db"):
                self.assertEqual(specification.limit(quantity).severity, "advice")
            for channels, passes in (((voice(),), True), ((voice(), -voice()), False)):
                limits = judge(inspected(*channels), specification, role="recording").limits
                met = {one.quantity: one.passes for one in limits}
                self.assertEqual((met["mono_loss_db"], met["channel_correlation"]), (passes, passes))


PAIRS: dict[str, set[tuple[str, int]]] = {
    "one voice in two rooms": set(),
    "two microphones": set(),
    "upside down": {("inverted-channel", 2)},
    "upside down, softer": {("inverted-channel", 2)},
    "a dead side that hisses": {("silent-channel", 2)},
    "a dead side, crosstalk": {("silent-channel", 2)},
}
"""How two channels come about, and what is to be found of it: kind and channel."""


def pair_cases() -> list[tuple[str, float, int]]:
    """Speaker, room in dBFS and sample rate."""
    return list(product(speakers.NAMES, (-70.0, -50.0), (16_000, 44_100, 96_000)))


def pairs_told(case: tuple[str, float, int]) -> dict[str, set[tuple[str, int]]]:
    """What is found of each pair of channels."""
    name, dbfs, rate = case
    laid = speakers.laid(name, rate=rate, seconds=15)
    left, right = (speakers.room(laid.wave.size, rate=rate, dbfs=dbfs, seed=side) for side in (1, 2))
    # Half a millisecond later and softer, as with two microphones; and what comes over from the other channel.
    shift = rate // 2_000
    late = np.concatenate((np.zeros(shift), laid.wave[:-shift])) * 0.8
    hiss = 10 ** ((-72 - dbfs) / 20) * right
    seconds = {
        "one voice in two rooms": laid.wave + right,
        "two microphones": late + right,
        "upside down": -laid.wave + right,
        "upside down, softer": -0.3 * laid.wave + right,
        "a dead side that hisses": hiss,
        "a dead side, crosstalk": laid.wave * 10 ** (-45 / 20) + hiss,
    }
    found = {what: inspected(laid.wave + left, second, rate=rate).findings for what, second in seconds.items()}
    return {what: {(one.kind, one.channel) for one in told if "channel" in one.kind} for what, told in found.items()}


class WhatIsFound(unittest.TestCase):
    """Over speakers, rooms and ways in which two channels come about."""

    def test_pairs(self):
        for case in some(pair_cases(), every=5):
            with self.subTest(case=case):
                self.assertEqual(pairs_told(case), PAIRS)


class Decided(unittest.TestCase):
    def test_dead_and_inverted_channels(self):
        one, still = voice(), np.zeros(12 * RATE)
        over = "is inverted and is flipped first"
        for channels, live, turned, words in (
            ((one, one), (1, 2), (), ""),
            ((one, voice(seed=9)), (1, 2), (), ""),
            ((still, one), (2,), (), "the right channel only is used, as the voice is nowhere else"),
            ((one, -one), (1, 2), (2,), f"the right channel {over}"),
            ((still, still), (1, 2), (), ""),
            ((one, one, one, still, -one, one), (1, 2, 3, 5, 6), (5,), f"the left surround channel {over}"),
        ):
            with self.subTest(live=live, turned=turned):
                settled = decided(inspected(*channels), 1)
                self.assertEqual((settled.live, settled.turned), (live, turned))
                self.assertEqual(told(settled, len(channels)), words)

    def test_a_step_without_settings_decides_from_the_recording(self):
        one = voice()
        for second, wanted in product((-one, 0 * one, one), (1, 2)):
            out, done = treated(np.stack((one, second), axis=1), ("channels", {"channels": wanted}))
            for channel in np.atleast_2d(out.T):
                np.testing.assert_allclose(channel, one, atol=2e-7)
            self.assertEqual(done.ledger[0].warnings, ())

    def test_settings_for_channels_that_are_not_there_are_left_out(self):
        wave = np.stack((voice(4), voice(4, seed=9)), axis=1)
        out = fed("channels", wave, 9_000, channels=1, live=[2, 5], turned=[6])
        np.testing.assert_allclose(out[:, 0], wave[:, 1], atol=1e-7)
        self.assertTrue(Channels(channels=1).learns())
        self.assertFalse(Channels(channels=1, live=(1,)).learns())


class Conformed(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def conform(self, *channels: np.ndarray, specification: str = "audiobook-retail", out: str = "out.wav"):
        path = self.folder / "in.wav"
        soundfile.write(path, np.stack(channels, axis=1), RATE, subtype="PCM_24")
        return conform(path, builtin.shipped()[specification], self.folder / out)

    def test_an_inverted_channel_is_turned_and_the_file_keeps_its_voice_in_mono(self):
        one = voice(40, rms_dbfs=-21)
        done = self.conform(one + room(40, -75, 1), -0.9 * one + room(40, -75, 2))
        self.assertTrue(done.passes, done.obstacles)
        step = done.treatment.steps[0]
        self.assertEqual((step.kind, step.settings["turned"], step.settings["channels"]), ("channels", [2], 2))
        self.assertEqual(step.reason, "The right channel is inverted and is flipped first.")
        self.assertLess(inspect(self.folder / "out.wav").inspection.value("mono_loss_db"), 0.1)
        limits = {limit.quantity: limit.position for limit in done.verdict.limits}
        self.assertEqual((limits["mono_loss_db"], limits["channel_correlation"]), ("inside", "inside"))

    def test_a_dead_side_becomes_mono_or_both_sides_with_gain_alone(self):
        one = voice(40, rms_dbfs=-26)
        one *= 0.1 / np.abs(one).max()  # 20 dB under full scale
        hiss = room(40, -88, 2)
        for specification, channels in (("audiobook-retail", 2), ("podcast-mono", 1)):
            done = self.conform(hiss, one, specification=specification)
            self.assertTrue(done.passes, done.obstacles)
            self.assertEqual([step.kind for step in done.treatment.steps if step.kind != "head-and-tail"], ["channels", "gain"])
            wave, _ = soundfile.read(self.folder / "out.wav", always_2d=True)
            self.assertEqual(wave.shape[1], channels)
            self.assertEqual(done.after.facts.channel_relation, "identical" if channels == 2 else "one")

    def test_what_cancels_and_can_not_be_mended_is_an_obstacle(self):
        one = voice(40, rms_dbfs=-21)
        second = one.copy()
        second[15 * RATE : 25 * RATE] *= -1
        for specification in ("audiobook-retail", "podcast-mono"):
            done = self.conform(one, second, specification=specification)
            self.assertFalse(done.passes)
            self.assertEqual(done.obstacles[0].limits, ("mono_loss_db", "mono_loss_db"))
            self.assertIn("Left and right cancel each other from 0:1", done.obstacles[0].advice)
            self.assertFalse((self.folder / "out.wav").exists())

    def test_the_low_frequency_channel_is_left_out(self):
        one = voice(40, rms_dbfs=-21)
        rumble = signals.sine(40, peak_dbfs=-3, seconds=40, rate=RATE)
        still = np.zeros_like(one)
        done = self.conform(0.3 * one, 0.3 * one, one, rumble, still, still, specification="podcast-mono")
        self.assertTrue(done.passes, done.obstacles)
        wave, _ = soundfile.read(self.folder / "out.wav")
        self.assertGreater(np.corrcoef(wave, one[: wave.size])[0, 1], 0.999)

    def test_what_sounds_well_is_left_alone(self):
        one = voice(40, rms_dbfs=-21)
        for second in (one, 0.5 * one + 0.5 * voice(40, seed=9, rms_dbfs=-21)):
            found = inspected(one, second)
            form = OutputFormat(container="wav")
            prepared = preparing.preparation(found, builtin.shipped()["audiobook-retail"], role="master", form=form)
            self.assertEqual(prepared.steps, ())


if __name__ == "__main__":
    unittest.main()
