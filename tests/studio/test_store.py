"""The store keeps whole files under their hash, or nothing."""

import errno
import hashlib
import os
import stat
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from ispettore.core.audio.facts import sha256_of
from ispettore.core.errors import ContentChanged
from ispettore.studio.store import blobs, sums
from ispettore.studio.store.blobs import NotInStore, Store, TooLarge
from ispettore.studio.store.disk import NoRoomLeft, StoreReadOnly


class Storing(unittest.TestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.store = Store(str(self.folder))

    def files(self) -> list[Path]:
        """All but the checksums beside them."""
        return [path for path in self.folder.rglob("*") if path.is_file() and "sums" not in path.relative_to(self.folder).parts]

    def test_the_same_bytes_are_kept_once_under_their_hash(self):
        first = self.store.put([b"high ", b"water"], name="a")
        second = self.store.put([b"high water"], name="b")
        self.assertEqual(first, second)
        self.assertEqual(first.sha256, hashlib.sha256(b"high water").hexdigest())
        self.assertEqual(len(self.files()), 1)

    def test_parts_can_be_read(self):
        blob = self.store.put([b"0123456789"], name="a")
        self.assertEqual(b"".join(self.store.read(blob.sha256, name="a", start=3, end=6)), b"345")
        with self.store.as_local(blob.sha256) as path:
            self.assertEqual(path.read_bytes(), b"0123456789")

    def rot(self, sha256: str, at: int) -> None:
        """Change one bit of a file without a trace in its dates, as a disk does."""
        path = self.store.local(sha256)
        before = path.stat()
        with path.open("r+b") as file:
            file.seek(at)
            was = file.read(1)[0]
            file.seek(at)
            file.write(bytes([was ^ 1]))
        os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns))

    def test_what_a_certificate_rests_on_is_hashed_every_time(self):
        blob = self.store.put([b"high water"], name="a")
        for count in (1, 2):
            with mock.patch.object(blobs, "sha256_of", wraps=sha256_of) as hashing:
                for _ in range(count):
                    with self.store.checked(blob.sha256, name="a.wav") as found:
                        self.assertEqual(found.read_bytes(), b"high water")
                self.assertEqual(hashing.call_count, count)
        self.rot(blob.sha256, 3)
        with self.assertRaises(ContentChanged), self.store.checked(blob.sha256, name="a.wav"):
            pass

    def test_any_part_is_held_against_its_checksum_and_parts_beside_a_damaged_one_are_given_out(self):
        content = np.random.default_rng(1).bytes(5 * sums.PIECE + 999)
        blob = self.store.put([content[:1_000], content[1_000:]], name="a")
        with self.store.open(blob.sha256, name="a.wav") as file:
            self.assertEqual(file.read(), content)
            for start, size in (
                (0, 10),
                (sums.PIECE - 3, 7),
                (5 * sums.PIECE, 2_000),
                (len(content), 5),
                (2 * sums.PIECE, 2 * sums.PIECE),
            ):
                file.seek(start)
                self.assertEqual(file.read(size), content[start : start + size])
            self.assertEqual((file.seek(-4, os.SEEK_END), file.read()), (len(content) - 4, content[-4:]))
        self.rot(blob.sha256, 3 * sums.PIECE + 17)
        part = lambda start, end: b"".join(self.store.read(blob.sha256, name="a.wav", start=start, end=end))  # noqa: E731
        self.assertEqual(part(0, 3 * sums.PIECE), content[: 3 * sums.PIECE])
        self.assertEqual(part(4 * sums.PIECE, len(content)), content[4 * sums.PIECE :])
        with self.assertRaises(ContentChanged) as raised:
            part(3 * sums.PIECE, 3 * sums.PIECE + 4)
        self.assertIn("“a.wav” is damaged", raised.exception.sentence)
        self.store.put([content], name="again")
        self.assertEqual(part(0, len(content)), content)

    def test_a_file_cut_short_or_grown_is_found_out(self):
        content = bytes(2 * sums.PIECE + 7)
        blob = self.store.put([content], name="a")
        for changed in (content[:-1], content[: sums.PIECE], b"", content + b"x", content + bytes(sums.PIECE)):
            self.store.local(blob.sha256).write_bytes(changed)
            with self.subTest(size=len(changed)), self.assertRaises(ContentChanged):
                for _ in self.store.read(blob.sha256, name="a.wav"):
                    pass
            self.assertFalse(self.store.whole(blob.sha256))
        self.store.put([content], name="a")
        self.assertTrue(self.store.whole(blob.sha256))

    def test_checksums_that_are_lost_or_damaged_are_made_again_from_a_file_that_is_whole(self):
        content = bytes(range(200)) * 5_000
        blob = self.store.put([content], name="a")
        where = self.folder / blobs._sums_of(blob.sha256)
        kept = where.read_bytes()
        for spoil in (where.unlink, lambda: where.write_bytes(b"\0" * len(kept)), lambda: where.write_bytes(b"")):
            spoil()
            self.store = Store(str(self.folder))
            self.assertEqual(b"".join(self.store.read(blob.sha256, name="a")), content)
            self.assertEqual(where.read_bytes(), kept)
        self.rot(blob.sha256, 5)
        where.unlink()
        self.store = Store(str(self.folder))
        with self.assertRaises(ContentChanged):
            b"".join(self.store.read(blob.sha256, name="a"))
        self.assertFalse(where.exists(), "nothing is vouched for that is not what it was")

    def test_what_was_compared_within_the_hour_and_not_written_to_is_not_read_again(self):
        blob = self.store.put([bytes(sums.PIECE * 3)], name="a")

        def reads() -> int:
            with mock.patch.object(blobs, "CheckedFile", side_effect=sums.CheckedFile) as read:
                with self.store.compared(blob.sha256, name="a.wav"):
                    pass
                return read.call_count

        self.assertEqual([reads(), reads()], [1, 0])
        self.rot(blob.sha256, 5)  # dates can be set back, but not the moment of the change itself
        with self.assertRaises(ContentChanged):
            reads()
        with self.assertRaises(NotInStore), self.store.compared("0" * 64, name="a.wav"):
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

    def test_what_is_just_being_put_in_its_place_is_not_swept_however_old_it_is(self):
        content = b"came in an hour ago"
        path, put = self.outside(content), self.store.shelf.put
        os.utime(path, (0, 0))

        def swept(temporary: Path, name: str) -> None:
            os.utime(temporary, (0, 0))
            self.store.sweep()
            put(temporary, name)

        with mock.patch.object(self.store.shelf, "put", side_effect=swept):
            blob = self.store.take(path, hashlib.sha256(content).hexdigest())
        self.assertEqual(b"".join(self.store.read_checked(blob.sha256, name="a")), content)

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
