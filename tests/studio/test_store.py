"""The store keeps whole files under their hash, or nothing."""

import errno
import hashlib
import os
import stat
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

from ispettore.core.audio.facts import sha256_of
from ispettore.core.errors import ContentChanged
from ispettore.studio.store import blobs
from ispettore.studio.store.blobs import NotInStore, Store, TooLarge
from ispettore.studio.store.disk import NoRoomLeft, StoreReadOnly


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

    def test_what_was_hashed_just_now_is_not_hashed_again_anything_else_is(self):
        blob = self.store.put([b"high water"], name="a")
        path, now = self.store.local(blob.sha256), datetime.now(UTC)

        def hashed(since: datetime | None) -> int:
            with mock.patch.object(blobs, "sha256_of", wraps=sha256_of) as hashing:
                with self.store.checked(blob.sha256, name="a.wav", hashed_at=since) as found:
                    self.assertEqual(found.read_bytes(), b"high water")
                return hashing.call_count

        self.assertEqual(hashed(now), 0)
        self.assertEqual(hashed(None), 1)
        self.assertEqual(hashed(now - timedelta(hours=2)), 1)
        self.assertEqual(hashed(now + timedelta(minutes=5)), 1)
        path.write_bytes(b"high water")  # written to since, were it the same
        self.assertEqual(hashed(now), 1)
        path.write_bytes(b"high wafer")
        os.utime(path, ns=(0, 0))  # whoever turns the clock back is found out as well
        for since in (now, None):
            with self.assertRaises(ContentChanged), self.store.checked(blob.sha256, name="a.wav", hashed_at=since):
                pass

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

    def test_a_damaged_file_is_never_given_out_whole_and_is_healed_by_the_same_bytes(self):
        content = bytes(range(256)) * 12_000
        blob = self.store.put([content], name="a")
        self.assertEqual(b"".join(self.store.read_checked(blob.sha256, name="a.mp3")), content)
        path = self.store.local(blob.sha256)
        rotten = bytearray(content)
        rotten[5] ^= 1
        path.write_bytes(rotten)
        given = bytearray()
        with self.assertRaises(ContentChanged) as raised:
            for piece in self.store.read_checked(blob.sha256, name="a.mp3"):
                given += piece
        self.assertIn("“a.mp3” is damaged", raised.exception.sentence)
        self.assertLess(len(given), len(content), "the last piece was held back")
        for heal in (lambda: self.store.put([content], name="a"), lambda: self.store.take(self.outside(content), blob.sha256)):
            path.write_bytes(rotten)
            with self.assertRaises(ContentChanged):
                self.store.check(blob.sha256, name="a.mp3")
            heal()
            self.store.check(blob.sha256, name="a.mp3")
        path.unlink()
        for ask in (
            lambda: self.store.check(blob.sha256, name="a.mp3"),
            lambda: self.store.as_local(blob.sha256, name="a.mp3").__enter__(),
        ):
            with self.assertRaises(NotInStore) as raised:
                ask()
            self.assertIn("“a.mp3” is missing", raised.exception.sentence)

    def outside(self, content: bytes) -> Path:
        path = self.folder.parent / f"{self.folder.name}-outside"
        path.write_bytes(content)
        return path

    def test_files_are_their_owners_alone(self):
        blob = self.store.put([b"mine"], name="a")
        self.store.take(self.outside(b"mine too"), hashlib.sha256(b"mine too").hexdigest())
        self.assertEqual({stat.S_IMODE(path.stat().st_mode) for path in self.files()}, {0o600})
        self.assertEqual(stat.S_IMODE(self.store.local(blob.sha256).parent.stat().st_mode), 0o700)

    def test_what_a_killed_writer_left_is_swept_and_what_is_being_written_is_not(self):
        left = self.folder / "incoming" / "left"
        left.write_bytes(b"half")
        os.utime(left, (0, 0))
        writer = self.store.writer(name="a")
        writer.write(b"whole")
        os.utime(writer._temporary, (0, 0))
        self.store.sweep()
        self.assertFalse(left.exists())
        self.assertEqual(writer.finish().size_bytes, 5)

    def test_full_and_read_only_disks_are_said(self):
        for number, error, words in (
            (errno.ENOSPC, NoRoomLeft, "There is no room left here for “chapter.wav”"),
            (errno.EROFS, StoreReadOnly, "“chapter.wav” can't be written"),
            (errno.EACCES, StoreReadOnly, "Make it writable"),
        ):
            writer = self.store.writer(name="chapter.wav")
            with (
                self.subTest(number=number),
                mock.patch.object(writer, "_file", mock.Mock(write=mock.Mock(side_effect=OSError(number, "no")))),
                self.assertRaises(error) as raised,
            ):
                writer.write(b"x")
            self.assertIn(words, raised.exception.sentence)
            writer.abandon()
        with mock.patch.object(os, "open", side_effect=OSError(errno.EROFS, "no")), self.assertRaises(StoreReadOnly):
            self.store.writer(name="chapter.wav")
        self.assertEqual(self.files(), [])

    def test_any_file_system_will_do(self):
        store = Store("memory://ispettore-test")
        blob = store.put([b"afloat"], name="a")
        self.assertTrue(store.has(blob.sha256))
        with store.as_local(blob.sha256) as path:
            self.assertEqual(path.read_bytes(), b"afloat")
