"""Edits over a file: what is heard, where every moment went, and that nothing is guessed."""

import random
import tempfile
import unittest
from pathlib import Path

import numpy as np

from ispettore.core.audio.reading import Source, read_all
from ispettore.core.audio.writing import write_working
from ispettore.core.edit import chapters, making
from ispettore.core.edit.edits import FADE_S, Edit, Edits, Put
from ispettore.core.edit.making import NoRoomToneToEdit, PauseRule, PutInTooLong, SpanNotEditable
from ispettore.core.edit.reading import Edited, EditedSamples, EditedSource, open_samples
from ispettore.core.edit.timeline import Segment, Timeline
from ispettore.core.measure.inspecting import inspect

RATE = 8_000
FRAMES = 10 * RATE


TAKE = 10_000_000
"""In a list of frames: from here on they are those of a retake."""


def no_takes(sha256: str):
    raise AssertionError(sha256)


def plain() -> Edits:
    return making.unedited(sample_rate_hz=RATE, frames=FRAMES, room=[(0.0, 0.5), (9.0, 10.0)])


def at_random(seed: int) -> Edits:
    """Wishes one after another, anywhere."""
    chance, edits = random.Random(seed), plain()
    for _ in range(chance.randint(1, 12)):
        length = edits.length / RATE
        start = round(chance.uniform(0, length - 0.1), chance.choice((0, 1, 4)))
        end = min(start + round(chance.uniform(0.01, length / 3), chance.choice((1, 4))) + 0.01, length)
        try:
            match chance.randrange(3):
                case 0:
                    edits = making.cut(edits, start, end, file="x")
                case 1:
                    edits = making.replaced(edits, start, end, file="x")
                case _:
                    edits = making.lengthened(edits, start, end - start, file="x")
        except SpanNotEditable:
            continue
    return edits


