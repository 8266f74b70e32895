"""Sound under the voice, held against plain references: lowering, loops, rates, fades, levels, the mix and its reasons."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import pyebur128
import soundfile
import soxr

from ispettore.core.audio.reading import read_all
from ispettore.core.bed import ducking, line, looping
from ispettore.core.bed.ducking import Ducking
from ispettore.core.bed.line import Part
from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan import bedded
from ispettore.core.plan.bedded import Laid
from ispettore.core.plan.conform import conform
from ispettore.core.plan.proposing import proposed
from ispettore.core.plan.rehearsing import foretold
from ispettore.core.spec.builtin import shipped
from ispettore.core.treat import order, runner
from ispettore.core.treat.bed import Bed, BedSoundMissing, Clip
from ispettore.core.treat.rehearsal import Rehearsal
from ispettore.core.treat.treatment import STEPS, Step, Treatment
from ispettore.demo import bed as demo_bed
from ispettore.demo.faults import RATE_HZ
from tests import signals

VOICE_RATE = 48_000
SLOW = Ducking(lower_db=10, threshold_db=-20, attack_s=0.2, hold_s=0.3, release_s=0.5)


def of(wave: np.ndarray):
    return lambda start, frames: wave[start : start + frames]


def loudness(wave: np.ndarray, rate: int) -> float:
    """By another maker's meter."""
    state = pyebur128.R128State(wave.shape[1], rate, pyebur128.MeasurementMode.MODE_I)
    state.add_frames(np.ascontiguousarray(wave, dtype=np.float32).ravel(), len(wave))
    return pyebur128.get_loudness_global(state)


class Lowering(unittest.TestCase):
    def cells(self, *words: tuple[float, float], seconds: float = 6.0) -> np.ndarray:
        power = np.full(round(seconds * 200), 1e-9)
        for start, end in words:
            power[round(start * 200) : round(end * 200)] = 0.01
        return power

    def test_it_is_down_when_the_word_begins_and_stays_down_for_the_hold(self):
        gain = ducking.gain_db(self.cells((2.0, 3.0)), -20.0, SLOW)
        self.assertTrue(np.all(gain[397 : round(3.3 * 200)] == np.float32(-10)), "down 15 ms before the word")
        self.assertTrue(np.all(gain[: round(1.7 * 200)] == 0))
        self.assertTrue(np.all(gain[round(3.9 * 200) :] == 0))
        rising = np.diff(gain[round(3.35 * 200) : round(3.85 * 200)])
        self.assertTrue(np.all(rising >= 0) and rising.max() < 0.2, "no step is larger than a fade's")

    def test_each_cell_agrees_with_a_plain_search(self):
        random = np.random.default_rng(4)
        power = np.repeat(random.choice([1e-8, 1e-8, 8e-6, 0.004, 0.02], 60), 20).astype(np.float64)
        gain = ducking.gain_db(power, -20.0, SLOW)
        smoothed = np.array([power[max(at - 5, 0) : at + 5].mean() for at in range(power.size)])
        above = np.flatnonzero(smoothed > 10 ** (-40 / 10))
        held = {cell + by for cell in above for by in range(61) if cell + by < power.size}
        for cell in above:
            for before in range(cell - 1, max(cell - 61, -1), -1):
                if smoothed[before] <= 10 ** (-64 / 10):
                    break
                held.add(before)
        expected = []
        for at in range(power.size):
            ahead = min((cell - at for cell in held if cell >= at), default=10**6)
            behind = min((at - cell for cell in held if cell <= at), default=10**6)
            slope = [0.5 + 0.5 * np.cos(np.pi * min(one / over, 1)) for one, over in ((ahead, 40), (behind, 100))]
            expected.append(-10 * max(slope))
        np.testing.assert_allclose(gain, expected, atol=1e-4)

    def test_a_word_that_sets_in_softly_finds_it_down(self):
        power = self.cells((2.0, 3.0))
        power[380:400] = 0.01 * 10 ** (-30 / 10)  # a tenth of a second, 30 dB lower: an f before the vowel
        gain = ducking.gain_db(power, -20.0, SLOW)
        self.assertTrue(np.all(gain[382:400] == np.float32(-10)))
        power[200:400] = power[390]  # a hum as loud as that all the way: it goes down no earlier for it
        self.assertTrue(np.all(ducking.gain_db(power, -20.0, SLOW)[: 400 - 60 - 40 - 10] == 0))

    def test_short_pauses_turn_round_on_the_way_and_silence_lowers_nothing(self):
        gain = ducking.gain_db(self.cells((1.0, 2.0), (2.7, 3.5)), -20.0, SLOW)
        between = gain[400:540]
        self.assertGreater(between.max(), -10)
        self.assertLess(between.max(), -0.5)
        self.assertFalse(ducking.gain_db(self.cells(), None, SLOW).any())
        self.assertFalse(ducking.gain_db(self.cells(), -20.0, SLOW).any())
        self.assertEqual(ducking.gain_db(np.zeros(0), -20.0, SLOW).size, 0)


