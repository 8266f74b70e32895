"""The log: one line an event, tracebacks without the values in them (which might be audio, keys or what is in a row)."""

import json
import logging
import re
import sys
import traceback
from datetime import UTC, datetime
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


def _traceback(_logger: object, _name: str, line: structlog.typing.EventDict) -> structlog.typing.EventDict:
    """The exception as text, for a line of JSON."""
    told = structlog.processors.format_exc_info(_logger, _name, line)
    if "exception" in told:
        told["exception"] = without_values(str(told["exception"]))
    return told


class _WithoutValues(logging.Formatter):
    """What libraries say, in the same form."""

    def __init__(self, *, plain: bool) -> None:
        super().__init__("%(asctime)s [%(levelname)s] %(name)s: %(message)s")
        self._plain = plain

    def format(self, record: logging.LogRecord) -> str:
        if self._plain:
            return without_values(super().format(record))
        line = {"event": record.getMessage(), "level": record.levelname.lower(), "logger": record.name}
        when = datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
        told = {"exception": self.formatException(record.exc_info)} if record.exc_info else {}
        said = {key: without_values(text) for key, text in {**line, **told}.items()}
        return json.dumps({**said, **structlog.contextvars.get_contextvars(), "timestamp": when}, default=str)


def configure() -> None:
    """Set up logging for a process: for a terminal what needs somebody's attention, in plain words; else one JSON object a line,
    with the request or the work that it is about."""
    plain = sys.stderr.isatty()
    shared: list[structlog.typing.Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="%Y-%m-%d %H:%M:%S" if plain else "iso", utc=True),
    ]
    rendered: list[structlog.typing.Processor] = (
        [structlog.dev.ConsoleRenderer(colors=False, exception_formatter=_plain_traceback)]
        if plain
        else [_traceback, structlog.processors.JSONRenderer(default=str)]
    )
    structlog.configure(
        processors=[*shared, *rendered],
        wrapper_class=structlog.make_filtering_bound_logger(logging.WARNING if plain else logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )
    handler = logging.StreamHandler()
    handler.setFormatter(_WithoutValues(plain=plain))
    logging.basicConfig(level=logging.WARNING, handlers=[handler])
