"""A store in a bucket, and workers on other machines: separate folders, one queue, every job done once."""

import hashlib
import os
import signal
import subprocess
import sys
import tempfile
import unittest
from contextlib import ExitStack
from pathlib import Path

import numpy as np
import s3fs
import soundfile
from sqlmodel import select

from ispettore.core.certify import verification
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.errors import ContentChanged
from ispettore.core.measure.inspecting import inspect
from ispettore.studio.catalogue import conformings, productions, recordings
from ispettore.studio.database import transaction
from ispettore.studio.operating import scrubbing, standing
from ispettore.studio.running.cluster import free_port
from ispettore.studio.settings import settings
from ispettore.studio.store import sums
from ispettore.studio.store.blobs import NotInStore, Store
from ispettore.studio.store.shelves import Bucket, Copies, StoreAway
from ispettore.studio.tables import CertificateRecord, Conforming, InspectionRecord, Recording, Work, WorkState
from tests import signals
from tests.bucket import bucket
from tests.support import Application, end, in_environment, until, work_for

RATE = 22_050


class InABucket(unittest.TestCase):
    """What a store does, it does in a bucket as well; and what is copied from there is bounded and borne out."""

    @classmethod
    def setUpClass(cls):
        held = ExitStack()
        cls.addClassCleanup(held.close)
        cls.folder = Path(held.enter_context(tempfile.TemporaryDirectory()))
        cls.address = held.enter_context(bucket(cls.folder))
        held.enter_context(in_environment(ISPETTORE_CACHE_BYTES=str(3 * 1024**2), ISPETTORE_CACHE=str(cls.folder / "cache")))

    def setUp(self):
        self.store = Store(self.address)
        self.shelf = self.store.shelf
        assert isinstance(self.shelf, Bucket)

    def content(self, seed: int, size: int = 1024**2) -> bytes:
        return np.random.default_rng(seed).bytes(size)

    def copies(self) -> set[str]:
        return {path.name for path in self.shelf.here.rglob("*") if path.is_file() and path.parent.name != "incoming"}

    def test_what_is_put_there_is_there_whole_and_can_be_read_in_parts(self):
        content = self.content(1, 3 * sums.PIECE + 5)
        blob = self.store.put([content[:9], content[9:]], name="a")
        self.assertEqual(blob.sha256, hashlib.sha256(content).hexdigest())
        again = Store(self.address)
        self.assertTrue(again.has(blob.sha256))
        self.assertEqual(again.size(blob.sha256), len(content))
        self.assertEqual(b"".join(again.read(blob.sha256, name="a", start=sums.PIECE - 2, end=sums.PIECE + 2)),
                         content[sums.PIECE - 2 : sums.PIECE + 2])  # fmt: skip
        self.assertNotIn(blob.sha256, self.copies(), "a part is read where it is")
        self.assertIn((blob.sha256, len(content)), list(again.listed()))
        with again.checked(blob.sha256, name="a") as path:
            self.assertEqual(path.read_bytes(), content)
        outside = self.folder / "outside"
        outside.write_bytes(b"taken")
        taken = self.store.take(outside, hashlib.sha256(b"taken").hexdigest())
        self.assertEqual(b"".join(again.read_checked(taken.sha256, name="b")), b"taken")
        self.assertFalse(outside.exists())
        for one in (blob, taken):
            again.remove(one.sha256)
            self.assertFalse(self.store.has(one.sha256))
            with self.assertRaises(NotInStore), self.store.as_local(one.sha256, name="a"):
                pass
        self.assertEqual([path for path in self.shelf.coming.iterdir() if path.is_file()], [])

    def test_a_bucket_that_does_not_answer_is_said(self):
        with (
            in_environment(
                AWS_ENDPOINT_URL=f"http://127.0.0.1:{free_port()}", AWS_MAX_ATTEMPTS="1", ISPETTORE_STORE="s3://away/store"
            ),
        ):
            s3fs.S3FileSystem.clear_instance_cache()
            self.addCleanup(s3fs.S3FileSystem.clear_instance_cache)
            with self.assertRaises(StoreAway) as raised:
                Store("s3://away/store").has("0" * 64)
            self.assertIn("does not answer", raised.exception.sentence)
            [part] = [part for part in [standing._looked("Store", standing._store)] if not part.fine]
            self.assertEqual(part.told, raised.exception.sentence)

    def test_copies_are_bounded_and_none_in_use_goes(self):
        blobs = [self.store.put([self.content(seed)], name="x").sha256 for seed in range(10, 16)]
        with self.store.as_local(blobs[0]) as first:
            for sha256 in blobs[1:]:
                with self.store.as_local(sha256) as path:
                    self.assertTrue(path.exists())
            self.assertIn(blobs[0], self.copies(), "it is held")
            self.assertLessEqual(sum(path.stat().st_size for path in self.shelf.here.rglob("*") if path.is_file()), 4 * 1024**2)
            self.assertEqual(first.read_bytes(), self.content(10))
        self.assertNotIn(blobs[1], self.copies())

    def test_a_damaged_copy_is_fetched_again_and_a_damaged_original_is_said(self):
        content = self.content(30)
        blob = self.store.put([content], name="x")
        for way in (self.store.checked, Store(self.address).compared):
            with self.store.as_local(blob.sha256) as path:
                pass
            path.chmod(0o600)
            path.write_bytes(content[:-1] + bytes([content[-1] ^ 1]))
            with way(blob.sha256, name="a.wav") as path:
                self.assertEqual(path.read_bytes(), content)
        self.shelf.forget(f"{blob.sha256[:2]}/{blob.sha256}")
        self.shelf._fs.pipe_file(self.shelf._at(f"{blob.sha256[:2]}/{blob.sha256}"), content[:-1] + b"!")
        for way in (self.store.checked, Store(self.address).compared):
            with self.assertRaises(ContentChanged) as raised, way(blob.sha256, name="a.wav"):
                pass
            self.assertIn("“a.wav” is damaged", raised.exception.sentence)

    def test_a_copy_that_is_dropped_just_before_it_is_held_is_fetched_once_more(self):
        copies = Copies(self.folder / "own", limit_bytes=10)
        (self.folder / "own" / "incoming").mkdir(parents=True)
        fetched = []

        def fetch(target: Path) -> None:
            fetched.append(target)
            target.write_bytes(b"here")

        with copies.held("a", lambda _: 4, fetch) as path, copies.held("a", lambda _: 4, fetch):
            self.assertTrue(copies.drop("a"))
            self.assertFalse(copies.drop("a"))
            with copies.held("a", lambda _: 4, fetch) as again:
                self.assertEqual(again.read_bytes(), b"here")
            self.assertEqual(path, again)
        self.assertEqual(len(fetched), 2)


