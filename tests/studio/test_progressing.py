"""How far a production is as a whole: what belongs to a lot, and how long it will take still."""

import unittest
from datetime import timedelta
from unittest.mock import patch
from uuid import UUID

from ispettore.studio.catalogue import productions, progressing
from ispettore.studio.database import transaction
from ispettore.studio.tables import Conforming, Recording, Work, WorkKind, WorkState, now
from tests.support import ApplicationCase


class Lots(ApplicationCase):
    def setUp(self):
        self.production: UUID = productions.create("Almanac", "audiobook-retail")
        self.at = now()

    def work(
        self, size: int, state: WorkState, *, fraction: float = 0.0, asked_s: float = 0.0, ended_s: float | None = None
    ) -> None:
        """Conforming of a recording so large, asked for and ended so many seconds after the lot began."""
        with transaction() as session:
            recording = Recording(production_id=self.production, position=1, name="x.wav", sha256="0" * 64, size_bytes=size)
            session.add(recording)
            session.flush()
            attempt = Conforming(recording_id=recording.id, specification={}, preference="light", container="mp3")
            session.add(attempt)
            session.flush()
            made = self.at + timedelta(seconds=asked_s)
            ended = self.at + timedelta(seconds=ended_s) if ended_s is not None else None
            work = Work(kind=WorkKind.CONFORM, subject_id=attempt.id, production_id=self.production, state=state, fraction=fraction)
            work.recording_id = recording.id
            work.created_at, work.finished_at = made, ended
            session.add(work)

    def lot(self, after_s: float):
        with patch.object(progressing, "now", return_value=self.at + timedelta(seconds=after_s)), transaction() as session:
            return progressing.lot(session, self.production)

    def test_nothing_under_way_is_no_lot(self):
        self.assertIsNone(self.lot(10))
        self.work(100, WorkState.DONE, ended_s=4)
        self.assertIsNone(self.lot(10))

    def test_time_left_goes_by_what_was_done_in_the_time_since(self):
        self.work(100, WorkState.DONE, ended_s=10)
        self.work(100, WorkState.FAILED, ended_s=20)
        self.work(200, WorkState.RUNNING, fraction=0.5)
        self.work(300, WorkState.WAITING)
        found = self.lot(30)
        self.assertEqual((found.total, found.done, found.failed), (4, 2, 1))
        self.assertAlmostEqual(found.fraction, 300 / 700)
        self.assertAlmostEqual(found.left_s, 400 * 30 / 300)

    def test_before_anything_is_done_nothing_is_said_of_the_time(self):
        self.work(100, WorkState.WAITING)
        self.assertEqual((self.lot(30).left_s, self.lot(30).fraction), (None, 0.0))
        self.work(100, WorkState.RUNNING, fraction=0.5)
        self.assertIsNone(self.lot(1).left_s)
        self.assertAlmostEqual(self.lot(30).left_s, 150 * 30 / 50)

    def test_what_ended_before_is_another_lot(self):
        self.work(500, WorkState.DONE, asked_s=-100, ended_s=-50)
        self.work(100, WorkState.WAITING)
        found = self.lot(30)
        self.assertEqual((found.total, found.done), (1, 0))


if __name__ == "__main__":
    unittest.main()
