"""Misread words and the same words read again, matched by their sound. A sample; whole: `./run bench --marks`."""

import unittest

import numpy as np

from ispettore.core.edit import making
from ispettore.core.measure import repeats
from ispettore.core.measure.inspecting import measure_array
from tests import corpus, misread, signals, speakers
from tests.misread import Mistakes

RATE = 44_100


def counted(names: tuple[str, ...], *, with_marks: bool) -> Mistakes:
    readings = (
        misread.misread(misread.lines_of(name, rate), rate=rate, seed=seed, with_marks=with_marks)
        for case, name in enumerate(names)
        for seed, rate in enumerate(corpus.rates(case), 1 + case)
    )
    return misread.summed(readings, marked=with_marks)


class Behind(unittest.TestCase):
    """Behind a mark."""

    def test_words_read_again_are_found_from_where_they_were_begun(self):
        total = counted(misread.TWICE, with_marks=True)
        self.assertGreaterEqual(total.made, 40)
        self.assertGreaterEqual(total.right / total.made, 0.95, total)
        self.assertLessEqual(total.wrong + total.false, 0.03 * total.made, total)

    def test_the_real_speaker_has_six_words_and_most_of_his_lines_are_found(self):
        """All of his lines are made of the same six words, so that each resembles the others; the whole corpus is in the bench."""
        total = counted((speakers.REAL,) * 3, with_marks=True)
        self.assertGreaterEqual(total.made, 15)
        self.assertGreaterEqual(total.right / total.made, 0.8, total)

    def test_words_taken_up_in_the_midst_of_a_line_are_found_more_often_than_not(self):
        readings = (misread.midway(misread.spoken_twice(name, RATE), rate=RATE, seed=1) for name in misread.TWICE)
        total = misread.summed(readings, marked=True, near_s=0.2)
        self.assertGreaterEqual(total.right / total.made, 0.7, total)
        self.assertLessEqual(total.wrong + total.false, 0.07 * total.made, total)

    def test_a_mark_that_nothing_is_read_again_behind_proposes_nothing(self):
        for name in misread.TWICE:
            recorder = misread.Recorder(RATE, seed=2)
            for n, phrase in enumerate(speakers.phrases(name, RATE)):
                recorder.say(phrase)
                recorder.pause(0.6)
                if n % 3 == 1:
                    recorder.mark("clap", peak_dbfs=-6)
                    recorder.pause(0.5)
            seen = misread.inspected(recorder.done())
            self.assertEqual(len([each for each in seen.findings if each.kind == "mark"]), 3)
            self.assertEqual(seen.repeats, [], name)

    def test_after_two_failures_each_mark_has_its_own_cut(self):
        recorder = misread.Recorder(RATE, seed=4)
        lines = misread.spoken_twice("sluice", RATE)
        recorder.say(lines[0][0])
        recorder.pause(0.6)
        begun = []
        for n, share in enumerate((0.5, 0.8)):
            begun.append(recorder.now_s)
            wave = misread.again(lines[1][n], rate=RATE, seed=n)
            recorder.say(misread.broken_off(wave, rate=RATE, share=share, random=recorder.random))
            recorder.pause(0.5)
            recorder.mark("tongue", peak_dbfs=-8)
            recorder.pause(0.5)
        begun.append(recorder.now_s)
        recorder.say(lines[1][1])
        first, second = misread.inspected(recorder.done()).repeats
        for told, start, end in ((first, *begun[:2]), (second, *begun[1:])):
            self.assertAlmostEqual(told.begun_s, start, delta=0.05)
            self.assertAlmostEqual(told.again_s, end, delta=0.05)
        self.assertLessEqual(first.end_s, second.start_s)

    def test_no_gain_changes_what_is_proposed(self):
        reading = misread.misread(misread.spoken_twice("plover", RATE), rate=RATE, seed=6, rounds=1)
        loud, soft = (misread.inspected(reading, gain_db=gain) for gain in (0, -24))
        self.assertEqual(len(loud.repeats), len(reading.mistakes))
        for one, other in zip(loud.repeats, soft.repeats, strict=True):
            self.assertAlmostEqual(one.start_s, other.start_s, delta=0.01)
            self.assertAlmostEqual(one.end_s, other.end_s, delta=0.01)


