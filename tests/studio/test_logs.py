"""The log names what went wrong, never what stood in the rows."""

import io
import logging
import unittest

import structlog
from sqlalchemy import text
from sqlalchemy.exc import IntegrityError

from ispettore.studio import logs
from ispettore.studio.database import transaction
from tests.support import Application

SECRET = "a passage nobody has read yet"


class Logs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.application = Application().start()
        cls.addClassCleanup(cls.application.stop)

    def failed(self) -> IntegrityError:
        """A real error of the database about a row with a secret in it."""
        with self.assertRaises(IntegrityError) as raised, transaction() as session:
            session.execute(text("CREATE TEMPORARY TABLE notes (name text UNIQUE)"))
            for _ in range(2):
                session.execute(text("INSERT INTO notes VALUES (:name)"), {"name": SECRET})
        return raised.exception

    def test_no_value_of_a_row_is_written(self):
        error = self.failed()
        out = io.StringIO()
        logs.configure()
        self.addCleanup(structlog.reset_defaults)
        structlog.configure(logger_factory=structlog.PrintLoggerFactory(out))
        structlog.get_logger().error("work failed", exc_info=error)
        record = logging.LogRecord(
            "worker", logging.ERROR, __file__, 1, "job failed", None, (type(error), error, error.__traceback__)
        )
        out.write(logs._WithoutValues("%(message)s").format(record))
        self.assertEqual(out.getvalue().count("UniqueViolation"), 4, out.getvalue())
        self.assertNotIn(SECRET, out.getvalue())

    def test_the_servers_own_log_holds_none_either(self):
        self.failed()
        log = (self.application.cluster.folder / "server.log").read_text()
        self.assertIn("duplicate key value", log)
        self.assertNotIn(SECRET, log)


if __name__ == "__main__":
    unittest.main()
