"""Who is next: everybody's work takes turns, what somebody looks at goes first, and no worker takes what it does not understand."""

import asyncio
import socket
import threading
import unittest
from contextlib import suppress
from unittest.mock import patch
from uuid import UUID, uuid4

from procrastinate.worker import Worker
from sqlmodel import select
from structlog.testing import capture_logs

from ispettore.core.certify.certificate import issuer
from ispettore.studio.catalogue import productions
from ispettore.studio.database import transaction
from ispettore.studio.jobs import queue, retrying, turns, works
from ispettore.studio.operating import standing
from ispettore.studio.tables import FORM, Work, WorkKind, WorkState
from ispettore.studio.who import RIGHTS, Who, acting
from ispettore.studio.worker import process
from tests.support import Application, until


class Turns(unittest.TestCase):
    def setUp(self):
        self.application = Application().start()
        self.addCleanup(self.application.stop)
        self.productions = {name: productions.create(name, "audiobook-retail") for name in ("Tides", "Mills", "Fog")}
        self.named: dict[UUID, str] = {}
        self.stop = threading.Event()

    def ask(self, production: str, count: int, kind: WorkKind = WorkKind.DELIVER, *, by: str = "") -> None:
        with acting(Who(way="work", rights=RIGHTS, name=by)), transaction() as session:
            for _ in range(count):
                works.ask(session, kind, uuid4(), of=None, production_id=self.productions[production])
                session.flush()
        with transaction() as session:
            for work in session.exec(select(Work).order_by(Work.created_at)).all():
                self.named.setdefault(work.id, f"{production}{' ' + by if by else ''} {kind}")

    def order(self, count: int, *, serve: bool = True) -> list[str]:
        """What workers take next, one after another, as the queue gives it out."""
        served: list[str] = []

        async def fetch() -> None:
            app = process.build(retrying.Hands())
            async with app.open_async():
                worker = await app.job_manager.register_worker()
                for _ in range(count):
                    job = await app.job_manager.fetch_job(queues=queue.QUEUES, worker_id=worker)
                    if job is None:
                        return
                    work_id = UUID(str(job.task_kwargs["work_id"]))
                    served.append(self.named[work_id])
                    attempt = await asyncio.to_thread(retrying.take, work_id)
                    if serve:
                        await asyncio.to_thread(retrying.end, attempt, WorkState.CANCELLED)
                        await app.job_manager.finish_job(job, status=retrying.Status.SUCCEEDED, delete_job=True)

        asyncio.run(fetch())
        return served

    def test_productions_take_turns_however_much_each_asked_for(self):
        self.ask("Tides", 6)
        self.ask("Mills", 2)
        self.assertEqual(self.order(3), ["Tides deliver", "Mills deliver", "Tides deliver"])
        self.ask("Fog", 2)
        self.assertEqual(
            sorted(self.order(3)), ["Fog deliver", "Mills deliver", "Tides deliver"], "who comes last waits for one of each"
        )
        self.assertEqual(self.order(9)[:2].count("Fog deliver"), 1)

    def test_people_take_turns_within_a_production(self):
        self.ask("Tides", 4, by="Ilse")
        self.ask("Tides", 2, by="Jon")
        self.assertEqual(
            self.order(9),
            ["Tides Ilse deliver", "Tides Jon deliver"] * 2 + ["Tides Ilse deliver"] * 2,
        )

    def test_what_somebody_looks_at_goes_before_the_rest_two_at_a_time(self):
        self.ask("Tides", 5, WorkKind.CONFORM)
        self.assertEqual(self.order(2), ["Tides conform"] * 2)
        self.ask("Mills", 3)
        self.ask("Tides", 1, WorkKind.PLAN)  # while three of the five still wait
        self.ask("Mills", 1, WorkKind.VERIFY)
        self.assertEqual(sorted(self.order(2)), ["Mills verify", "Tides plan"])
        self.assertEqual(self.order(2), ["Tides conform", "Mills deliver"])

    def test_a_plan_asked_for_just_after_a_hundred_conformings_is_not_behind_them(self):
        self.ask("Tides", 100, WorkKind.CONFORM)
        self.ask("Tides", 3, WorkKind.PLAN)
        first = self.order(5)
        self.assertEqual(first[:4].count("Tides plan"), 2, first)
        self.assertEqual(first[4], "Tides conform", "the third plan waits like everything else")

    def test_somebody_new_does_not_starve_who_waits_for_long(self):
        self.ask("Tides", 3)
        self.assertEqual(self.order(2), ["Tides deliver"] * 2)
        for _ in range(5):  # ever new ones, before the third is done
            self.ask("Fog", 1)
        self.assertIn("Tides deliver", self.order(2))

    def test_a_lost_job_is_queued_again_in_its_turn(self):
        self.ask("Tides", 2)
        with transaction() as session:
            [first, second] = session.exec(select(Work).order_by(Work.turn)).all()
        self.assertEqual((first.turn + 1, turns.priority(first)), (second.turn, -first.turn))
        self.assertEqual(self.order(1, serve=False), ["Tides deliver"])

        async def lost() -> int:
            app = process.build(retrying.Hands())
            async with app.open_async():
                return await retrying.rescue(app, retrying.Hands(), stalled_after_s=0)

        self.assertEqual(asyncio.run(lost()), 1)
        self.assertEqual(self.order(1), ["Tides deliver"])
        with transaction() as session:
            self.assertEqual(session.get_one(Work, first.id).state, WorkState.CANCELLED)

    def test_a_worker_takes_nothing_that_a_newer_version_asked_for_and_the_operator_is_told(self):
        with patch.object(works, "Work", lambda **told: Work(**told, form=FORM + 1)):
            self.ask("Tides", 1)
        self.ask("Mills", 1)
        self.assertEqual(self.order(5), ["Mills deliver"])
        [workers] = [part for part in standing.ready().parts if part.name == "Workers"]
        self.assertIn("1 piece of work was asked for by a newer version", workers.told)

    def test_a_worker_is_seen_before_its_first_work_and_says_what_it_does_not_understand(self):
        with patch.object(works, "Work", lambda **told: Work(**told, form=FORM + 1)):
            self.ask("Tides", 2)
        with capture_logs() as said:
            working = threading.Thread(target=self.work_for_a_while)
            working.start()
            try:
                until(lambda: self.seen() and said, what="the worker to show up")
                [here] = self.seen()
            finally:
                self.stop.set()
                working.join()
        self.assertEqual((here.machine, here.software, here.older, here.alive), (socket.gethostname(), issuer(), False, True))
        newer = [line for line in said if line["event"].startswith("work waits that this version does not understand")]
        self.assertEqual([(line["works"], line["log_level"], line["software"]) for line in newer], [(2, "warning", issuer())])

    def seen(self) -> list[standing.WorkerLine]:
        with transaction() as session:
            return [one for one in standing.workers(session) if one.machine]

    def work_for_a_while(self) -> None:
        """A worker as it runs, until it is stopped."""

        async def stopped() -> None:
            with patch.object(process, "Worker", lambda app, **how: Worker(app, **how | {"install_signal_handlers": False})):
                running = asyncio.create_task(process.main())
                await asyncio.to_thread(self.stop.wait)
                running.cancel()
                with suppress(asyncio.CancelledError):
                    await running

        asyncio.run(stopped())

    def test_the_form_of_work_is_the_newest_step_of_the_schema(self):
        from alembic.script import ScriptDirectory

        from ispettore.studio.database import alembic_config

        self.assertEqual(f"{FORM:04}", ScriptDirectory.from_config(alembic_config()).get_current_head())
        self.assertIn(f"work-{FORM}", queue.QUEUES)
        self.assertIn("default", queue.QUEUES, "what waits from before there were forms is done as well")