class Written(unittest.TestCase):
    """Each wish as a list of what is heard, frame by frame: the number of the file's frame, or that it was put in."""

    def test_wishes_leave_what_a_list_of_frames_would_hold(self) -> None:
        for seed in range(120):
            chance, edits, heard = random.Random(seed), plain(), list(range(FRAMES))
            for _ in range(8):
                first = chance.randrange(len(heard))
                last = min(first + chance.choice((0, 1, 8, 800, 8_000, 20_000)) + 8, len(heard))
                # Often just where something was edited before.
                joins = Timeline(edits).joins
                first = chance.choice((first, *joins[:2])) if joins else first
                if not first + 8 <= last <= len(heard) or len(heard) - (last - first) < RATE:
                    continue
                match chance.randrange(4):
                    case 0:
                        edits, put = making.cut(edits, first / RATE, last / RATE, file="x"), []
                    case 3:
                        take = [Put(frames=30), Put(frames=400, take="t", start=50), Put(frames=9)]
                        edits = making.retaken(edits, first / RATE, last / RATE, take, file="x")
                        put = [-1] * 30 + list(range(TAKE + 50, TAKE + 450)) + [-1] * 9
                    case 1:
                        edits, put = making.replaced(edits, first / RATE, last / RATE, file="x"), [-1] * (last - first)
                    case _:
                        edits, put = making.lengthened(edits, first / RATE, 0.1, file="x"), [-1] * 800
                        last = first
                heard[first:last] = put
            with self.subTest(seed=seed):
                self.assertEqual(_heard(edits), _gathered(heard))
                self.assertEqual(edits.length, len(heard))

    def test_an_edit_taken_back_leaves_the_others(self) -> None:
        edits = making.cut(making.cut(plain(), 1, 2, file="x"), 4, 5, file="x")
        self.assertEqual(making.without(edits, [0]).edits, (Edit(start=5 * RATE, end=6 * RATE),))
        self.assertEqual(making.without(edits, [0, 1]).edits, ())

    def test_pauses_come_to_their_lengths_and_nothing_else_moves(self) -> None:
        pauses = [(1.0, 3.0), (4.0, 4.3), (5.0, 5.1), (6.0, 6.5), (7.0, 7.8)]
        rule = PauseRule(longest_s=0.8, shortest_s=0.5)
        edits = making.paused(plain(), pauses, rule, file="x")
        line = Timeline(edits)
        lengths = []
        for start, end in pauses:
            found = line.from_file(start, end)
            assert found is not None
            lengths.append(round(found[1] - found[0], 3))
        self.assertEqual(lengths, [0.8, 0.5, 0.1, 0.5, 0.8])
        self.assertAlmostEqual(edits.length / RATE, 10 - 1.2 + 0.2, places=3)
        self.assertEqual({one.why for one in edits.edits}, {"pause"})

    def test_head_and_tail_come_to_their_lengths(self) -> None:
        frames = plain()
        for seed in range(200):
            chance = random.Random(seed)
            head, tail = chance.uniform(0.2, 2), chance.uniform(0.2, 2)
            edits, was = frames, (head, tail)
            for _ in range(4):
                wanted = chance.choice((None, chance.uniform(0.05, 4))), chance.choice((None, chance.uniform(0.05, 4)))
                changes = [(now, to) if to is not None else None for now, to in zip(was, wanted, strict=True)]
                after = making.ended(edits, head=changes[0], tail=changes[1], file="x")
                longer = sum(to - now for now, to in filter(None, changes))
                self.assertAlmostEqual((after.length - edits.length) / RATE, longer, delta=0.003)
                edits, was = after, tuple(to if to is not None else now for now, to in zip(was, wanted, strict=True))
            line = Timeline(edits)
            words = [one for one in line.segments if not one.made]
            self.assertEqual(len(words), 1, "what is read stays whole")
            self.assertLessEqual(words[0].start, round(head * RATE) + 1)
            self.assertGreaterEqual(words[0].start + words[0].frames, FRAMES - round(tail * RATE) - 1)
            # The words begin where the head ends, as far as the last of both wishes were kept.
            self.assertAlmostEqual(line.from_file(head, head)[0], was[0], delta=0.005)
            self.assertAlmostEqual(edits.length / RATE - line.from_file(5.0, 5.0)[0], 5 + was[1] - tail, delta=0.005)

    def test_what_was_cut_off_a_head_comes_back_before_room_tone_is_put_in(self) -> None:
        shorter = making.ended(plain(), head=(0.5, 0.2), tail=(1.0, 0.4), file="x")
        self.assertEqual([(one.start, one.end, one.why) for one in shorter.edits], [(0, 2400, "head"), (75_200, FRAMES, "tail")])
        again = making.ended(shorter, head=(0.2, 0.4), tail=(0.4, 1.5), file="x")
        self.assertEqual([(one.start, one.end, one.room) for one in again.edits], [(0, 800, 0), (FRAMES, FRAMES, 4000)])
        self.assertEqual(making.ended(again, head=(0.4, 0.5), tail=(1.5, 1.0), file="x"), plain())
        # What was cut out for another reason stays out.
        other = making.cut(plain(), 0.0, 0.3, file="x")
        self.assertEqual([one.room for one in making.ended(other, head=(0.2, 0.5), file="x").edits], [2400])

    def test_an_end_is_not_brought_to_what_can_not_be(self) -> None:
        self.assertRaises(PutInTooLong, making.ended, plain(), head=(0.5, 70.0), file="x")
        self.assertRaises(SpanNotEditable, making.ended, plain(), tail=(9.9, 0.1), file="x")
        bare = plain().model_copy(update={"tone": ()})
        self.assertRaises(NoRoomToneToEdit, making.ended, bare, tail=(0.5, 1.0), file="x")
        self.assertEqual(making.ended(bare, head=(0.5, 0.5), tail=(1.0, 1.0004), file="x"), bare)

    def test_pauses_of_an_edited_recording(self) -> None:
        before = making.lengthened(making.cut(plain(), 0.5, 1, file="x"), 4.0, 1.0, file="x")
        edits = making.paused(before, [(3.8, 5.2)], PauseRule(longest_s=0.4), file="x")
        self.assertAlmostEqual(edits.length / RATE, before.length / RATE - 1.0, places=3)

    def test_what_can_not_be_done_is_refused(self) -> None:
        for start, end in ((-1, 2), (3, 3), (0, 9.8), (11, 12), (5, 4)):
            with self.subTest(start=start, end=end), self.assertRaises(SpanNotEditable):
                making.cut(plain(), start, end, file="x")
        bare = making.unedited(sample_rate_hz=RATE, frames=FRAMES, room=[(1.0, 1.1)])
        with self.assertRaises(NoRoomToneToEdit):
            making.lengthened(bare, 3, 1, file="x")
        with self.assertRaises(PutInTooLong):
            making.lengthened(making.lengthened(plain(), 3, 50, file="x"), 3.5, 50, file="x")

    def test_several_cuts_at_once_are_those_made_one_by_one(self) -> None:
        spans = [(1.0, 1.5), (4.0, 4.25), (7.0, 8.0)]
        one_by_one = making.lengthened(plain(), 4.1, 1.0, file="x")
        at_once = making.cuts(one_by_one, spans, file="x")
        for start, end in reversed(spans):
            one_by_one = making.cut(one_by_one, start, end, file="x")
        self.assertEqual(at_once, one_by_one)
        overlapping = making.cuts(plain(), [(4.0, 6.0), (1.0, 2.0), (5.0, 7.0), (7.0, 7.5)], file="x")
        self.assertEqual([(edit.start, edit.end) for edit in overlapping.edits], [(RATE, 2 * RATE), (4 * RATE, round(7.5 * RATE))])
        for spans in ([(0.0, 5.0), (5.0, 9.8)], [(1.0, 2.0), (3.0, 3.0)]):
            with self.assertRaises(SpanNotEditable):
                making.cuts(plain(), spans, file="x")

    def test_another_recording_stands_behind_the_end_with_all_that_was_put_into_it(self) -> None:
        room, sound = Put(frames=40 * RATE), Put(frames=RATE, take="t", start=9)
        edits = making.joined_with(making.cut(plain(), 1, 2, file="x"), [room, sound, room], file="x")
        self.assertEqual((edits.length, edits.edits[-1].put), (9 * RATE + 81 * RATE, (room, sound, room)))
        with self.assertRaises(PutInTooLong):
            making.joined_with(plain(), [room, room], file="x")

    def test_a_list_that_contradicts_itself_is_none(self) -> None:
        for edits in ([(5, 4)], [(3, 6), (6, 9)], [(3, 6), (4, 9)], [(3, FRAMES + 1)], [(3, 3)]):
            with self.subTest(edits=edits), self.assertRaises(ValueError):
                Edits(sample_rate_hz=RATE, frames=FRAMES, edits=tuple(Edit(start=a, end=b) for a, b in edits))

    def test_the_same_edits_of_the_same_file_sound_the_same_and_no_others(self) -> None:
        one, other = making.cut(plain(), 1, 2, file="x"), making.cut(plain(), 1, 2.001, file="x")
        self.assertEqual(one.known_as("a"), Edits.model_validate(one.model_dump(mode="json")).known_as("a"))
        self.assertEqual(len({one.known_as("a"), one.known_as("b"), other.known_as("a")}), 3)