class Lines(unittest.TestCase):
    def test_another_rate_is_the_same_however_it_is_asked(self):
        wave = np.random.default_rng(1).standard_normal((3 * 44_100, 2)).astype(np.float32) * 0.1
        padded = np.pad(wave, ((44_100, 0), (0, 0)))
        whole = soxr.resample(padded, 44_100, 48_000, quality="VHQ")[48_000:]
        for size in (480, 7_001, 100_000):
            read = line.at_rate(of(wave), 44_100, 48_000)
            pieces = [read(start, min(size, len(whole) - start)) for start in range(0, len(whole), size)]
            np.testing.assert_allclose(np.concatenate(pieces), whole, atol=2e-7)
        self.assertEqual(line.at_rate(of(wave), 44_100, 44_100)(5, 7).tolist(), wave[5:12].tolist())

    def test_a_loop_of_a_tone_has_no_seam(self):
        rate, pitch = 48_000, 220.0
        wave = (0.3 * np.sin(2 * np.pi * pitch * np.arange(5 * rate) / rate)).astype(np.float32)[:, None]
        first, last = rate, 3 * rate + 131  # off the beat of the tone
        loop = looping.found(of(wave), first, last, sample_rate_hz=rate)
        self.assertLessEqual(last - first - loop.fade - loop.period, round(looping.SEARCH_S * rate))
        turns = loop.period * pitch / rate
        self.assertAlmostEqual(turns, round(turns), delta=0.01)
        read = looping.looped(of(wave), loop)
        heard = np.concatenate([read(start, 4_099) for start in range(0, 12 * rate, 4_099)])[: 12 * rate, 0]
        second = np.diff(heard, 2)
        self.assertLess(np.abs(second).max(), 1.05 * 0.3 * (2 * np.pi * pitch / rate) ** 2)
        cut = np.tile(wave[first:last, 0], 4)
        self.assertGreater(np.abs(np.diff(cut, 2)).max(), 10 * np.abs(second).max(), "cut where it was asked it clicks")

    def test_a_loop_is_the_best_of_a_plain_search_and_keeps_its_power(self):
        rate = 8_000
        wave = np.random.default_rng(9).standard_normal((4 * rate, 1))
        wave = np.asarray(np.cumsum(wave - wave.mean(), axis=0) * 0.01, dtype=np.float32)
        wave -= wave.mean()
        loop = looping.found(of(wave), 800, 20_000, sample_rate_hz=rate)
        begins = wave[800 : 800 + loop.fade, 0].astype(float)

        def alike(back: int) -> float:
            ends = wave[20_000 - back - loop.fade : 20_000 - back, 0].astype(float)
            return float(begins @ ends / np.sqrt((begins @ begins) * (ends @ ends)))

        best = max(range(321), key=lambda back: (round(alike(back), 6), -back))
        self.assertEqual(20_000 - 800 - loop.fade - loop.period, best)
        noise = np.random.default_rng(2).standard_normal((4 * rate, 1)).astype(np.float32)
        noisy = looping.found(of(noise), 0, 2 * rate, sample_rate_hz=rate)
        read = looping.looped(of(noise), noisy)
        joins = np.concatenate([read(turn * noisy.period, noisy.fade) for turn in range(1, 2)])
        self.assertAlmostEqual(float(np.sqrt(np.mean(joins**2))), 1.0, delta=0.12)

    def test_two_that_cross_keep_their_power_and_parts_stand_where_they_are_put(self):
        random = np.random.default_rng(3)
        first, second = (random.standard_normal((48_000, 1)).astype(np.float32) for _ in range(2))
        parts = [Part(of(first), 0, 48_000, 0.5, fade_out=24_000), Part(of(second), 24_000, 48_000, 0.5, fade_in=24_000)]
        heard = line.together(parts, 0, 80_000, channels=1)[:, 0]
        self.assertAlmostEqual(float(np.sqrt(np.mean(heard[24_000:48_000] ** 2))), 0.5, delta=0.01)
        self.assertFalse(heard[72_000:].any())
        np.testing.assert_array_equal(line.together(parts, 30_000, 500, channels=1)[:, 0], heard[30_000:30_500])

    def test_channels(self):
        two = np.array([[1.0, 3.0], [2.0, 4.0]], dtype=np.float32)
        self.assertEqual(line.as_channels(of(two), 1)(0, 2).tolist(), [[2.0], [3.0]])
        self.assertEqual(line.as_channels(of(two[:, :1]), 2)(0, 2).tolist(), [[1.0, 1.0], [2.0, 2.0]])
        self.assertEqual(line.as_channels(of(np.ones((1, 4), dtype=np.float32)), 2)(0, 1).tolist(), [[1.0, 1.0]])

    def test_where_a_clip_is_heard(self):
        clip = Clip(sound="a", out_s=10, at_s=5, loop=True)
        self.assertEqual(clip.heard_s(60), (5, 60))
        self.assertEqual(clip.model_copy(update={"until_s": 30.0}).heard_s(60), (5, 30))
        self.assertEqual(clip.heard_s(4), (5, 4), "it ends before it begins: nothing is heard")
        with self.assertRaises(ValueError):
            Clip(sound="a", in_s=3, out_s=3.05)


