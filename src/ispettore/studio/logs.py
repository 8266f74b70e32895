"""The log: one line an event, plain tracebacks without the values in them (which might be audio, keys or what is in a row)."""

import logging
import re
import sys
import traceback
from typing import TextIO

import structlog

VALUES = re.compile(r"^(DETAIL|CONTEXT|\[parameters): .*$|\(\(?psycopg[^\n]*\) [^\n]*=\([^\n]*$|^LINE \d+: .*$", re.MULTILINE)
"""What the database adds to its errors: the rows, parameters and statements they are about."""


def without_values(text: str) -> str:
    """A traceback without what the database says of values.

    >>> without_values("UniqueViolation: duplicate key\\nDETAIL:  Key (name)=(secret) already exists.")
    'UniqueViolation: duplicate key\\n(values left out)'
    """
    return VALUES.sub("(values left out)", text)


def _plain_traceback(out: TextIO, exc_info: structlog.typing.ExcInfo) -> None:
    out.write("\n" + without_values("".join(traceback.format_exception(*exc_info)).rstrip()))


class _WithoutValues(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        return without_values(super().format(record))


def configure() -> None:
    """Set up logging for a process."""
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="%Y-%m-%d %H:%M:%S", utc=True),
            structlog.dev.ConsoleRenderer(colors=False, exception_formatter=_plain_traceback),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )
    handler = logging.StreamHandler()
    handler.setFormatter(_WithoutValues("%(asctime)s [%(levelname)s] %(name)s: %(message)s"))
    logging.basicConfig(level=logging.WARNING, handlers=[handler])