class Times(unittest.TestCase):
    """The map of time, both ways."""

    def test_every_frame_that_is_heard_comes_back_to_itself(self) -> None:
        for seed in range(40):
            line = Timeline(at_random(seed))
            frames = list(range(0, FRAMES, 37))
            heard = [frame for frame in frames if line.hears(frame)]
            with self.subTest(seed=seed):
                self.assertTrue(all(line.to_file(line.to_recording(frame)) == frame for frame in heard))
                moved = [line.to_recording(frame) for frame in frames]
                self.assertEqual(moved, sorted(moved))
                self.assertTrue(all(0 <= frame <= line.frames for frame in moved))

    def test_a_stretch_follows_and_goes_with_what_is_left_out(self) -> None:
        line = Timeline(making.lengthened(making.cut(plain(), 2, 4, file="x"), 1.0, 0.5, file="x"))
        for start, end, there in (
            (0.2, 0.8, (0.2, 0.8)),
            (5, 6, (3.5, 4.5)),
            (1.5, 3, (2.0, 2.5)),
            (2.5, 3.5, None),
            (0, 10, (0, 8.5)),
        ):
            with self.subTest(start=start):
                self.assertEqual(line.from_file(start, end), there)
        self.assertEqual(line.into_file(3.5, 4.5), (5, 6))
        self.assertEqual(line.into_file(1.2, 1.4), (1, 1), "inside of what was put in")

    def test_a_moment_has_a_place_too(self) -> None:
        line = Timeline(making.cut(plain(), 2, 4, file="x"))
        self.assertEqual(line.from_file(5, 5), (3, 3))
        self.assertIsNone(line.from_file(3, 3))


