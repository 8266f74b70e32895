"""Work is queued when its transaction commits and never else; its states lead only where the table says; children get typed
requests."""

import inspect
import typing
import unittest
from itertools import product
from unittest.mock import patch
from uuid import uuid4

from pydantic import BaseModel, ValidationError

from ispettore.core.progress import Progress
from ispettore.studio import database, events
from ispettore.studio.database import after_commit, transaction
from ispettore.studio.jobs import queue, retrying, works
from ispettore.studio.jobs.attempts import Superseded
from ispettore.studio.tables import Work, WorkKind, WorkState
from ispettore.studio.worker import computing, requests
from tests.support import Application, work_for


class Jobs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.application = Application().start()
        cls.addClassCleanup(cls.application.stop)

    def asked(self, kind: WorkKind = WorkKind.INSPECT) -> Work:
        """A piece of work that was asked for, and waits."""
        with transaction() as session:
            works.ask(session, kind, subject := uuid4(), of=None)
        return work_for(subject)

    def in_state(self, state: WorkState) -> Work:
        work = self.asked()
        with transaction() as session:
            found = session.get_one(Work, work.id)
            found.state = state
            session.add(found)
        return work

    def stands(self, work: Work) -> Work:
        with transaction() as session:
            return session.get_one(Work, work.id)


class Queueing(Jobs):
    def test_what_is_asked_is_queued_once_when_the_transaction_has_committed(self):
        with patch.object(queue, "put") as put:
            with transaction() as session:
                works.ask(session, WorkKind.INSPECT, subject := uuid4(), of=None)
                put.assert_not_called()
            self.assertEqual([call.args[0].id for call in put.call_args_list], [work_for(subject).id])

    def test_what_is_rolled_back_is_not(self):
        with patch.object(queue, "put") as put, self.assertRaises(KeyError), transaction() as session:
            works.ask(session, WorkKind.INSPECT, subject := uuid4(), of=None)
            raise KeyError
        put.assert_not_called()
        self.assertIsNone(work_for(subject))

    def test_a_queue_that_does_not_answer_loses_nothing(self):
        with patch.object(queue, "put", side_effect=OSError("away")), patch.object(database, "log") as log:
            work = self.asked()
        log.exception.assert_called_once()
        self.assertEqual(work.state, WorkState.WAITING)
        self.assertIn(work.id, retrying.unfinished())

    def test_every_action_after_a_commit_is_taken_though_one_fails(self):
        done: list[int] = []
        with patch.object(database, "log"), transaction() as session:
            after_commit(session, lambda: done.append(1))
            after_commit(session, lambda: done.append(1 // 0))
            after_commit(session, lambda: done.append(2))
            self.assertEqual(done, [])
        self.assertEqual(done, [1, 2])


class States(Jobs):
    def test_each_leads_where_the_table_says_and_nowhere_else(self):
        for before, after in product(WorkState, WorkState):
            with self.subTest(before=before, after=after):
                work = self.in_state(before)
                if after in retrying.MOVES[before]:
                    with transaction() as session:
                        retrying.move(session, session.get_one(Work, work.id), after)
                    self.assertEqual(self.stands(work).state, after)
                else:
                    with self.assertRaises(ValueError), transaction() as session:
                        retrying.move(session, session.get_one(Work, work.id), after)
                    self.assertEqual(self.stands(work).state, before)

    def test_the_table_in_words_and_the_table_are_one(self):
        rows = [line.split("|")[1:3] for line in retrying.__doc__.splitlines() if line.startswith("| ") and "---" not in line][1:]
        told = {
            (before.strip(), after.strip()) for befores, after in rows for before in befores.split(",") if before.strip() != "–"
        }
        self.assertEqual(told, {(str(before), str(after)) for before, afters in retrying.MOVES.items() for after in afters})

    def test_a_try_counts_but_one_that_was_stopped_or_overtaken_does_not(self):
        work = self.asked()
        attempt = retrying.take(work.id)
        self.assertEqual((self.stands(work).state, self.stands(work).attempts), (WorkState.RUNNING, 1))
        retrying.wait_again(attempt)
        self.assertEqual((self.stands(work).state, self.stands(work).attempts), (WorkState.WAITING, 0))
        first, second = retrying.take(work.id), retrying.take(work.id)
        self.assertEqual(self.stands(work).attempts, 2)
        with self.assertRaises(Superseded):
            retrying.end(first, WorkState.FAILED, error="It was not this one's to end.")
        retrying.give_back(first)
        self.assertEqual(self.stands(work).attempts, 1)
        retrying.end(second, WorkState.FAILED, error="The file is empty.")
        ended = self.stands(work)
        self.assertEqual((ended.state, ended.error, ended.stage), (WorkState.FAILED, "The file is empty.", ""))
        self.assertIsNone(retrying.take(work.id))

    def test_after_the_last_try_it_is_given_up(self):
        work = self.asked()
        for _ in range(retrying.MOST_TRIES):
            self.assertIsNotNone(retrying.take(work.id))
        self.assertIsNone(retrying.take(work.id))
        self.assertIn("Stopped after several", self.stands(work).error)

    def test_cancelling_ends_what_waits_asks_what_runs_and_leaves_what_ended(self):
        for state in WorkState:
            work = self.in_state(state)
            works.cancel(work.id)
            found = self.stands(work)
            expected = WorkState.CANCELLED if state == WorkState.WAITING else state
            with self.subTest(state=state):
                self.assertEqual((found.state, found.cancel_asked), (expected, state == WorkState.RUNNING))


class Notices(Jobs):
    def test_a_page_is_told_how_work_stands_in_the_declared_form(self):
        told: list[events.Notice] = []
        with patch.object(events, "tell", side_effect=lambda _session, notice: told.append(notice)):
            work = self.asked(WorkKind.CONFORM)
            retrying.take(work.id)
        self.assertEqual([(one.about, one.state) for one in told][:2], [("conform", "waiting"), ("conform", "running")])
        self.assertEqual(told[-1].stage, "Starting")
        self.assertEqual(events.Notice.model_validate_json(told[-1].model_dump_json()), told[-1])


class Children(unittest.TestCase):
    """Nothing untyped crosses to a child: each function takes one frozen request and gives one model."""

    def test_each_kind_of_work_has_a_request_and_an_answer(self):
        for compute in (computing.inspected, computing.conformed, computing.verified):
            with self.subTest(compute=compute.__name__):
                hints = typing.get_type_hints(compute)
                request, progress, answer = hints.values()
                self.assertEqual(list(inspect.signature(compute).parameters), ["request", "progress"])
                self.assertTrue(issubclass(request, BaseModel) and request.model_config.get("frozen"), request)
                self.assertEqual(progress, Progress)
                self.assertTrue(issubclass(answer, BaseModel), answer)

    def test_a_request_can_neither_be_misspelt_nor_changed(self):
        source = requests.SourceFile(path="a.wav", name="a.wav", sha256="0" * 64)
        with self.assertRaises(ValidationError):
            source.name = "b.wav"
        with self.assertRaises(ValidationError):
            requests.InspectRequest(source=source)
        with self.assertRaises(ValidationError):
            requests.InspectRequest(source=source, folder=".", room_tone="1-2")


if __name__ == "__main__":
    unittest.main()
