"""How far a command is, on a terminal and only there."""

import os
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager

from ispettore.core.progress import Progress, no_progress

AFTER_S = 1.0
"""What is done sooner is not told of."""


@contextmanager
def shown(name: str, *, quiet: bool) -> Iterator[Progress]:
    """A line on the terminal that is written to beside the output, with the stage and how far it is; gone when left."""
    if quiet or not sys.stderr.isatty() or os.environ.get("TERM") == "dumb":
        yield no_progress
        return
    from rich.console import Console
    from rich.progress import BarColumn, TaskProgressColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Line

    columns = (TextColumn("{task.description}"), BarColumn(bar_width=24), TaskProgressColumn(), TimeRemainingColumn(compact=True))
    line = Line(*columns, console=Console(stderr=True), transient=True)
    task = line.add_task(name, total=1.0)
    began = time.monotonic()

    def told(stage: str, fraction: float) -> None:
        if not line.live.is_started and time.monotonic() - began >= AFTER_S:
            line.start()
        line.update(task, description=f"{name}: {stage.lower()}", completed=fraction)

    try:
        yield told
    finally:
        if line.live.is_started:
            line.stop()