class Chapters(unittest.TestCase):
    """Chapter marks, held against where the first frame from each on that is heard stands in a plain list of frames."""

    def test_each_stands_where_its_chapter_is_heard_from(self) -> None:
        for seed in range(120):
            chance, edits = random.Random(seed), at_random(seed)
            marks = sorted(chance.uniform(0, FRAMES / RATE) for _ in range(6))
            line = Timeline(edits)
            heard = {frame: at for at, frame in reversed(list(enumerate(_listed(edits)))) if 0 <= frame < FRAMES}
            ends = [*(round(one * RATE) for one in marks[1:]), FRAMES]
            for mark, end, found in zip(marks, ends, chapters.heard(marks, line), strict=True):
                first = next((frame for frame in range(round(mark * RATE), end) if frame in heard), None)
                with self.subTest(seed=seed, mark=mark):
                    if first is None:
                        self.assertIsNone(found)
                    else:
                        # What was put in where the chapter begins may be heard on either side of its mark.
                        put = max((one.room for one in edits.edits if one.start <= first <= one.end), default=0)
                        self.assertIsNotNone(found)
                        self.assertLessEqual(abs(found * RATE - heard[first]), 1 + put)

    def test_room_tone_before_everything_is_of_the_first_chapter(self) -> None:
        longer = Timeline(making.lengthened(plain(), 0.0, 2.0, file="x"))
        self.assertEqual(chapters.heard([0.0, 3.0], longer), [0.0, 5.0])
        other = Timeline(making.lengthened(making.cut(plain(), 0.0, 4.0, file="x"), 0.0, 2.0, file="x"))
        self.assertEqual(chapters.heard([0.0, 3.0, 6.0], other), [None, 0.0, 4.0])

    def test_a_mark_stays_when_nothing_before_it_changes(self) -> None:
        line = Timeline(making.cut(plain(), 6.0, 7.0, file="x"))
        self.assertEqual(chapters.heard([0.0, 1.23456789, 6.5, 8.0], line), [0.0, 1.23456789, 6.0, 7.0])
        self.assertEqual(chapters.heard([0.0, 3.3], None), [0.0, 3.3])
        self.assertEqual((chapters.heard([], line), chapters.heard([], None)), ([], []))

    def test_of_what_is_left_of_a_split_only_its_own_chapters_are_shown(self) -> None:
        part = Timeline(making.cuts(plain(), [(0.0, 4.0), (8.0, 10.0)], file="x"))
        self.assertEqual(chapters.heard([0.0, 2.0, 4.0, 6.0, 8.0, 9.0], part), [None, None, 0.0, 2.0, None, None])
        self.assertEqual(chapters.heard([0.0, 2.0, 6.0], part), [None, 0.0, 2.0], "it goes on from before")


