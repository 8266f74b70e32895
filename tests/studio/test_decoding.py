"""What takes stored sound apart for whoever listens: children that can open nothing, and what comes of one that ends or lies."""

import io
import struct
import subprocess
import sys
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile

from ispettore.core.errors import FileMissing
from ispettore.core.kernels import cache_folder
from ispettore.studio.jobs import confinement, decoding
from ispettore.studio.jobs.decoding import Decoders, NotDecoded
from tests import signals
from tests.support import until

RATE = 44_100
FORMATS = {"wav": "PCM_24", "flac": "PCM_16", "aiff": "PCM_16", "caf": "FLOAT", "w64": "PCM_24", "mp3": "MPEG_LAYER_III"}


def lying(answer):
    """A program that answers the first question with this."""
    return f"import sys; from multiprocessing.connection import Connection as C; p = C(int(sys.argv[-1])); p.recv_bytes(); {answer}"


class Broken(io.BytesIO):
    """A file that can be read so far, and says then what a store says of a damaged piece."""

    def read(self, size=-1):
        if self.tell() > 300_000:
            raise FileMissing(file="one.wav")
        return super().read(size)


class Decoding(unittest.TestCase):
    def setUp(self):
        self.decoders = Decoders(2)
        self.addCleanup(self.decoders.close)
        self.sound = np.stack(
            [signals.voice_like(5.0, rms_dbfs=-20, rate=RATE), signals.noise(5.0, rms_dbfs=-60, rate=RATE)], axis=1
        )

    def stored(self, ending="wav", subtype="PCM_24"):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"one.{ending}"
            more = {"bitrate_mode": "CONSTANT", "compression_level": 0.4} if ending == "mp3" else {}
            soundfile.write(path, self.sound, RATE, subtype=subtype, **more)
            return path.read_bytes()

    def test_every_format_comes_as_the_library_reads_it_whatever_is_asked_for(self):
        random = np.random.default_rng(7)
        for ending, subtype in FORMATS.items():
            content = self.stored(ending, subtype)
            samples = self.decoders.samples_of(io.BytesIO(content), name=f"one.{ending}")
            with soundfile.SoundFile(io.BytesIO(content)) as plain:
                spans = [(int(random.integers(0, plain.frames)), int(random.integers(0, 60_000))) for _ in range(12)]
                for start, frames in [
                    (0, plain.frames),
                    (0, 1),
                    (-5, 100),
                    (plain.frames - 10, 500),
                    (plain.frames + 99, 7),
                    *spans,
                ]:
                    with self.subTest(ending=ending, start=start, frames=frames):
                        plain.seek(min(max(start, 0), plain.frames))
                        expected = plain.read(frames, dtype="float32", always_2d=True)
                        found = samples(start, frames)
                        self.assertEqual((found.dtype, found.shape), (np.dtype(np.float32), expected.shape))
                        np.testing.assert_array_equal(found, expected)
        self.assertEqual(len(self.decoders._idle), 1, "one at a time needs one child")

    def test_several_listen_at_once_to_different_files(self):
        contents = [self.stored(*one) for one in list(FORMATS.items())[:4]]
        whole = [soundfile.read(io.BytesIO(one), dtype="float32")[0] for one in contents]
        wrong = []

        def listen(number):
            samples = self.decoders.samples_of(io.BytesIO(contents[number]), name="one")
            starts = range(0, 5 * RATE, 30_000)
            wrong.extend((number, at) for at in starts if not np.array_equal(samples(at, 30_000), whole[number][at : at + 30_000]))

        threads = [threading.Thread(target=listen, args=(number,)) for number in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(wrong, [])
        self.assertLessEqual(len(self.decoders._idle), 2)

    def test_a_child_opens_no_file_no_folder_and_no_connection(self):
        self.assertGreaterEqual(confinement.level(), 1, "this kernel has no Landlock: here nothing can be taken from a child")
        self.decoders.samples_of(io.BytesIO(self.stored()), name="one.wav")(0, 10)  # it has begun
        (child,) = self.decoders._idle
        environment = Path(f"/proc/{child._process.pid}/environ").read_bytes()
        self.assertNotIn(b"DATABASE", environment)
        open_files = [str(one.readlink()) for one in Path(f"/proc/{child._process.pid}/fd").iterdir()]
        self.assertEqual([one for one in open_files if one.startswith("/") and not one.startswith("/dev/")], [])
        with tempfile.NamedTemporaryFile() as secret:
            tried = (
                "import sys, os, socket; from ispettore.studio.jobs import confinement;"
                "confinement.confine(read=(), write=(), compiles=False);"
                f"tries = [lambda: open({secret.name!r}), lambda: open({secret.name!r}, 'w'), lambda: os.listdir('/tmp'),"
                " lambda: open('/proc/' + str(os.getppid()) + '/environ'),"
                " lambda: open(sys.argv[1] + '/planted', 'w'), lambda: socket.create_connection(('127.0.0.1', 1), 1)]\n"
                "for one in tries:\n"
                "    try: one(); print('worked')\n"
                "    except PermissionError: print('refused')\n"
                "    except ConnectionRefusedError: print('refused' if confinement.level() < 4 else 'worked')"
            )
            cache = str(cache_folder())
            Path(cache).mkdir(parents=True, exist_ok=True)
            ran = subprocess.run([sys.executable, "-c", tried, cache], capture_output=True, text=True, check=True)
        self.assertEqual(ran.stdout.split(), ["refused"] * 6)

    def test_what_the_store_says_of_a_damaged_piece_is_what_is_said(self):
        content = self.stored()
        samples = self.decoders.samples_of(Broken(content), name="one.wav")
        self.assertEqual(len(samples(0, 1000)), 1000)
        with self.assertRaises(FileMissing):
            samples(4 * RATE, 1000)
        whole = self.decoders.samples_of(io.BytesIO(content), name="one.wav")
        self.assertEqual(len(whole(4 * RATE, 1000)), 1000, "the next who listens is not touched by it")

    def test_a_child_that_still_owes_an_answer_is_not_asked_again(self):
        class Unforeseen(io.BytesIO):
            def read(self, size=-1):
                raise KeyError("unforeseen")

        content = self.stored()
        with self.assertRaises(KeyError):
            self.decoders.samples_of(Unforeseen(content), name="one.wav")(0, 100)
        self.assertEqual(self.decoders._idle, [])
        found = self.decoders.samples_of(io.BytesIO(content), name="one.wav")(0, 100)
        np.testing.assert_array_equal(found, soundfile.read(io.BytesIO(content), dtype="float32")[0][:100])

    def test_what_is_no_sound_is_said_in_words(self):
        for content in (b"", b"no sound at all" * 1000, self.stored()[:30]):
            with self.subTest(size=len(content)), self.assertRaises(NotDecoded) as refused:
                self.decoders.samples_of(io.BytesIO(content), name="one.wav")(0, 100)
            self.assertIn("“one.wav” can't be played: its sound can't be taken apart (", refused.exception.sentence)

    def test_a_child_that_dies_is_told_and_replaced(self):
        samples = self.decoders.samples_of(io.BytesIO(self.stored()), name="one.wav")
        samples(0, 10)
        (child,) = self.decoders._idle
        child._process.kill()
        child._process.wait()
        with self.assertRaises(NotDecoded) as refused:
            samples(0, 10)
        self.assertIn("ended without an answer", refused.exception.sentence)
        self.assertEqual(len(samples(0, 10)), 10)

    def test_a_child_that_lies_is_not_believed(self):
        shape = struct.Struct("<II").pack
        lies = {
            "more than was asked for": f"p.send_bytes(b's' + {shape(50, 1)!r} + bytes(200))",
            "less than it says": f"p.send_bytes(b's' + {shape(10, 1)!r} + bytes(36))",
            "no channels": f"p.send_bytes(b's' + {shape(0, 0)!r})",
            "a shape of nothing": "p.send_bytes(b's')",
            "a heap of bytes": "p.send_bytes(bytes(50_000_000))",
            "a wish that is none": "p.send_bytes(b'r123')",
            "a place that is none": "p.send_bytes(b'r' + b'\\xff' * 16)",
            "nothing": "import time; time.sleep(60)",
        }
        for name, answer in lies.items():
            command = [sys.executable, "-c", lying(answer)]
            real = subprocess.Popen

            def started(asked, command=command, real=real, **rest):
                return real([*command, asked[-1]], **rest)

            decoders = Decoders(1)
            self.addCleanup(decoders.close)
            samples = decoders.samples_of(io.BytesIO(self.stored()), name="one.wav")
            with (
                self.subTest(name=name),
                mock.patch.object(subprocess, "Popen", started),
                mock.patch.object(decoding, "SILENT_S", 5),
                self.assertRaises(NotDecoded),
            ):
                samples(0, 10)

    def test_children_end_with_the_process_that_asks(self):
        script = (
            "import io, os; from ispettore.studio.jobs.decoding import Decoders; d = Decoders(1); d.warm();"
            "print(d._idle[0]._process.pid, flush=True); os.kill(os.getpid(), 9)"
        )
        ran = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True)
        child = Path(f"/proc/{int(ran.stdout)}")
        until(lambda: not child.exists() or "Z" in (child / "stat").read_text().split(")")[1][:3], what="the child to end")


if __name__ == "__main__":
    unittest.main()
