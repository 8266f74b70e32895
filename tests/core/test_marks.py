"""Claps, a clicker and the tongue at mistakes, and what else is heard between words. A sample; whole: `./run bench --marks`."""

import unittest

import numpy as np

from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.inspection import Inspection
from tests import corpus, misread, speakers
from tests.misread import Marks, Reading


def found(wave: np.ndarray, rate: int) -> Inspection:
    return measure_array(wave.astype(np.float32), sample_rate_hz=rate).inspection


def kinds(inspection: Inspection, *kind: str) -> list[tuple[str, float]]:
    return [(each.kind, each.start_s) for each in inspection.findings if each.kind in kind]


class RecallAndPrecision(unittest.TestCase):
    def counted(self, names: tuple[str, ...], seeds: tuple[int, ...]) -> Marks:
        return misread.marks_of(
            misread.marked(name, rate=rate, seed=seed + case, room_dbfs=-55.0 - 5 * (seed % 4))
            for case, name in enumerate(names)
            for seed, rate in zip(seeds, corpus.rates(case), strict=False)
        )

    def held(self, total: Marks) -> None:
        self.assertGreaterEqual(total.made, 30)
        self.assertGreaterEqual(total.found / total.made, 0.95, total)
        self.assertGreaterEqual((total.found) / (total.found + total.false), 0.95, total)

    def test_whoever_speaks_they_are_found_and_nothing_else_is(self):
        self.held(self.counted(speakers.NAMES, tuple(range(1, 9))))

    def test_of_the_real_speaker_alone(self):
        self.held(self.counted((speakers.REAL,) * 4, (11, 13)))


class OneMark(unittest.TestCase):
    RATE = 44_100

    def reading(self, kind: str = "clap", *, peak_dbfs: float = -4.0, seed: int = 1) -> Reading:
        recorder = misread.Recorder(self.RATE, seed=seed)
        for n in range(4):
            recorder.say(speakers.phrases("heron", self.RATE)[n])
            recorder.pause(0.5)
            if n == 1:
                recorder.mark(kind, peak_dbfs=peak_dbfs)
                recorder.pause(0.5)
        return recorder.done()

    def test_it_is_told_with_where_it_is_how_loud_and_of_how_many_bursts(self):
        reading = self.reading("clap")
        [mark] = [each for each in misread.inspected(reading).findings if each.kind == "mark"]
        [(start, end)] = reading.marks
        self.assertAlmostEqual(mark.start_s, start, delta=0.004)
        self.assertLess(mark.end_s, end)
        self.assertIn(mark.count, (2, 3))
        self.assertTrue(-25 < mark.measure < -4, mark)

    def test_no_gain_changes_what_is_found(self):
        for kind in misread.KINDS:
            reading = self.reading(kind, seed=3)
            marks = [kinds(misread.inspected(reading, gain_db=gain), "mark") for gain in (0, -12, -30)]
            self.assertEqual(len(marks[0]), 1, kind)
            self.assertEqual(marks[0], marks[1])
            self.assertEqual(marks[0], marks[2])

    def test_in_one_channel_or_both_or_the_other_way_round(self):
        wave = self.reading().wave
        alone = kinds(found(wave[:, None], self.RATE), "mark")
        words = self.reading().wave.copy()
        [(start, end)] = self.reading().marks
        words[round(start * self.RATE) : round(end * self.RATE)] = 0.0
        for pair in ((wave, wave), (wave, -wave), (wave, words), (words, wave)):
            self.assertEqual(kinds(found(np.stack(pair, axis=1), self.RATE), "mark"), alone)

    def test_its_bursts_are_no_clicks_and_no_noises_of_the_mouth(self):
        for seed in range(1, 7):
            for kind in misread.KINDS:
                reading = self.reading(kind, seed=seed)
                [(start, end)] = reading.marks
                others = kinds(misread.inspected(reading), "click", "mouth-noise", "noise-in-pause")
                self.assertEqual([one for one in others if start < one[1] < end], [], (kind, seed))

    def test_where_nobody_speaks_there_is_none(self):
        for wave in (
            np.zeros((8 * self.RATE, 1)),
            1e-4 * np.random.default_rng(1).standard_normal((8 * self.RATE, 1)),
            np.zeros((3, 1)),
        ):
            self.assertEqual(kinds(found(wave, self.RATE), "mark"), [])

    def test_at_the_edge_of_what_is_looked_at_at_once(self):
        """Whole seconds are fed four at a time: a burst on their border is found like any other."""
        reading = self.reading()
        [(start, _)] = reading.marks
        for moved_s in (-0.05, -0.01, 0.0, 0.01, 0.02, 0.06):
            wave = np.concatenate((np.zeros(round((12 - start + moved_s) * self.RATE)), reading.wave))
            wave += 1e-4 * np.random.default_rng(2).standard_normal(wave.size)
            [(_, at)] = kinds(found(wave[:, None], self.RATE), "mark")
            self.assertAlmostEqual(at, 12 + moved_s, delta=0.004)


class WhatIsNone(unittest.TestCase):
    def test_no_words_are(self):
        for name in speakers.NAMES:
            where = speakers.laid(name, rate=44_100, seconds=40)
            wave = where.over(speakers.room(where.wave.size, rate=44_100, dbfs=-62)).wave
            wave = wave + speakers.breaths(where, seconds=0.4, dbfs=-40)
            self.assertEqual(kinds(found(wave[:, None], 44_100), "mark"), [], name)

    def test_neither_is_what_keeps_time_or_goes_on(self):
        for apart_s, count in ((0.5, 400), (0.12, 60)):
            recorder = misread.Recorder(44_100, seed=5)
            for n in range(3):
                recorder.say(speakers.phrases("wren", 44_100)[n])
                recorder.pause(0.6)
            piece = misread.burst("clicker", rate=44_100, peak=0.3, random=recorder.random)[: round(apart_s * 44_100)]
            recorder.say(np.tile(np.append(piece, np.zeros(round(apart_s * 44_100) - piece.size)), count))
            self.assertEqual(kinds(misread.inspected(recorder.done()), "mark"), [], apart_s)

    def test_neither_is_anything_that_is_heard_once_or_is_dull_or_soft(self):
        for kind in misread.OTHERS:
            recorder = misread.Recorder(48_000, seed=5)
            for n in range(8):
                recorder.say(speakers.phrases("wren", 48_000)[n])
                recorder.pause(0.6)
                recorder.other(kind)
                recorder.pause(0.5)
            self.assertEqual(kinds(misread.inspected(recorder.done()), "mark"), [], kind)


if __name__ == "__main__":
    unittest.main()
