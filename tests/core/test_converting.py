"""Conversions: what a wave reads on other channels or at a near rate is told, not measured again: a plan runs nothing for it."""

import tempfile
import unittest
from itertools import product
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
import soxr

from ispettore.core.audio.writing import OutputFormat
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.copies import copied
from ispettore.core.measure.inspecting import inspect, measure_array
from ispettore.core.plan import converting, proposing
from ispettore.core.plan.conform import conform
from ispettore.core.plan.converting import Conversion
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import builtin
from ispettore.core.spec.specification import Limit
from ispettore.core.treat import runner
from ispettore.core.treat.treatment import Step, Treatment
from tests import recordings, speakers
from tests.corpus import some

RATE = recordings.RATE
MONO = [
    name for name, made in recordings.recordings().items() if name not in ("dual mono", "stereo pair", "right side upside down")
]
NOT_OF_THE_WAVE = ("asymmetry",)
"""Told of whichever channel has it most."""


def measured(wave: np.ndarray, channels: int, rate: int) -> Basis:
    return measure_array(np.repeat(wave, channels, axis=1), sample_rate_hz=rate).basis


class Copied(unittest.TestCase):
    def alike(self, told: Basis, read: Basis) -> None:
        self.assertEqual(set(told.inspection.readings), set(read.inspection.readings))
        for quantity, reading in read.inspection.readings.items():
            own = told.inspection.readings[quantity]
            with self.subTest(quantity=quantity):
                self.assertEqual((own.unit, own.note, own.silence), (reading.unit, reading.note, reading.silence))
                self.assertEqual(len(own.per_channel), len(reading.per_channel))
                if reading.value is None:
                    self.assertIsNone(own.value)
                else:
                    self.assertAlmostEqual(own.value, reading.value, places=9)
        facts = ("channels", "channel_relation", "duration_s", "sample_rate_hz")
        for fact in facts:
            self.assertEqual(getattr(told.inspection.facts, fact), getattr(read.inspection.facts, fact))
        kinds = ({each.kind for each in basis.inspection.findings} - set(NOT_OF_THE_WAVE) for basis in (told, read))
        self.assertEqual(*kinds)
        for own, other in zip((told.peak, told.power, told.k_power), (read.peak, read.power, read.k_power), strict=True):
            np.testing.assert_array_equal(own, other)
        np.testing.assert_array_equal(told.speech, read.speech)
        np.testing.assert_array_equal(told.room, read.room)

    def test_what_is_told_is_what_is_measured(self):
        for name in some(MONO, every=9):
            wave, rate = recordings.recordings()[name]()
            one, two = measured(wave, 1, rate), measured(wave, 2, rate)
            with self.subTest(name=name):
                self.alike(copied(one, 2), two)
                self.alike(copied(two, 1), one)

    def test_more_than_two_that_are_alike_come_to_one(self):
        wave = speakers.laid("heron", rate=RATE, seconds=6).wave[:, None] * 0.3
        told = copied(measured(wave, 3, RATE), 1)
        self.assertAlmostEqual(told.inspection.value("rms_dbfs"), measured(wave, 1, RATE).inspection.value("rms_dbfs"), places=6)


