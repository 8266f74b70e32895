"""The store keeps whole files under their hash, or nothing."""

import hashlib
import tempfile
import unittest
from pathlib import Path

from ispettore.studio.store import Store, TooLarge


class Storing(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.store = Store(str(self.folder))

    def files(self) -> list[Path]:
        return [path for path in self.folder.rglob("*") if path.is_file()]

    def test_the_same_bytes_are_kept_once_under_their_hash(self):
        first = self.store.put([b"high ", b"water"], name="a")
        second = self.store.put([b"high water"], name="b")
        self.assertEqual(first, second)
        self.assertEqual(first.sha256, hashlib.sha256(b"high water").hexdigest())
        self.assertEqual(len(self.files()), 1)

    def test_parts_can_be_read(self):
        blob = self.store.put([b"0123456789"], name="a")
        self.assertEqual(b"".join(self.store.read(blob.sha256, start=3, end=6)), b"345")
        with self.store.as_local(blob.sha256) as path:
            self.assertEqual(path.read_bytes(), b"0123456789")

    def test_past_the_limit_nothing_is_kept(self):
        with self.assertRaises(TooLarge) as caught:
            self.store.put([b"x" * 600, b"x" * 600], name="chapter.wav", limit_bytes=1_000)
        self.assertIn("chapter.wav", caught.exception.sentence)
        self.assertEqual(self.files(), [])

    def test_a_stream_that_breaks_leaves_nothing(self):
        def broken():
            yield b"half"
            raise ConnectionError

        with self.assertRaises(ConnectionError):
            self.store.put(broken(), name="a")
        self.assertEqual(self.files(), [])

    def test_any_file_system_will_do(self):
        store = Store("memory://ispettore-test")
        blob = store.put([b"afloat"], name="a")
        self.assertTrue(store.has(blob.sha256))
        with store.as_local(blob.sha256) as path:
            self.assertEqual(path.read_bytes(), b"afloat")