class BedCase(unittest.TestCase):
    """A voice, and a bed of chords at another rate and with two channels."""

    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.pad = demo_bed.harmonium(12.0)
        cls.music = cls.folder / "pad.flac"
        soundfile.write(cls.music, cls.pad, RATE_HZ, subtype="PCM_24")
        cls.voice = cls.spoken("voice.wav", seconds=30, rms_dbfs=-23)

    @classmethod
    def spoken(cls, name: str, *, seconds: float, rms_dbfs: float) -> Path:
        wave = signals.voice_like(seconds, rms_dbfs=rms_dbfs, rate=VOICE_RATE, room_dbfs=rms_dbfs - 45, head=2.0)
        return signals.write(cls.folder / name, wave, VOICE_RATE)

    def laid(self, *clips: Clip, **how) -> Laid:
        return Laid(Bed(clips=clips or (self.clip(),), **how), {"pad": self.music})

    def clip(self, **how) -> Clip:
        return Clip(**{"sound": "pad", "name": "pad.flac", "out_s": 11.5, "loop": True, **how})

    def run_over(self, path: Path, laid: Laid, *before: Step) -> runner.Run:
        target = Path(tempfile.mkdtemp(dir=self.folder))
        return runner.run(path, Treatment(steps=(*before, laid.step)), folder=target, sounds=laid.sounds, ledger=True)