class Resampled(unittest.TestCase):
    VOICE = ("sample_peak_dbfs", "true_peak_dbtp", "rms_dbfs", "integrated_loudness_lufs", "crest_factor_db", "loudness_range_lu")
    ROOM = ("noise_floor_dbfs", "noise_floor_worst_pause_dbfs", "signal_to_noise_db")
    """Told from the samples of the room tone, measured from its cells."""

    def test_what_is_told_of_another_rate_is_what_is_measured(self):
        rates = ((48_000, 44_100), (44_100, 48_000), (16_000, 44_100), (22_050, 44_100), (32_000, 48_000))
        cases = list(product(enumerate(speakers.NAMES), rates))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "in.wav"
            for (number, name), (was, rate) in some(cases, every=7):
                voice = speakers.laid(name, rate=was, seconds=15, pause_s=0.9).wave
                kind, dbfs = (("white", -52), ("pink", -70), ("white", -65))[number % 3]
                wave = recordings.at(voice, -24) + speakers.room(voice.size, rate=was, dbfs=dbfs, kind=kind)
                soundfile.write(path, wave, was, subtype="PCM_24")
                written, _ = soundfile.read(path, dtype="float32")
                after = soxr.resample(written, was, rate, quality="VHQ")
                read = measure_array(after, sample_rate_hz=rate).inspection
                told = Conversion(was, rate).told(path, inspect(path).basis).inspection
                self.assertEqual(told.facts.sample_rate_hz, rate)
                for quantity in (*self.VOICE, *self.ROOM):
                    with self.subTest(name=name, was=was, rate=rate, quantity=quantity):
                        within = 0.05 if quantity in self.VOICE else 0.1
                        self.assertAlmostEqual(told.value(quantity), read.value(quantity), delta=within)

    def test_silence_stays_silence_and_a_recording_without_pauses_keeps_its_room(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "in.wav"
            for wave in (np.zeros(48_000), 0.3 * np.sin(np.arange(96_000) / 20)):
                soundfile.write(path, wave, 48_000, subtype="PCM_24")
                basis = inspect(path).basis
                told = Conversion(48_000, 44_100).told(path, basis).inspection
                for quantity in ("sample_peak_dbfs", "noise_floor_dbfs"):
                    was, now = basis.inspection.value(quantity), told.value(quantity)
                    self.assertEqual(was is None, now is None)
                    self.assertAlmostEqual(was or 0.0, now or 0.0, delta=0.01)

    def test_far_rates_and_limits_on_the_very_samples_are_run(self):
        retail = builtin.shipped()["audiobook-retail"]
        counted = retail.model_copy(update={"limits": (*retail.limits, Limit(quantity="clipped_runs", high=0))})
        for was, rate, specification, near in (
            (48_000, 44_100, retail, True),
            (22_050, 44_100, retail, True),
            (96_000, 44_100, retail, False),
            (44_100, 32_000, retail, False),
            (48_000, 44_100, counted, False),
        ):
            wave = np.zeros((was, 1))
            prepared = Treatment(steps=(Step(kind="sample-rate", settings={"sample_rate_hz": rate}),))
            found = converting.told(measured(wave, 1, was).inspection, prepared, specification)
            self.assertEqual(found, Conversion(was, rate) if near else None)
        more = Treatment(steps=(*prepared.steps, Step(kind="gain", settings={"gain_db": 1})))
        self.assertIsNone(converting.told(measured(wave, 1, was).inspection, more, retail))
        self.assertIsNone(converting.told(measured(wave, 1, was).inspection, Treatment(), retail))


class Planned(unittest.TestCase):
    """Plans run nothing to bring a wave to another number of channels or a near rate, and what they foretell comes."""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def written(self, name: str, *, channels: int = 1, suffix: str = "wav", form: str | None = "PCM_24") -> Path:
        wave, rate = recordings.recordings()[name]()
        path = self.folder / f"in.{suffix}"
        soundfile.write(path, np.repeat(wave[:, :1], channels, axis=1), rate, subtype=form)
        return path

    def runs(self, path: Path, specification: str, container: str = "wav") -> tuple[list[tuple[str, ...]], dict]:
        """The kinds of steps that were run to plan, each time, and the plans."""
        ran, run = [], runner.run

        def counted(source, treatment, **how):
            ran.append(tuple(step.kind for step in treatment.steps))
            return run(source, treatment, **how)

        with mock.patch.object(proposing.runner, "run", counted):
            plans = proposed(path, builtin.shipped()[specification], form=OutputFormat(container=container))
        return ran, dict(plans)

    def test_one_wave_comes_to_be_on_two_loudspeakers_and_back(self):
        cases = (("plover, pink -75, at -27", 1, "podcast-stereo", 2), ("caller, shouts", 2, "podcast-mono", 1))
        for name, have, wanted, channels in cases:
            path = self.written(name, channels=have)
            ran, plans = self.runs(path, wanted)
            done = conform(path, builtin.shipped()[wanted], self.folder / "out.wav", preference="light")
            with self.subTest(name=name):
                self.assertEqual(ran, [])
                self.assertEqual(plans["light"].treatment.steps[0].settings["channels"], channels)
                self.assertTrue(done.passes, done.obstacles)
                self.assertEqual((done.rounds, done.after.facts.channels), (1, channels))
                self.assertEqual(done.treatment.steps[0].kind, "channels")
                for quantity, value in plans["light"].predicted.items():
                    self.assertAlmostEqual(done.after.value(quantity), value, delta=0.2, msg=quantity)

    def test_a_recording_at_another_rate_is_planned_as_it_will_be(self):
        retail = builtin.shipped()["audiobook-retail"]
        for name, number in (("plover, hum and hiss -51, at -33", 1), ("caller, shouts", 2)):
            wave, rate = recordings.recordings()[name]()
            path, out = self.folder / "in.wav", self.folder / "out.mp3"
            at_48 = soxr.resample(np.repeat(wave[:, :1], number, axis=1), rate, 48_000, quality="VHQ")
            soundfile.write(path, at_48, 48_000, subtype="PCM_24")
            ran, plans = self.runs(path, "audiobook-retail", "mp3")
            done = conform(path, retail, out, preference="light")
            with self.subTest(name=name):
                self.assertNotIn(("sample-rate",), ran)
                self.assertTrue(done.passes, done.obstacles)
                self.assertEqual((done.rounds, done.after.facts.sample_rate_hz), (1, 44_100))
                self.assertEqual(done.treatment.steps[0].kind, "sample-rate")
                for quantity, value in plans["light"].predicted.items():
                    self.assertAlmostEqual(done.after.value(quantity), value, delta=0.3, msg=quantity)

    def test_cleaning_is_tried_on_as_many_channels_as_there_will_be(self):
        path = self.written("plover, hum and hiss -51, at -33")
        spec = builtin.shipped()["audiobook-retail"]
        two = next(limit for limit in builtin.shipped()["podcast-stereo"].limits if limit.quantity == "channels")
        wanted = spec.model_copy(update={"limits": (*(each for each in spec.limits if each.quantity != "channels"), two)})
        done = conform(path, wanted, self.folder / "out.wav")
        self.assertTrue(done.passes, done.obstacles)
        kinds = [step.kind for step in done.treatment.steps]
        self.assertEqual(kinds[:2], ["channels", "hum-filter"])
        self.assertEqual(done.rounds, 1)

    def test_what_is_decoded_is_decoded_as_it_is(self):
        path = self.written("plover, pink -75, at -27", suffix="mp3", form=None)
        ran, plans = self.runs(path, "podcast-stereo")
        self.assertEqual(ran, [()])
        self.assertEqual(plans["light"].treatment.steps[0].kind, "channels")

    def test_nothing_on_two_loudspeakers_is_refused_in_a_sentence(self):
        for name in ("silence", "one sample"):
            wave, rate = recordings.hopeless()[name]
            path = self.folder / "in.wav"
            soundfile.write(path, wave, rate, subtype="PCM_24")
            ran, plans = self.runs(path, "podcast-stereo")
            with self.subTest(name=name):
                self.assertEqual(ran, [])
                self.assertTrue(all(plan.obstacles and plan.obstacles[0].advice for plan in plans.values()))

    def test_channels_that_are_not_alike_are_mixed_to_be_known(self):
        wave, rate = recordings.recordings()["stereo pair"]()
        path = self.folder / "in.wav"
        soundfile.write(path, wave, rate, subtype="PCM_24")
        self.assertEqual(self.runs(path, "podcast-mono")[0], [("channels",)])
