"""What a take recorded here is made of: a file that is whole at every moment, marks in it, and steps over what is still spoken."""

import os
import tempfile
import unittest
from datetime import datetime
from pathlib import Path

import numpy as np
import soundfile

from ispettore.core.audio import cues, tags
from ispettore.core.audio.broadcast import Broadcast
from ispettore.core.audio.cues import Mark
from ispettore.core.audio.growing_wav import HEAD, GrowingWav
from ispettore.core.check.session import Session
from ispettore.core.edit.edits import Edit, Edits
from ispettore.core.edit.reading import Edited
from ispettore.core.measure import repeats
from ispettore.core.measure.inspecting import inspect, marks_set, measure_array
from ispettore.core.treat.live import LiveChain
from ispettore.core.treat.runner import run
from ispettore.core.treat.treatment import STEPS, Step, Treatment
from ispettore.demo.standin import Setting, StandIn
from tests import misread

RATE = 16_000
STATED = Broadcast(description="Take 1", originator="Ispettore", written_at=datetime(2026, 1, 2, 3, 4, 5))


class InFolder(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "take.wav"
        random = np.random.default_rng(1)
        self.sound = (0.2 * random.standard_normal((RATE, 1))).astype("<f4")

    def grown(self, channels: int = 1) -> GrowingWav:
        wav = GrowingWav.create(self.path, sample_rate_hz=RATE, channels=channels, stated=STATED)
        self.addCleanup(wav.close)
        return wav


class Growing(InFolder):
    def test_what_was_promised_can_be_read_at_every_moment_bit_for_bit(self):
        wav = self.grown()
        for n in range(10):
            wav.append(self.sound[n * 1_600 : (n + 1) * 1_600].tobytes())
            self.assertEqual(wav.sync(), (n + 1) * 1_600)
            # Another process looks at it, as after a crash of this one.
            read, rate = soundfile.read(self.path, dtype="float32", always_2d=True)
            self.assertEqual(rate, RATE)
            np.testing.assert_array_equal(read, self.sound[: (n + 1) * 1_600])
        self.assertAlmostEqual(GrowingWav.promised_s(self.path), 1.0)
        told = tags.read(self.path)
        self.assertEqual((told["description"], told["date"], told["time"]), (("Take 1",), ("2026-01-02",), ("03:04:05",)))

    def test_what_was_not_promised_goes_where_it_is_opened_again(self):
        wav = self.grown(channels=2)
        wav.append(self.sound.tobytes())
        wav.sync()
        wav.append(self.sound.tobytes()[:-3])
        wav.close()
        again = GrowingWav(self.path)
        self.addCleanup(again.close)
        self.assertEqual((again.frames, again.appended, again.channels, again.sample_rate_hz), (RATE // 2, RATE // 2, 2, RATE))
        self.assertEqual(self.path.stat().st_size, HEAD + RATE * 4)
        again.append(self.sound.tobytes())
        again.finish([])
        read, _ = soundfile.read(self.path, dtype="float32")
        np.testing.assert_array_equal(read, np.concatenate((self.sound, self.sound)).reshape(-1, 2))

    def test_a_file_that_lost_its_end_keeps_what_is_there(self):
        wav = self.grown()
        wav.append(self.sound.tobytes())
        wav.sync()
        os.truncate(self.path, HEAD + 1_001 * 4 + 2)
        self.assertEqual(GrowingWav(self.path).frames, 1_001)

    def test_past_four_gigabytes_it_is_an_rf64(self):
        wav = self.grown(channels=2)
        wav.append(self.sound.tobytes())
        wav.sync()
        frames = (5 << 30) // 8
        wav.close()
        # The middle of it is a hole: nothing so long is written for a test.
        os.truncate(self.path, HEAD + frames * 8)
        wav = GrowingWav(self.path)
        wav._appended = frames
        with self.path.open("r+b") as file:
            file.truncate(HEAD + frames * 8)
        wav.append(self.sound.tobytes())
        wav.sync()
        wav.close()
        self.assertEqual(GrowingWav(self.path).frames, frames + RATE // 2)
        with soundfile.SoundFile(self.path) as file:
            self.assertEqual((file.format, file.frames), ("RF64", frames + RATE // 2))
            file.seek(frames)
            np.testing.assert_array_equal(file.read(dtype="float32"), self.sound.reshape(-1, 2))

    def test_another_file_is_refused(self):
        for content in (b"", b"RIFF", bytes(HEAD), bytes(HEAD - 8) + b"data" + bytes(4)):
            self.path.write_bytes(content)
            with self.assertRaises(ValueError):
                GrowingWav(self.path)
        with self.assertRaises(FileExistsError):
            self.grown()


class Cues(InFolder):
    def test_marks_come_back_as_they_were_written(self):
        wav = self.grown()
        wav.append(self.sound.tobytes())
        marks = [Mark(0.75, "Wort für Wort"), Mark(0.25, ""), Mark(0.5, "odd")]
        wav.finish(marks)
        self.assertEqual(cues.read(self.path), sorted(marks, key=lambda mark: mark.at_s))
        read, _ = soundfile.read(self.path, dtype="float32", always_2d=True)
        np.testing.assert_array_equal(read, self.sound)

    def test_files_without_any_and_broken_ones_have_none(self):
        soundfile.write(self.path, self.sound, RATE)
        self.assertEqual(cues.read(self.path), [])
        whole = self.path.read_bytes()
        for added in (b"cue ", b"cue \xff\xff\xff\xff", b"cue \x04\0\0\0\xff\xff\xff\xff", b"LIST\x06\0\0\0adtlla"):
            self.path.write_bytes(whole + added)
            self.assertEqual(cues.read(self.path), [], added)
        self.assertEqual(cues.read(self.folder / "nothing.wav"), [])

    def test_they_are_findings_where_they_are_heard(self):
        wav = self.grown()
        wav.append(np.tile(self.sound, (4, 1)).tobytes())
        wav.finish([Mark(0.5, "a"), Mark(1.5, "b"), Mark(3.0, "c")])
        found = [one for one in inspect(self.path).inspection.findings if one.kind == "mark-set"]
        self.assertEqual([(one.start_s, one.end_s, one.detail) for one in found], [(0.5, 0.5, "a"), (1.5, 1.5, "b"), (3, 3, "c")])
        facts = inspect(self.path).inspection.facts
        edits = Edits(sample_rate_hz=RATE, frames=4 * RATE, edits=(Edit(start=RATE, end=2 * RATE),))
        there = marks_set(Edited(self.path, edits, facts), 3.0)
        self.assertEqual([(one.start_s, one.detail) for one in there], [(0.5, "a"), (2.0, "c")])
        self.assertEqual([one.detail for one in marks_set(self.path, 2.0)], ["a", "b"])
        # What was misread goes, and with it the mark that was set for it a little later.
        edits = Edits(sample_rate_hz=RATE, frames=4 * RATE, edits=(Edit(start=3_000, end=8_000, why="misread"),))
        there = marks_set(Edited(self.path, edits, facts), 4.0)
        self.assertEqual([(one.start_s, one.detail) for one in there], [(3 - 5_000 / RATE, "c")])


class Keys(unittest.TestCase):
    """Words read again near a mark that was set by a key. More of them: `./run bench --marks`."""

    def test_they_are_found_whenever_the_key_was_pressed(self):
        for when in misread.PRESSED:
            each = [misread.keyed_of(name, RATE, when=when, seed=1) for name in ("heron", "reed", "sluice")]
            total = misread.Mistakes(*np.sum(each, axis=0).tolist())
            self.assertGreaterEqual(total.made, 15)
            self.assertGreaterEqual(total.right / total.made, 0.85, (when, total))
            self.assertEqual(total.wrong, 0, (when, total))

    def test_where_nothing_is_read_again_nothing_is_proposed(self):
        reading = misread.misread(misread.lines_of("plover", RATE), rate=RATE, seed=3, with_marks=False, rounds=1)
        seen = measure_array(reading.wave[:, None].astype(np.float32), sample_rate_hz=RATE)
        far = [
            one for one in (misread.key(at) for at in (1.0, 2.0)) if all(abs(one.start_s - end) > 9 for _, end in reading.mistakes)
        ]
        found = repeats.find(seen.meters.spectra, seen.meters.cells, seen.passages, far)
        self.assertEqual([one for one in found if one.marked], [])


class Live(InFolder):
    """Steps over what is still being spoken are those of a run."""

    @classmethod
    def setUpClass(cls):
        stand_in = StandIn(Setting(room_dbfs=-70, input_db=12), sample_rate_hz=RATE)
        session = Session(sample_rate_hz=RATE, channels=1)
        session.begin()
        session.feed(stand_in.room(10 * RATE))
        session.feed(stand_in.reading(12 * RATE))
        cls.known, cls.spoken = session.heard(), stand_in.reading(4 * RATE)

    def chain(self, *steps: Step, known: bool = True) -> LiveChain:
        what = self.known if known else None
        return LiveChain(steps, sample_rate_hz=RATE, channels=1, name="Take", folder=self.folder, known=what)

    def through(self, chain: LiveChain) -> np.ndarray:
        size = RATE // 50
        return np.concatenate([chain.feed(self.spoken[at : at + size].copy()) for at in range(0, len(self.spoken), size)])

    def test_a_treatment_sounds_as_a_run_would_write_it(self):
        steps = (
            Step(kind="rumble-filter", settings={"corner_hz": 90}),
            Step(kind="expander", settings={"threshold_dbfs": -50}),
            Step(kind="compressor", settings={"threshold_dbfs": -24, "ratio": 3}),
            Step(kind="de-esser", settings={}),
            Step(kind="gain", settings={"gain_db": 9}),
            Step(kind="true-peak-limiter", settings={"ceiling_dbtp": -6}),
        )
        chain = self.chain(*steps, known=False)
        live = self.through(chain)
        soundfile.write(self.path, self.spoken, RATE, subtype="FLOAT")
        whole, _ = soundfile.read(run(self.path, Treatment(steps=steps), folder=self.folder).path, dtype="float32", always_2d=True)
        self.assertEqual(len(live) + chain.behind_frames, len(self.spoken))
        np.testing.assert_allclose(live, whole[: len(live)], atol=2e-6)
        self.assertLess(chain.behind_frames, 0.15 * RATE)
        self.assertEqual(chain.steps.heard, tuple(step.typed.title for step in steps))

    def test_steps_learn_from_the_take_check(self):
        steps = (
            Step(kind="noise-reduction", settings={"amount_db": 10}),
            Step(kind="reference-level", settings={"target_db": -20}),
        )
        chain = self.chain(*steps)
        self.assertEqual(chain.steps.untaught, ())
        pause = StandIn(Setting(room_dbfs=-70, input_db=12, seed=9), sample_rate_hz=RATE).room(2 * RATE)
        quieter = np.concatenate([chain.feed(pause[at : at + 320].copy()) for at in range(0, len(pause), 320)])
        known = measure_array(self.known, sample_rate_hz=RATE).inspection
        gain = -20 - known.value("rms_dbfs")
        moved = 20 * np.log10(np.std(quieter[RATE // 2 :]) / np.std(pause[RATE // 2 :]))
        self.assertAlmostEqual(moved, gain - 10, delta=1.5)

    def test_without_a_check_they_are_left_out_and_named(self):
        steps = (Step(kind="noise-reduction"), Step(kind="gain", settings={"gain_db": 3}), Step(kind="level-riding"))
        chain = self.chain(*steps, known=False)
        self.assertEqual(
            chain.steps.model_dump(), {"heard": ("Gain",), "left_out": ("Level riding",), "untaught": ("Noise reduction",)}
        )
        np.testing.assert_allclose(self.through(chain), self.spoken * np.float32(10 ** (3 / 20)), rtol=1e-6)

    def test_every_step_says_whether_it_can_be_heard_while_somebody_speaks(self):
        needs = {"compressor": {"threshold_dbfs": -20}, "gain": {"gain_db": 1}, "true-peak-limiter": {"ceiling_dbtp": -3}}
        left_out = {
            kind
            for kind, typed in STEPS.items()
            if kind not in ("channels", "sample-rate", "multiband-compressor")
            and typed.model_validate(needs.get(kind, {})).as_spoken() is None
        }
        spots = {"clip-repair", "click-repair", "room-tone-fill", "spot-gain", "head-and-tail"}
        drawn = {"hum-filter", "breath-softening", "level-riding"}
        laid = {kind for kind, step in STEPS.items() if step.adds_sound}
        self.assertEqual(left_out, spots | drawn | laid)
        slow = Step(kind="rumble-filter", settings={"phase": "linear"}).typed.as_spoken()
        self.assertEqual(slow.model_dump()["phase"], "minimum")