class Cut(unittest.TestCase):
    def test_what_is_left_is_the_reading_as_it_was_meant_joined_in_its_room(self):
        reading = misread.misread(misread.spoken_twice("reed", RATE), rate=RATE, seed=3, rounds=1)
        proposed = misread.inspected(reading).repeats
        self.assertEqual(len(proposed), len(reading.mistakes))
        before = making.unedited(sample_rate_hz=RATE, frames=reading.wave.size, room=[(0.1, 0.7)])
        edits = making.cuts(before, [(one.start_s, one.end_s) for one in proposed], file="read.wav")
        left = np.delete(reading.wave, np.concatenate([np.arange(edit.start, edit.end) for edit in edits.edits]))
        seen = measure_array(left[:, None].astype(np.float32), sample_rate_hz=RATE).inspection
        self.assertEqual(seen.repeats, [])
        self.assertEqual([each for each in seen.findings if each.kind == "mark"], [])
        for one in proposed:
            for at in (one.start_s, one.end_s):
                around = reading.wave[round((at - 0.05) * RATE) : round((at + 0.05) * RATE)]
                self.assertLess(20 * np.log10(np.sqrt(np.mean(around**2))), -60)


class Unmarked(unittest.TestCase):
    def test_what_is_read_again_at_once_is_suggested(self):
        total = counted(misread.TWICE, with_marks=False)
        self.assertGreaterEqual(total.made, 40)
        self.assertGreaterEqual(total.right / total.made, 0.85, total)
        self.assertLessEqual(total.wrong + total.false, 0.03 * total.made, total)

    def test_lines_that_are_read_once_are_not(self):
        for name in speakers.NAMES:
            if name == speakers.REAL:  # whose every line begins like another
                continue
            recorder = misread.Recorder(RATE, seed=2)
            for phrase in speakers.phrases(name, RATE):
                recorder.say(phrase)
                recorder.pause(0.5)
            self.assertEqual(misread.inspected(recorder.done()).repeats, [], name)

    def test_a_sound_that_stays_the_same_holds_no_words(self):
        for seed in (2, 3):
            wave = signals.voice_like(20, rms_dbfs=-24, rate=RATE, seed=seed)
            self.assertEqual(measure_array(wave[:, None].astype(np.float32), sample_rate_hz=RATE).inspection.repeats, [])

    def test_they_are_findings_that_can_be_accepted(self):
        reading = misread.misread(misread.spoken_twice("heron", RATE), rate=RATE, seed=3, rounds=1, with_marks=False)
        seen = misread.inspected(reading)
        told = [(each.start_s, each.end_s) for each in seen.findings if each.kind == "repeated-words"]
        self.assertEqual(told, [(one.begun_s, one.again_s) for one in seen.repeats])
        self.assertTrue(told)


class Paths(unittest.TestCase):
    """The kernel against every path in plain Python."""

    def plainly(self, on: np.ndarray, back: np.ndarray, rest: np.ndarray, start: int, alike: float) -> float:
        best = -99.0
        known = {}

        def gain(i: int, j: int) -> float:
            return max(1 - float(np.linalg.norm(on[i] - back[j])) / alike, -1.0)

        for i in range(len(on)):
            for j in range(start, len(back)):
                ways = [0.0] if (i, j) == (0, start) else []
                for place, cost in (((i - 1, j - 1), 0.0), ((i - 1, j), repeats.WAITING), ((i, j - 1), repeats.WAITING)):
                    if place in known and known[place] > repeats.LOST:
                        ways.append(known[place] - cost)
                if ways and max(ways) > repeats.LOST:
                    known[i, j] = max(ways) + gain(i, j)
                    if known[i, j] > repeats.LOST:
                        best = max(best, known[i, j] - rest[j])
        return best

    def test_the_best_path_from_each_start(self):
        random = np.random.default_rng(3)
        for _ in range(20):
            back = random.standard_normal((12, 4)).astype(np.float32)
            on = np.concatenate((back[4:9], random.standard_normal((4, 4)))).astype(np.float32)
            on += 0.1 * random.standard_normal(on.shape).astype(np.float32)
            rest = 0.2 * np.arange(11, -1, -1.0)
            spoken = np.ones(12, dtype=np.float32)
            for start in range(12):
                may = np.arange(12) == start
                score, _ = repeats._paths(on, back, spoken[: len(on)], spoken, may, rest, 2.0)
                self.assertAlmostEqual(score[start], self.plainly(on, back, rest, start, 2.0), places=4)


if __name__ == "__main__":
    unittest.main()