class Machines(unittest.TestCase):
    """Two workers that share nothing but the database and the bucket."""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.application = Application().start()
        self.addCleanup(self.application.stop)
        address = self.enterContext(bucket(Path(held.name)))
        self.enterContext(in_environment(ISPETTORE_STORE=address))

    def machine(self, name: str) -> subprocess.Popen[bytes]:
        """A worker with folders of its own for everything, as on another machine; keys alone are given to it."""
        place = self.application.folder / name
        own = {f"ISPETTORE_{part}": str(place / part.lower()) for part in ("WORK", "INCOMING", "DELIVERED", "STATE", "CACHE")}
        place.mkdir()
        (place / "tmp").mkdir()
        told = {**os.environ, **own, "TMPDIR": str(place / "tmp")}
        with (place / "log").open("wb") as log:
            process = subprocess.Popen([sys.executable, "-m", "ispettore.cli", "worker"], stdout=log, stderr=log, env=told)
        self.application.processes.append(process)
        return process

    def states(self) -> list[str]:
        with transaction() as session:
            return [work.state for work in session.exec(select(Work)).all()]

    def test_one_is_killed_in_mid_job_and_every_job_is_done_once_and_alike(self):
        store = Store(settings().store)
        production = productions.create("Tides", "audiobook-retail")
        brought = []
        for number in range(6):
            wave = signals.voice_like(8, rms_dbfs=-27, rate=RATE, room_dbfs=-76, seed=number)
            path = self.application.folder / f"{number}.wav"
            soundfile.write(path, wave, RATE, subtype="PCM_24")
            brought.append((recordings.add(production, f"{number}.wav", store.put_file(path)), path))
        first, second = self.machine("ebb"), self.machine("flood")
        until(lambda: set(self.states()) == {"done"}, what="every recording to be measured", timeout_s=240)
        attempts = [conformings.ask(recording) for recording, _ in brought]
        until(self.busy_there, what="the first machine to be in the middle of something", timeout_s=120)
        os.kill(first.pid, signal.SIGKILL)
        until(lambda: set(self.states()) == {"done"}, what="everything to be done", timeout_s=300)
        for recording, path in brought:
            with transaction() as session:
                row = session.get_one(Recording, recording)
                [record] = session.exec(select(InspectionRecord).where(InspectionRecord.sha256 == row.sha256)).all()
            found = inspect(path, name=record.data["name"], sha256=row.sha256).inspection.model_dump(mode="json")
            self.assertEqual(found, record.data, "measured there as here")
        keys = KeyFolder(settings().keys)
        for attempt in attempts:
            with transaction() as session:
                made = session.get_one(Conforming, attempt)
                [paper] = session.exec(select(CertificateRecord).where(CertificateRecord.subject_id == attempt)).all()
            self.assertEqual(work_for(attempt).state, WorkState.DONE)
            with store.checked(made.sha256, name=made.file_name) as path:
                told = verification.verify(verification.Paper(paper.sealed), path, name=made.file_name, keys=keys)
            self.assertTrue(told.genuine, told.problems)
        found = scrubbing.check(store, lambda *_: None)
        self.assertEqual(([wrong.of for wrong in found.wrong]), [])
        machines = {worker.machine for worker in standing.operation().workers if worker.alive}
        self.assertEqual(len(machines - {""}), 1, "both have the name of this machine")
        end(second)
        for name in ("ebb", "flood"):
            left = list((self.application.folder / name / "work").glob("*"))
            self.assertLessEqual(len(left), 1 if name == "ebb" else 0, "what the killed one left goes at its next start")

    def busy_there(self) -> bool:
        return any((self.application.folder / "ebb" / "work").glob("*-*"))