class Heard(unittest.TestCase):
    """Samples of the edited recording."""

    def setUp(self) -> None:
        noise = np.random.default_rng(5).normal(0, 0.05, (FRAMES, 2)).astype(np.float32)
        self.samples = np.clip(noise, -1, 1)

    def read(self, start: int, frames: int) -> np.ndarray:
        return self.samples[start : start + frames]

    def test_pieces_of_any_size_are_the_same_samples(self) -> None:
        for seed in range(25):
            edits = at_random(seed)
            whole = EditedSamples(self.read, Timeline(edits), no_takes)(0, edits.length)
            pieces, at, chance = [], 0, random.Random(seed)
            read = EditedSamples(self.read, Timeline(edits), no_takes)
            while at < edits.length:
                size = chance.choice((1, 7, 80, 160, 1_000, 9_000))
                pieces.append(read(at, size))
                at += len(pieces[-1])
            with self.subTest(seed=seed):
                self.assertEqual(len(whole), edits.length)
                np.testing.assert_array_equal(np.concatenate(pieces), whole)
                np.testing.assert_array_equal(read(at // 2, 5_000), whole[at // 2 : at // 2 + 5_000])

    def test_away_from_joins_it_is_the_file_itself(self) -> None:
        edits = making.cut(plain(), 2, 4, file="x")
        found, half = EditedSamples(self.read, Timeline(edits), no_takes)(0, edits.length), round(FADE_S * RATE / 2)
        np.testing.assert_array_equal(found[: 2 * RATE - half], self.samples[: 2 * RATE - half])
        np.testing.assert_array_equal(found[2 * RATE + half :], self.samples[4 * RATE + half :])

    def test_no_edits_no_difference(self) -> None:
        np.testing.assert_array_equal(EditedSamples(self.read, Timeline(plain()), no_takes)(0, FRAMES), self.samples)

    def test_the_power_stays_over_a_join(self) -> None:
        """Of strangers (noise) as of equals (a tone that goes on as it was)."""
        half = round(FADE_S * RATE / 2)
        time = np.arange(FRAMES) / RATE
        tone = np.repeat((0.25 * np.sin(2 * np.pi * 500 * time))[:, None], 2, axis=1).astype(np.float32)
        edits = making.cut(plain(), 2, 4, file="x")
        joined = EditedSamples(lambda start, frames: tone[start : start + frames], Timeline(edits), no_takes)(
            2 * RATE - half, 2 * half
        )
        self.assertAlmostEqual(float(np.mean(joined**2)) / 0.03125, 1.0, delta=0.01)
        powers = []
        for place in range(60):
            edits = making.cut(plain(), 1 + place * 0.1, 2.05 + place * 0.1, file="x")
            at = edits.edits[0].start
            powers.append(float(np.mean(EditedSamples(self.read, Timeline(edits), no_takes)(at - half, 2 * half) ** 2)))
        self.assertAlmostEqual(10 * np.log10(np.mean(powers) / 0.05**2), 0.0, delta=0.2)

    def test_a_join_of_pauses_has_no_edge(self) -> None:
        """The steepest step at a join is no steeper than those of the material."""
        slow = np.cumsum(self.samples, axis=0) * 0.02
        edits = making.cut(plain(), 2, 4, file="x")
        found = EditedSamples(lambda start, frames: slow[start : start + frames], Timeline(edits), no_takes)(0, edits.length)
        self.assertGreater(abs(float(slow[4 * RATE, 0] - slow[2 * RATE, 0])), float(np.abs(np.diff(slow, axis=0)).max()))
        self.assertLess(float(np.abs(np.diff(found, axis=0)).max()), 1.5 * float(np.abs(np.diff(slow, axis=0)).max()) + 0.02)

    def test_what_is_put_in_is_the_room(self) -> None:
        quiet = self.samples.copy()
        quiet[RATE : 9 * RATE] *= 10
        edits = making.lengthened(plain(), 5.0, 2.0, file="x")
        found = EditedSamples(lambda start, frames: quiet[start : start + frames], Timeline(edits), no_takes)(
            int(5.1 * RATE), int(1.8 * RATE)
        )
        self.assertAlmostEqual(20 * np.log10(float(found.std()) / 0.05), 0.0, delta=0.3)

    def test_a_retake_is_heard_in_its_place_laid_over_what_is_beside_it(self) -> None:
        take = np.random.default_rng(9).normal(0, 0.05, (5 * RATE, 2)).astype(np.float32)
        edits = making.retaken(plain(), 2, 4, [Put(frames=RATE, take="t", start=RATE)], file="x")
        read = EditedSamples(self.read, Timeline(edits), lambda _: lambda start, frames: take[start : start + frames])
        half = round(FADE_S * RATE / 2)
        np.testing.assert_array_equal(read(2 * RATE + half, RATE - 2 * half), take[RATE + half : 2 * RATE - half])
        np.testing.assert_array_equal(read(3 * RATE + half, RATE), self.samples[4 * RATE + half : 5 * RATE + half])
        # One that begins with its file is faded in from nothing.
        edits = making.retaken(plain(), 2, 4, [Put(frames=RATE, take="t")], file="x")
        read = EditedSamples(self.read, Timeline(edits), lambda _: lambda start, frames: take[start : start + frames])
        self.assertEqual(len(read(0, FRAMES)), FRAMES - RATE)

    def test_it_is_read_forwards_like_any_file_and_measured(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = write_working(Path(folder) / "x.rf64", [self.samples], sample_rate_hz=RATE, channels=2)
            with Source(path) as source:
                facts = source.facts
            edits = making.lengthened(making.cut(plain(), 2, 4, file="x"), 5.0, 0.5, file="x")
            sound = Edited(path, edits, facts)
            with EditedSource(sound) as source:
                blocks = np.concatenate([block.copy() for block in source.blocks(1_000)])
                self.assertEqual((source.facts.frames, source.facts.duration_s), (int(8.5 * RATE), 8.5))
            with open_samples(sound) as samples:
                np.testing.assert_array_equal(samples(0, FRAMES), blocks)
            written = write_working(Path(folder) / "y.rf64", [blocks], sample_rate_hz=RATE, channels=2)
            one, other = inspect(sound, sha256="").inspection, inspect(written, sha256="").inspection
            self.assertEqual(one.readings, other.readings)
            self.assertEqual(one.facts.duration_s, 8.5)
            self.assertEqual(read_all(written)[0].shape, blocks.shape)


def _heard(edits: Edits) -> list[tuple[int, int]]:
    def first(one: Segment) -> int:
        if one.put is None:
            return one.start
        return TAKE + one.put.start if one.put.take else -1

    return [(first(one), one.frames) for one in Timeline(edits).segments]


def _listed(edits: Edits) -> list[int]:
    """The frames of the file that are heard, one by one; what was put in is below 0 or no frame of it."""
    return [first + (one if first >= 0 else 0) for first, frames in _heard(edits) for one in range(frames)]


def _gathered(heard: list[int]) -> list[tuple[int, int]]:
    """Runs of frames that follow one another, or that were put in."""
    found: list[tuple[int, int]] = []
    for frame in heard:
        if found and (found[-1][0] == frame == -1 or (frame >= 0 and found[-1][0] >= 0 and frame == sum(found[-1]))):
            found[-1] = found[-1][0], found[-1][1] + 1
        else:
            found.append((frame, 1))
    return found