class Mixing(BedCase):
    def test_the_mix_is_the_voice_and_the_bed_by_its_gain_to_the_sample(self):
        laid = self.laid(self.clip(loop=False, at_s=1.0, fade_in_s=0, fade_out_s=0, level_lu=-10), lower_db=9)
        run = self.run_over(self.voice, laid)
        voice, rate = read_all(self.voice)
        mixed, _ = read_all(run.path)
        self.assertEqual((len(mixed), run.channels), (len(voice), 1))
        pad = np.asarray(self.pad[: round(11.5 * RATE_HZ)].mean(axis=1, keepdims=True), dtype=np.float32)
        wanted = loudness(voice, rate) - 10 - loudness(pad, RATE_HZ)
        under = np.zeros_like(voice)
        turned = soxr.resample(np.pad(pad, ((RATE_HZ, RATE_HZ), (0, 0))), RATE_HZ, rate, quality="VHQ")[rate:]
        length = round(11.5 * rate)
        under[rate : rate + length] = turned[:length]
        cells = (np.arange(len(voice)) + 0.5) * 200 / rate - 0.5
        under *= 10 ** (np.interp(cells, np.arange(run.lowered_db.size), run.lowered_db) / 20)[:, None]
        heard = mixed - voice
        gain = float((heard * under).sum() / (under * under).sum())
        np.testing.assert_allclose(heard, gain * under, atol=2e-7)
        self.assertAlmostEqual(20 * np.log10(gain), wanted, delta=0.01, msg="by another maker's meter")
        self.assertEqual(float(run.lowered_db.min()), -9)
        self.assertEqual(run.reduction_db.size, 0, "the voice's own gain does not move")

    def test_its_loudness_against_the_voice_is_what_was_asked_for(self):
        for level in (-20.0, -6.0):
            run = self.run_over(self.voice, self.laid(self.clip(level_lu=level, fade_in_s=0, fade_out_s=0), lower_db=0))
            voice, rate = read_all(self.voice)
            mixed, _ = read_all(run.path)
            self.assertAlmostEqual(loudness(mixed - voice, rate) - loudness(voice, rate), level, delta=0.3)
            told = run.ledger[0].learned
            self.assertAlmostEqual(told["bed_lufs"], loudness(mixed - voice, rate), delta=0.1)
            self.assertAlmostEqual(told["voice_lufs"], loudness(voice, rate), delta=0.1)
            self.assertAlmostEqual(told["mix_lufs"], loudness(mixed, rate), delta=0.1)

    def test_several_sounds_lie_on_a_line_each_where_it_is_put(self):
        tone = signals.write(self.folder / "tone.wav", signals.sine(1_000, peak_dbfs=-20, seconds=4, rate=22_050), 22_050)
        plain = {"fade_in_s": 0.0, "fade_out_s": 0.0, "level_lu": -6.0}
        clips = (
            Clip(sound="tone", name="first", in_s=0.5, out_s=2.5, at_s=1.0, **plain),
            Clip(sound="tone", name="last", out_s=4.0, at_s=3.0, from_end=True, **plain),
            Clip(sound="pad", out_s=11.5, loop=True, at_s=10.0, until_s=15.0, **plain),
        )
        laid = Laid(Bed(clips=clips, lower_db=0), {"pad": self.music, "tone": tone})
        voice, rate = read_all(self.voice)
        under = (read_all(self.run_over(self.voice, laid).path)[0] - voice)[:, 0]
        heard = [bool(np.abs(under[round(at * rate) : round((at + 0.4) * rate)]).max() > 1e-3) for at in np.arange(0, 30, 0.5)]
        expected = [1 <= at < 3 or 10 <= at < 15 or at >= 27 for at in np.arange(0, 30, 0.5)]
        self.assertEqual(heard, expected)
        pitch = np.abs(np.fft.rfft(under[round(1.2 * rate) : round(2.2 * rate)]))
        self.assertEqual(int(pitch.argmax()), 1_000, "a second of it, so a bin is a hertz, at another rate than the file's")

    def test_a_stereo_voice_gets_both_sides(self):
        wave, rate = read_all(self.voice)
        path = signals.write(self.folder / "stereo.wav", np.repeat(wave[: 10 * rate], 2, axis=1), rate)
        mixed, _ = read_all(self.run_over(path, self.laid(lower_db=0)).path)
        sides = mixed[: 10 * rate] - np.repeat(wave[: 10 * rate], 2, axis=1)
        self.assertGreater(float(np.abs(sides[:, 0] - sides[:, 1]).max()), 1e-3)

    def test_a_mono_voice_stands_in_the_middle_of_a_bed_in_stereo(self):
        run = self.run_over(self.voice, self.laid(self.clip(level_lu=-6, fade_in_s=0, fade_out_s=0), lower_db=0, stereo=True))
        voice, rate = read_all(self.voice)
        mixed, _ = read_all(run.path)
        self.assertEqual(run.channels, 2)
        both = np.repeat(voice, 2, axis=1)
        under = mixed - both
        self.assertGreater(float(np.abs(under[:, 0] - under[:, 1]).max()), 1e-3)
        self.assertAlmostEqual(loudness(under, rate) - loudness(both, rate), -6, delta=0.3)
        self.assertAlmostEqual(run.ledger[0].learned["voice_lufs"], loudness(both, rate), delta=0.1)

    def test_what_can_not_be_heard_is_said(self):
        with self.assertRaises(BedSoundMissing) as caught:
            self.run_over(self.voice, Laid(self.laid().bed, {}))
        self.assertIn("“pad.flac”", caught.exception.sentence)
        late = self.run_over(self.voice, self.laid(self.clip(in_s=20.0, out_s=30.0)))
        self.assertIn("its file ends before 20 s", late.ledger[0].warnings[0])
        behind = self.run_over(self.voice, self.laid(self.clip(at_s=500.0)))
        voice, _ = read_all(self.voice)
        np.testing.assert_array_equal(read_all(behind.path)[0], voice)
        nobody = signals.write(self.folder / "nobody.wav", np.zeros(5 * VOICE_RATE), VOICE_RATE)
        self.assertIn("nobody speaks", self.run_over(nobody, self.laid()).ledger[0].warnings[0])

    def test_a_rehearsal_sounds_as_the_run(self):
        laid = self.laid(self.clip(level_lu=-8))
        steps = [Step(kind="rumble-filter"), laid.step, Step(kind="gain", settings={"gain_db": -2})]
        run = runner.run(
            self.voice, Treatment(steps=tuple(steps)), folder=Path(tempfile.mkdtemp(dir=self.folder)), sounds=laid.sounds
        )
        rehearsal = Rehearsal(self.voice, inspect(self.voice).inspection, name="voice", folder=self.folder)
        rehearsal.sounds.update(laid.sounds)
        start, frames = 5 * VOICE_RATE, 2 * VOICE_RATE
        heard = rehearsal.sound(steps, start, frames)
        np.testing.assert_allclose(heard, read_all(run.path)[0][start : start + frames], atol=1e-6)

    def test_in_a_part_of_a_long_recording_the_bed_is_where_it_is_in_the_whole(self):
        wave = np.tile(signals.voice_like(30, rms_dbfs=-23, rate=16_000, room_dbfs=-70), 10)
        path = signals.write(self.folder / "long.wav", wave, 16_000)
        bed = self.laid(self.clip(level_lu=-6), lower_db=0).bed.model_copy(update={"length_s": 300.0})
        laid = Laid(bed, {"pad": self.music})
        whole, _ = read_all(self.run_over(path, laid).path)
        rehearsal = Rehearsal(path, inspect(path).inspection, name="long", folder=self.folder)
        rehearsal.sounds.update(laid.sounds)
        heard = rehearsal.sound([laid.step], 200 * 16_000, 16_000)
        np.testing.assert_allclose(heard, whole[200 * 16_000 : 201 * 16_000], atol=2e-3)
        steps = [laid.step, Step(kind="gain", settings={"gain_db": 2.0})]
        told = foretold(rehearsal, inspect(path).basis, steps, shipped()["podcast-mono"])
        self.assertEqual([line.kind for line in told.lines], ["", "bed", "gain"])
        self.assertAlmostEqual(told.loudness_lufs, loudness(whole, 16_000) + 2.0, delta=0.3)


