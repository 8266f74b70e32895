"""A production that is conformed as one sound while its workers are killed: nothing is lost, and nothing is done twice."""

import os
import signal
import unittest

import soundfile
from sqlmodel import select

from ispettore.studio.catalogue import forecasts, productions, recordings, sheets
from ispettore.studio.catalogue.forecast_views import Approach
from ispettore.studio.database import transaction
from ispettore.studio.tables import Conforming, WorkState
from ispettore.studio.worker.doing import do
from tests import signals
from tests.support import Application, until, work_for


class Killed(unittest.TestCase):
    def setUp(self):
        self.application = Application().start()
        self.addCleanup(self.application.stop)
        self.production = productions.create("Almanac", "audiobook-retail")

    def test_workers_killed_in_mid_production_lose_nothing_and_do_nothing_twice(self):
        chapters = []
        for number in range(8):
            path = self.application.folder / f"{number}.wav"
            level = -20.0 - 2 * number
            soundfile.write(path, signals.voice_like(10, rms_dbfs=level, rate=16_000, room_dbfs=level - 46, seed=number), 16_000)
            chapters.append(recordings.add(self.production, path.name, self.application.store.put_file(path)))
            do(work_for(chapters[-1]).id, self.application.store)
        approach = Approach(one_sound=True)
        asked = forecasts.run(self.production, approach).asked
        self.assertEqual(len(asked), len(chapters))

        def ended() -> int:
            return sum(work_for(one).state == WorkState.DONE for one in asked)

        for after in (1, 3):
            workers = [self.application.worker(), self.application.worker()]
            until(lambda after=after: ended() >= after, what="some to be done")
            until(lambda: any(work_for(one).state == WorkState.RUNNING for one in asked), what="one to be in hand")
            for process in workers:
                os.kill(process.pid, signal.SIGKILL)
                process.wait()
        self.assertLess(ended(), len(asked), "killed in the middle")
        again = forecasts.run(self.production, approach)
        self.assertEqual((again.asked, set(again.settled)), ([], set(asked)), "what waits or is in hand is not asked for twice")
        self.application.worker()
        until(lambda: ended() == len(asked), what="the rest to be done")
        with transaction() as session:
            attempts = session.exec(select(Conforming)).all()
            self.assertEqual({one.recording_id for one in attempts}, set(chapters))
            self.assertEqual(len(attempts), len(chapters))
            self.assertTrue(all(one.certificate_id for one in attempts))
            levels = [one.outcome["after"]["readings"]["active_speech_level_dbfs"]["value"] for one in attempts]
        self.assertLess(max(levels) - min(levels), 1.0)
        settled = forecasts.run(self.production, approach)
        self.assertEqual((settled.asked, len(settled.settled)), ([], len(chapters)))
        self.assertIsNone(sheets.sheet(self.production).lot)


if __name__ == "__main__":
    unittest.main()
