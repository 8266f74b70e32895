"""Work is queued when its transaction commits and never else; its states lead only where the table says; children get typed
requests."""

import errno
import inspect
import typing
import unittest
from itertools import product
from unittest.mock import Mock, patch
from uuid import uuid4

import psycopg
from pydantic import BaseModel, ValidationError

from ispettore.core.errors import FileUnreadable
from ispettore.core.progress import Progress
from ispettore.studio import database, events
from ispettore.studio.database import after_commit, transaction
from ispettore.studio.jobs import queue, retrying, works
from ispettore.studio.jobs.attempts import Superseded
from ispettore.studio.store import disk
from ispettore.studio.tables import Work, WorkKind, WorkState
from ispettore.studio.worker import computing, doing, requests
from tests.support import ApplicationCase, work_for


class Jobs(ApplicationCase):
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


class WhatTheMachineRefuses(Jobs):
    """A disk that is full or can't be written to, and descriptors that ran out, are not the work's fault and pass."""

    def test_work_waits_says_for_what_and_is_done_by_itself_later(self):
        for error, said in (
            (disk.NoRoomLeft(file="a.wav"), "Waiting for room on the disk"),
            (disk.StoreReadOnly(file="a.wav"), "Waiting until the disk can be written to"),
            (OSError(errno.EMFILE, "Too many open files"), "Waiting until this machine can open files"),
        ):
            work = self.asked()
            told: list[events.Notice] = []
            with (
                self.subTest(said=said),
                patch.object(events, "tell", side_effect=lambda _session, notice, told=told: told.append(notice)),
                patch.object(queue, "put") as put,
                patch.object(doing, "log"),
                patch.dict(doing._KINDS, {WorkKind.INSPECT: Mock(side_effect=error)}),
            ):
                doing.do(work.id, Mock())
                found = self.stands(work)
                self.assertEqual((found.state, found.stage, found.error, found.attempts), (WorkState.WAITING, said, None, 1))
                self.assertEqual((told[-1].state, told[-1].stage), ("waiting", said))
                self.assertEqual([(call.args[0].id, call.kwargs) for call in put.call_args_list], [(work.id, {"in_s": 10})])

    def test_it_is_taken_up_when_the_time_has_come_and_not_before(self):
        work = self.asked()
        with psycopg.connect(database.plain_url()) as connection:
            connection.execute(f"SET search_path = {queue.SCHEMA}")
            connection.execute("DELETE FROM procrastinate_jobs WHERE lock = %s", [str(work.id)])
            connection.commit()
            queue.put(work, in_s=3600)
            queue.put(work)  # waits already: not once more
            waits = "SELECT scheduled_at - now() FROM procrastinate_jobs WHERE lock = %s"
            found = connection.execute(waits, [str(work.id)]).fetchall()
        self.assertEqual([round(in_time.total_seconds() / 60) for (in_time,) in found], [60])

    def test_after_the_last_try_it_fails_with_the_reason(self):
        work = self.asked()
        error = disk.NoRoomLeft(file="a.wav")
        with patch.object(doing, "log"), patch.dict(doing._KINDS, {WorkKind.INSPECT: Mock(side_effect=error)}):
            for _ in range(retrying.MOST_TRIES):
                self.assertNotEqual(self.stands(work).state, WorkState.FAILED)
                doing.do(work.id, Mock())
        self.assertEqual((self.stands(work).state, self.stands(work).error), (WorkState.FAILED, error.sentence))

    def test_a_person_need_not_wait_for_it(self):
        work = self.asked()
        with patch.object(doing, "log"), patch.dict(doing._KINDS, {WorkKind.INSPECT: Mock(side_effect=disk.NoRoomLeft(file="a"))}):
            doing.do(work.id, Mock())
        works.cancel(work.id)
        self.assertEqual(self.stands(work).state, WorkState.CANCELLED)

    def test_what_is_wrong_with_the_file_or_the_program_is_said_at_once(self):
        for error, said in ((FileUnreadable(file="a.wav", reason="it is empty"), "a.wav"), (OSError(errno.EIO, "?"), "Something")):
            work = self.asked()
            with patch.object(doing, "log"), patch.dict(doing._KINDS, {WorkKind.INSPECT: Mock(side_effect=error)}):
                doing.do(work.id, Mock())
            self.assertEqual(self.stands(work).state, WorkState.FAILED)
            self.assertIn(said, self.stands(work).error)


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
