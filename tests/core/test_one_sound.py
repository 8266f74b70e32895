"""One sound for a production: recordings of one voice are brought together in level, room and tone, and every one meets its
limits."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from ispettore.core.measure import pitch, voice_tone
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.meters import Measured
from ispettore.core.plan import one_sound
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.conform import conform
from ispettore.core.plan.one_sound import ROOM, SPEECH, Likeness
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import catalogue
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.treat import keeping, tone_match
from ispettore.core.treat.tone_match import ToneMatch
from tests import signals, speakers
from tests.treating import measured, treated

RATE = 44_100
RETAIL = catalogue.find("audiobook-retail")


def chapter(
    folder: Path, name: str, voice: str, *, level: float, room: float, pause_s: float = 0.8, tone: dict | None = None
) -> Path:
    """A voice at −20 dBFS over a room, both moved by `level` dB; `tone` are bands it was coloured by before."""
    laid = speakers.laid(voice, rate=RATE, pause_s=pause_s, seconds=18)
    wave = laid.wave
    if tone:
        wave, _ = treated(wave, ("tone", {"bands": [tone]}))
    wave = (wave + speakers.room(wave.size, rate=RATE, dbfs=room)) * 10 ** (level / 20)
    return signals.write(folder / name, wave, RATE)


class WholeProduction(unittest.TestCase):
    """Eight chapters by two voices, each with its own level, room, pauses and microphone."""

    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        bright = {"kind": "high-shelf", "frequency_hz": 3_000, "gain_db": 5}
        near = {"kind": "low-shelf", "frequency_hz": 220, "gain_db": 4}
        cls.chapters = [
            chapter(cls.folder, "1.wav", "wren", level=0, room=-66),
            chapter(cls.folder, "2.wav", "reed", level=-12, room=-64),
            chapter(cls.folder, "3.wav", "wren", level=3, room=-58, pause_s=1.6),
            chapter(cls.folder, "4.wav", "reed", level=-4, room=-67, tone=near),
            chapter(cls.folder, "5.wav", "wren", level=-9, room=-65, tone=bright),
            chapter(cls.folder, "6.wav", "reed", level=-1, room=-60, pause_s=0.4),
            chapter(cls.folder, "7.wav", "wren", level=-15, room=-67),
            chapter(cls.folder, "8.wav", "reed", level=1, room=-66),
        ]
        cls.known: list[Measured] = [inspect(path) for path in cls.chapters]
        cls.inspections = [one.inspection for one in cls.known]

    def conformed(self, treatment=None):
        steps = treatment.steps if treatment else ()
        matched = one_sound.matched(self.inspections, RETAIL, bounds=Bounds(), steps=steps)
        results, plans = [], []
        for path, known, each in zip(self.chapters, self.known, matched, strict=True):
            shaped = one_sound.shaped(treatment, each)
            asked = {"known": known.basis, "treatment": shaped, "likeness": each.likeness}
            plans.append(proposed(path, RETAIL, preferences=("balanced",), **asked)[0][1])
            results.append(conform(path, RETAIL, self.folder / f"{path.stem}.out.mp3", **asked))
        return matched, plans, results

    def together(self, results, matched) -> None:
        after = [result.after for result in results]
        levels, rooms = ([one.value(name) for one in after] for name in (SPEECH, ROOM))
        before = [one.value(SPEECH) for one in self.inspections]
        self.assertGreater(max(before) - min(before), 15)
        self.assertLess(max(levels) - min(levels), 1.0)
        self.assertLess(max(rooms) - min(rooms), 3.0)
        for voice in {each.voice for each in matched}:
            own = [place for place, each in enumerate(matched) if each.voice == voice]
            was, now = (self.furthest([inspections[place] for place in own]) for inspections in (self.inspections, after))
            self.assertLess(now, 0.6 * was, "their tones are nearer to one another than before")

    @staticmethod
    def furthest(inspections) -> float:
        tones = [voice_tone.of(one.spectrum) for one in inspections]
        return max(voice_tone.apart(one, other) for one in tones for other in tones)

    def test_every_chapter_passes_and_they_match_one_another(self):
        matched, plans, results = self.conformed()
        self.assertEqual([each.voice for each in matched], [1, 0, 1, 0, 1, 0, 1, 0])
        self.assertEqual([bool(each.voice_db) for each in matched], [False, False, False, True, True, False, False, False])
        for path, plan, result in zip(self.chapters, plans, results, strict=True):
            self.assertTrue(result.passes, (path.name, [one.advice for one in result.obstacles]))
            for quantity in (SPEECH, ROOM):
                self.assertAlmostEqual(result.after.value(quantity), plan.predicted[quantity], delta=0.6, msg=(path.name, quantity))
        self.together(results, matched)
        for each in matched:
            if each.voice_db:
                self.assertLess(each.tone_expected_db, 0.5 * each.tone_apart_db)

    def test_with_one_shape_of_treatment_for_all_as_well(self):
        matched, _, results = self.conformed(keeping.shipped()["quiet-room"])
        self.assertTrue(all(result.passes for result in results))
        self.together(results, matched)
        for result, each in zip(results, matched, strict=True):
            kinds = [step.kind for step in result.treatment.steps]
            self.assertIn("compressor", kinds)
            if each.voice_db:
                self.assertLess(kinds.index("reference-level"), kinds.index("tone-match"))
                self.assertLess(kinds.index("tone-match"), kinds.index("compressor"))

    def test_a_reference_recording_is_what_the_others_come_towards(self):
        matched = one_sound.matched(self.inspections, RETAIL, bounds=Bounds(), reference=4)
        self.assertFalse(matched[4].voice_db)
        self.assertEqual(matched[4].tone_apart_db, 0.0)
        aimed = np.array(matched[0].voice_db)
        self.assertLess(voice_tone.apart(aimed, voice_tone.of(self.inspections[4].spectrum)), 0.1)
        self.assertEqual([bool(each.voice_db) for each in matched if each.voice == 0], [False, True, False, False])
        untouched = one_sound.matched(self.inspections, RETAIL, bounds=Bounds(), tone=False)
        self.assertFalse(any(each.voice_db for each in untouched))


class Asked(unittest.TestCase):
    """What is asked of a recording beside its limits."""

    def test_a_likeness_only_ever_narrows_what_a_specification_asks(self):
        asked = one_sound.asked(RETAIL, Likeness(speech_dbfs=-20.0, room_dbfs=-64.0))
        speech, room = asked.limit(SPEECH), asked.limit(ROOM)
        self.assertEqual((speech.low, speech.high, room.high), (-20.4, -19.6, -64.0))
        self.assertEqual(len(asked.limits), len(RETAIL.limits) + 1)
        quieter = one_sound.asked(RETAIL, Likeness(room_dbfs=-50.0))
        self.assertEqual(quieter.limit(ROOM).high, RETAIL.limit(ROOM).high)
        narrow = Specification(id="narrow", name="Narrow", limits=(Limit(quantity=SPEECH, low=-30, high=-28),))
        self.assertEqual(one_sound.asked(narrow, Likeness(speech_dbfs=-20.0)).limits, narrow.limits)
        self.assertEqual(one_sound.asked(RETAIL, Likeness()), RETAIL)

    def test_what_can_not_be_had_is_given_up_step_by_step(self):
        both = Likeness(speech_dbfs=-20.0, room_dbfs=-70.0)
        self.assertEqual(list(one_sound.nearer(both, ())), [])
        short = Obstacle(limits=(SPEECH, ROOM), shortfall_db=4.0, advice="")
        found = list(one_sound.nearer(both, (short,)))
        self.assertEqual([one.room_dbfs for one in found], [-65.9, None, None])
        self.assertEqual([one.speech_dbfs for one in found], [-20.0, -20.0, None])

    def test_a_room_beyond_the_bounds_comes_as_near_as_they_allow_and_the_file_passes(self):
        with tempfile.TemporaryDirectory() as folder:
            path = chapter(Path(folder), "loud.wav", "wren", level=0, room=-54)
            out = Path(folder) / "out.flac"
            mild = Bounds(noise_reduction_db=9, pauses_db=9)
            result = conform(path, RETAIL, out, likeness=Likeness(speech_dbfs=-20.0, room_dbfs=-75.0), bounds=mild)
            self.assertTrue(result.passes, result.obstacles)
            room = result.after.value(ROOM)
            self.assertLess(room, -61.5, "nearer than the limit asks for")
            self.assertGreater(room, -75.0)
            self.assertAlmostEqual(result.after.value(SPEECH), -20.0, delta=0.5)

    def test_nobody_speaks(self):
        noise = measured(signals.noise(6, rms_dbfs=-50, rate=RATE)).inspection
        [each] = one_sound.matched([noise], RETAIL, bounds=Bounds())
        self.assertEqual((each.likeness, each.voice_db), (Likeness(), ()))


class Tone(unittest.TestCase):
    def test_it_brings_a_voice_to_its_tone_by_no_more_than_its_bound_and_moves_nothing_else(self):
        wave = speakers.laid("wren", rate=RATE, seconds=15).wave
        aimed = voice_tone.of(measured(wave).inspection.spectrum)
        other, _ = treated(wave, ("tone", {"bands": [{"kind": "high-shelf", "frequency_hz": 3_000, "gain_db": 4}]}))
        settings = {"voice_db": [round(float(level), 1) for level in aimed]}
        back, run = treated(other, ("tone-match", settings), ledger=True)
        self.assertEqual(len(back), len(other))
        was, now = (voice_tone.apart(voice_tone.of(measured(one).inspection.spectrum), aimed) for one in (other, back))
        self.assertGreater(was, 1.0)
        self.assertLess(now, 0.3)
        bands = run.ledger[0].learned["bands_db"]
        self.assertAlmostEqual(bands["5012"] - bands["501"], -4.0, delta=0.6)
        far = [level + (20.0 if hz > 2_000 else 0.0) for hz, level in zip(voice_tone.BANDS_HZ, settings["voice_db"], strict=True)]
        curve = tone_match.curve(ToneMatch(voice_db=far), aimed)
        self.assertLessEqual(np.abs(curve).max(), 6.0)
        self.assertFalse(tone_match.curve(ToneMatch(), aimed).any())
        same, _ = treated(wave, ("tone-match", {}))
        self.assertLess(np.abs(same - wave).max(), 1e-6)

    def test_the_filter_is_as_it_is_drawn(self):
        curve = np.linspace(-6, 6, len(voice_tone.BANDS_HZ))
        for rate in (22_050, 44_100, 96_000):
            taps = tone_match.taps(curve, sample_rate_hz=rate)
            self.assertTrue(np.allclose(taps, taps[::-1]))
            size = 1 << 17
            response = 20 * np.log10(np.abs(np.fft.rfft(taps, size)))
            at = np.interp(voice_tone.BANDS_HZ, np.fft.rfftfreq(size, 1 / rate), response)
            self.assertLess(np.abs(at - curve)[1:].max(), 0.2)


class Voices(unittest.TestCase):
    def test_pitches_are_those_of_each_stretch_alone(self):
        def alone(wave, rate_hz):
            wave = wave - wave.mean()
            least, most = int(rate_hz / pitch.HIGHEST_HZ), int(np.ceil(rate_hz / pitch.LOWEST_HZ))
            lags = np.arange(least - 1, most + 2)
            energy = np.concatenate(([0.0], np.cumsum(wave**2)))
            alike = np.array([wave[:-lag] @ wave[lag:] / np.sqrt(energy[-1 - lag] * (energy[-1] - energy[lag])) for lag in lags])
            peaks = np.flatnonzero((alike[1:-1] >= alike[:-2]) & (alike[1:-1] > alike[2:])) + 1
            if not peaks.size or alike[peaks].max() < pitch.ALIKE:
                return None
            best = peaks[alike[peaks] > 0.92 * alike[peaks].max()][0]
            before, at, after = alike[best - 1 : best + 2]
            return rate_hz / (lags[best] + 0.5 * (before - after) / (before - 2 * at + after))

        rng, rate = np.random.default_rng(4), 1_000.0
        at = np.arange(80) / rate
        waves = np.array([np.sin(2 * np.pi * hz * at) + 0.4 * rng.standard_normal(80) for hz in np.linspace(70, 320, 40)])
        found = pitch.pitches(waves, rate_hz=rate)
        for wave, hz in zip(waves, found, strict=True):
            expected = alone(wave, rate)
            self.assertEqual(np.isnan(hz), expected is None)
            if expected is not None:
                self.assertAlmostEqual(hz, expected, delta=1e-6 * expected)
        self.assertTrue(np.isnan(pitch.pitches(np.zeros((2, 80)), rate_hz=rate)).all())

    def test_readers_are_told_apart_and_one_reader_in_two_rooms_is_one(self):
        heard = []
        for name, room in (("wren", -70), ("reed", -70), ("wren", -50), ("reed", -55)):
            wave = speakers.laid(name, rate=RATE, seconds=12).wave
            heard.append(measured(wave + speakers.room(wave.size, rate=RATE, dbfs=room)).inspection.spectrum.fundamental_hz)
        self.assertEqual(voice_tone.voices(heard), [1, 0, 1, 0])


if __name__ == "__main__":
    unittest.main()