class Planned(BedCase):
    def conformed(self, voice: Path, specification: str, laid: Laid | None, **how):
        out = Path(tempfile.mkdtemp(dir=self.folder)) / "out.wav"
        return conform(voice, shipped()[specification], out, laid=laid, **how), out

    def test_the_mix_is_what_is_measured_limited_and_certified(self):
        made, out = self.conformed(self.voice, "podcast-mono", self.laid())
        self.assertTrue(made.passes)
        self.assertAlmostEqual(loudness(*read_all(out)), made.after.value("integrated_loudness_lufs"), delta=0.1)
        kinds = [step.kind for step in made.treatment.steps]
        self.assertLess(kinds.index("bed"), kinds.index("gain"))
        self.assertIsNotNone(made.mix.difference_lu)
        self.assertLess(made.mix.difference_lu, 0, "voice and bed together are louder than the voice")
        self.assertGreater(made.mix.difference_lu, -2)
        self.assertGreater(made.mix.above_bed_lu, 12, "12 LU and what it is lowered by")
        self.assertGreater(made.mix.lowered_s, 10)
        self.assertEqual(made.lowered_db.size, -(-30 * 200 // 1))
        alone, _ = self.conformed(self.voice, "podcast-mono", None)
        self.assertAlmostEqual(made.touch.touch, alone.touch.touch, delta=2.0, msg="the bed is no touch of the voice")

    def test_it_is_delivered_in_stereo_only_where_two_channels_may_be(self):
        wide = self.laid(stereo=True)
        made, _ = self.conformed(self.voice, "video-streaming", wide)
        self.assertTrue(made.passes, made.obstacles)
        self.assertEqual(made.after.facts.channels, 2)
        made, _ = self.conformed(self.voice, "podcast-mono", wide)
        self.assertTrue(made.passes)
        self.assertEqual(made.after.facts.channels, 1)
        self.assertNotIn("stereo", made.treatment.find("bed").settings)

    def test_a_plan_says_which_of_both_is_the_reason_for_limiting(self):
        quiet = self.laid(self.clip(level_lu=-30))
        [(_, plan), *_] = proposed(self.voice, shipped()["podcast-mono"], laid=quiet)
        alone = proposed(self.voice, shipped()["podcast-mono"])[0][1]
        self.assertEqual(plan.under.reason, "voice" if alone.treatment.find("true-peak-limiter") else "")
        peaky = np.array(self.pad)
        peaky[:: RATE_HZ // 2] = 1.0  # a tick of the bed at each half second, whatever the voice does
        soundfile.write(self.folder / "ticks.flac", np.clip(peaky, -1, 1), RATE_HZ, subtype="PCM_24")
        loud = Laid(Bed(clips=(self.clip(sound="ticks", level_lu=-3.0),), lower_db=0), {"ticks": self.folder / "ticks.flac"})
        soft = self.folder / "soft.wav"
        wave, rate = read_all(self.voice)
        signals.write(soft, np.tanh(2.5 * wave / np.abs(wave).max()) * 0.2, rate)
        [(_, plan), *_] = proposed(soft, shipped()["podcast-mono"], laid=loud)
        self.assertIsNotNone(plan.treatment.find("true-peak-limiter"))
        self.assertEqual(plan.under.reason, "bed", plan.under.said)
        self.assertIn("Turn the bed down", plan.under.said)

    def test_a_bed_in_the_pauses_is_the_reason_where_the_room_must_be_quiet(self):
        made, out = self.conformed(self.voice, "audiobook-retail", self.laid(self.clip(level_lu=-8), lower_db=3))
        self.assertFalse(made.passes)
        self.assertFalse(out.exists())
        self.assertEqual(made.under.reason, "bed", made.under.said)
        self.assertTrue(made.obstacles[0].advice.endswith(made.under.said), "told wherever it is told that nothing conforms")

    def test_steps_of_ones_own_are_finished_over_the_mix(self):
        own = Treatment(
            steps=(Step(kind="gain", settings={"gain_db": 4.0}), Step(kind="true-peak-limiter", settings={"ceiling_dbtp": -1.5}))
        )
        made, _ = self.conformed(self.voice, "podcast-mono", self.laid(), treatment=own)
        self.assertEqual([step.kind for step in made.treatment.steps], ["bed", "gain", "true-peak-limiter"])
        self.assertEqual(made.ledger[0].kind, "bed")

    def test_it_belongs_to_a_recording_and_to_no_treatment(self):
        self.assertIsNone(self.laid().bed.elsewhere())
        self.assertNotIn("bed", [kind for _, kinds in order.GROUPS for kind in kinds])
        self.assertEqual([kind for kind, step in STEPS.items() if step.adds_sound], ["bed"])
        self.assertIn("12.0 LU under the voice", bedded.told(self.laid().bed))
        self.assertEqual(bedded.told(Bed()), "Nothing is laid under the voice.")
