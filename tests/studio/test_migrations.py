"""The schema goes up, down, and up again, and is what the tables say."""

import tempfile
import unittest
from pathlib import Path

from alembic import command
from sqlalchemy import inspect

from ispettore.studio.database import alembic_config, engine, migrate
from tests.support import Application


class Migrations(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.application = Application().start()
        cls.addClassCleanup(cls.application.stop)

    def test_up_down_and_up_again(self):
        self.assertIn("recording", inspect(engine()).get_table_names())
        command.downgrade(alembic_config(), "base")
        self.assertEqual(inspect(engine()).get_table_names(), ["alembic_version"])
        self.assertNotIn("queue", inspect(engine()).get_schema_names())
        migrate()
        self.assertIn("recording", inspect(engine()).get_table_names())
        self.assertIn("procrastinate_jobs", inspect(engine()).get_table_names(schema="queue"))

    def test_the_tables_are_what_the_migrations_make(self):
        command.check(alembic_config())

    def test_the_cluster_listens_on_loopback_alone_and_asks_for_a_password(self):
        data = Path(self.application.cluster.folder) / "data"
        lines = (data / "postmaster.pid").read_text().splitlines()
        self.assertEqual(lines[5].strip(), "127.0.0.1")
        self.assertIn("scram-sha-256", (data / "pg_hba.conf").read_text())
        self.assertFalse(any(Path(tempfile.gettempdir()).glob(f".s.PGSQL.{self.application.cluster.port}")))
