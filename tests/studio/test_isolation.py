"""Children that swell, hang, crash or are no longer wanted end alone, and say why."""

import errno
import multiprocessing
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
from pydantic import BaseModel, ConfigDict

from ispettore.core import errors
from ispettore.studio.jobs import isolation
from ispettore.studio.store import disk

COLD = """
import gc
import ispettore.studio.worker.warm
from ispettore.core.kernels import _Lazy
print([kernel.__name__ for kernel in gc.get_objects() if isinstance(kernel, _Lazy) and kernel._compiled is None])
"""


class Number(BaseModel):
    """What these children are asked, and answer."""

    model_config = ConfigDict(frozen=True)

    value: int = 0
    said: str = ""


def answers(asked: Number, progress) -> Number:
    progress("counting", 0.5)
    return Number(value=asked.value + 1)


def swells(_asked: Number, progress) -> Number:
    held = [np.ones(50_000_000) for _ in range(1_000)]
    return Number(value=len(held))


def hangs(_asked: Number, progress) -> None:
    while True:
        pass


def waits(_asked: Number, progress) -> None:
    progress("waiting", 0.0)
    time.sleep(600)


def crashes(_asked: Number, progress) -> None:
    os.kill(os.getpid(), signal.SIGSEGV)


def never_begins(_asked: Number, progress) -> None:
    os._exit(1)


def refuses(_asked: Number, progress) -> None:
    raise errors.FileEmpty(file="chapter.wav")


def stumbles(_asked: Number, progress) -> None:
    raise KeyError("unheard of")


def spills(_asked: Number, progress) -> None:
    """Writes on and on, into a file without a name and one with."""
    with tempfile.TemporaryFile() as unnamed, tempfile.NamedTemporaryFile() as named:
        while True:
            for file in (unnamed, named):
                file.write(bytes(1_000_000))
                file.flush()
            time.sleep(0.001)


def says_where(_asked: Number, progress) -> Number:
    with tempfile.NamedTemporaryFile() as file:
        return Number(said=file.name)


def lingers(_asked: Number, progress) -> None:
    time.sleep(60)


def finds_no_room(_asked: Number, progress) -> None:
    raise OSError(errno.ENOSPC, "No space left on device")


class Warm(unittest.TestCase):
    def test_every_kernel_is_compiled_before_the_first_child(self):
        """In a process of its own, as set-up and the fork server do it; a new kernel has to be run in `warm.py`."""
        told = subprocess.run([sys.executable, "-c", COLD], capture_output=True, text=True, check=True)
        self.assertEqual(told.stdout.strip(), "[]")


class Isolation(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def run_child(
        self,
        compute,
        asked: Number | None = None,
        *,
        memory_gb: float = 4.0,
        cpu_s: int = 60,
        disk_gb: float = 1.0,
        cancelled=lambda: False,
    ):
        self.stages = []
        return isolation.run(
            compute,
            asked or Number(),
            name="chapter.wav",
            folder=self.folder,
            limits=isolation.Limits(memory_bytes=int(memory_gb * 1024**3), cpu_s=cpu_s, disk_bytes=int(disk_gb * 1024**3)),
            progress=lambda stage, fraction: self.stages.append((stage, fraction)),
            cancelled=cancelled,
        )

    def test_a_child_goes_before_anything_else_where_memory_runs_out(self):
        """The worker, the database and whatever else runs on the machine stay."""

        def asked() -> bool:
            """What the system makes of the children, until one has had the time to say it."""
            found = [Path(f"/proc/{child.pid}/oom_score_adj").read_text() for child in multiprocessing.active_children()]
            return [int(each) for each in found] == [1000]

        with self.assertRaises(errors.Cancelled):
            self.run_child(lingers, cancelled=asked)

    def test_everything_temporary_lies_in_the_folder_and_is_bounded(self):
        self.assertEqual(Path(self.run_child(says_where).said).parent, self.folder)
        with self.assertRaises(disk.TooMuchDisk) as raised:
            self.run_child(spills, disk_gb=0.05)
        self.assertIn("chapter.wav", raised.exception.sentence)

    def test_a_full_disk_is_said(self):
        with self.assertRaises(disk.NoRoomLeft) as raised:
            self.run_child(finds_no_room)
        self.assertIn("There is no room left here for “chapter.wav”", raised.exception.sentence)

    def test_results_and_progress_come_back(self):
        self.assertEqual(self.run_child(answers, Number(value=41)), Number(value=42))
        self.assertEqual(self.stages, [("counting", 0.5)])

    def test_errors_for_a_person_come_back_as_they_are(self):
        with self.assertRaises(errors.FileEmpty) as caught:
            self.run_child(refuses)
        self.assertIn("“chapter.wav” is empty", caught.exception.sentence)

    def test_other_errors_come_back_named(self):
        with self.assertRaisesRegex(RuntimeError, "KeyError.*unheard of"):
            self.run_child(stumbles)

    def test_too_much_memory_ends_the_child_alone(self):
        with self.assertRaises(isolation.ChildDied) as caught:
            self.run_child(swells)
        self.assertIn("memory", caught.exception.sentence)

    def test_too_much_time_ends_the_child_alone(self):
        with self.assertRaises(isolation.ChildDied) as caught:
            self.run_child(hangs, cpu_s=1)
        self.assertIn("minutes", caught.exception.sentence)

    def test_a_crash_of_a_decoder_is_an_error_in_words(self):
        with self.assertRaises(isolation.ChildDied) as caught:
            self.run_child(crashes)
        self.assertIn("chapter.wav", caught.exception.sentence)

    def test_a_child_that_ends_without_a_word_is_not_blamed_on_the_file(self):
        with self.assertRaises(isolation.ChildNeverBegan) as caught:
            self.run_child(never_begins)
        self.assertIn("“chapter.wav” couldn't be processed", caught.exception.sentence)
        self.assertNotIn("memory", caught.exception.sentence)

    def test_cancelling_ends_the_child_at_once(self):
        """The child would sleep for ten minutes; nobody waits for it."""
        with self.assertRaises(errors.Cancelled), patch.object(isolation, "POLL_S", 0.01):
            self.run_child(waits, cancelled=lambda: bool(self.stages))
        self.assertEqual(multiprocessing.active_children(), [])
