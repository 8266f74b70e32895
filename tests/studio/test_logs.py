"""The log names what went wrong, never what stood in the rows."""

import io
import json
import logging
import sys
import unittest
from unittest import mock

import structlog
from sqlalchemy import text
from sqlalchemy.exc import IntegrityError
from structlog.contextvars import bound_contextvars

from ispettore.studio import logs
from ispettore.studio.database import transaction
from tests.support import ApplicationCase

SECRET = "a passage nobody has read yet"


class Logs(ApplicationCase):
    def failed(self) -> IntegrityError:
        """A real error of the database about a row with a secret in it."""
        with self.assertRaises(IntegrityError) as raised, transaction() as session:
            session.execute(text("CREATE TEMPORARY TABLE notes (name text UNIQUE)"))
            for _ in range(2):
                session.execute(text("INSERT INTO notes VALUES (:name)"), {"name": SECRET})
        return raised.exception

    def written(self, *, terminal: bool) -> str:
        """What is written of a real error, by us and by a library, and of something that only happened."""
        error, out = self.failed(), io.StringIO()
        self.addCleanup(structlog.reset_defaults)
        with mock.patch.object(sys.stderr, "isatty", lambda: terminal, create=True):
            logs.configure()
        structlog.configure(logger_factory=structlog.PrintLoggerFactory(out))
        with bound_contextvars(work="17"):
            log = structlog.get_logger()
            log.info("work started")
            log.error("work failed", exc_info=error)
            exception = (type(error), error, error.__traceback__)
            record = logging.LogRecord("worker", logging.ERROR, __file__, 1, "job failed", None, exception)
            out.write(logs._WithoutValues(plain=terminal).format(record))
        return out.getvalue()

    def test_no_value_of_a_row_is_written(self):
        for terminal in (True, False):
            with self.subTest(terminal=terminal):
                told = self.written(terminal=terminal)
                self.assertEqual(told.count("UniqueViolation"), 4, told)
                self.assertNotIn(SECRET, told)

    def test_a_terminal_is_told_what_needs_attention_and_anything_else_gets_lines_of_json(self):
        plain = self.written(terminal=True)
        self.assertNotIn("work started", plain)
        self.assertIn("[error    ] work failed", plain)
        lines = [json.loads(line) for line in self.written(terminal=False).splitlines()]
        self.assertEqual([line["event"] for line in lines], ["work started", "work failed", "job failed"])
        self.assertEqual({line["work"] for line in lines}, {"17"})
        for line in lines:
            self.assertRegex(line["timestamp"], r"^\d{4}-\d\d-\d\dT[\d:.]+Z$")

    def test_the_servers_own_log_holds_none_either(self):
        self.failed()
        log = (self.application.cluster.folder / "server.log").read_text()
        self.assertIn("duplicate key value", log)
        self.assertNotIn(SECRET, log)


if __name__ == "__main__":
    unittest.main()
