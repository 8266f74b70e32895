"""Connections to the database that break or half close, and what is told of a server that went without a word."""

import unittest
from uuid import uuid4

import psycopg
from psycopg.conninfo import conninfo_to_dict
from sqlmodel import select

from ispettore.studio.catalogue import productions
from ispettore.studio.database import GONE, engine, plain_url, transaction
from ispettore.studio.settings import settings
from ispettore.studio.tables import Production
from tests.relay import Relay
from tests.support import Application, in_environment


class Connections(unittest.TestCase):
    def setUp(self):
        self.application = Application().start()
        self.addCleanup(self.application.stop)
        before = settings().database_url
        self.relay = Relay(self.application.cluster.port)
        self.addCleanup(self.relay.close)
        through = before.replace(f":{self.application.cluster.port}/", f":{self.relay.port}/")
        self.enterContext(in_environment(ISPETTORE_DATABASE_URL=through))
        self.addCleanup(lambda: engine().dispose())

    def names(self) -> list[str]:
        with transaction() as session:
            return sorted(session.exec(select(Production.name)).all())

    def test_after_each_way_of_breaking_the_next_question_is_answered(self):
        productions.create("Tides", "audiobook-retail")
        for break_off in (
            lambda: self.relay.half_close(towards_server=True),
            lambda: self.relay.half_close(towards_server=False),
            self.relay.reset,
        ):
            break_off()
            self.assertEqual(self.names(), ["Tides"])

    def test_a_transaction_that_is_cut_in_half_leaves_nothing(self):
        for towards_server in (True, False):
            with self.assertRaises(GONE), transaction() as session:
                session.add(Production(id=uuid4(), name="Half", specification={}))
                session.flush()
                self.relay.half_close(towards_server=towards_server)
                self.relay.reset()
            self.assertEqual(self.names(), [])

    def test_a_server_that_went_without_a_word_is_missed_within_half_a_minute(self):
        """Every way to the database asks its kernel to look after the other side."""
        told = conninfo_to_dict(plain_url())
        self.assertLess(int(told["keepalives_idle"]) + int(told["keepalives_interval"]) * int(told["keepalives_count"]), 30)
        with engine().connect() as connection:
            info = connection.connection.dbapi_connection.info.get_parameters()
        self.assertEqual((info["keepalives_idle"], info["tcp_user_timeout"]), ("10", "25000"))
        with psycopg.connect(plain_url()) as connection:
            self.assertEqual(connection.info.get_parameters()["tcp_user_timeout"], "25000")
