"""This installation's database, for commands that need it: as it is set, or our own, started for as long as they take."""

import os
from collections.abc import Iterator
from contextlib import contextmanager

from ispettore.studio.database import engine
from ispettore.studio.running.launching import own_cluster
from ispettore.studio.settings import settings


@contextmanager
def database() -> Iterator[None]:
    """Raises what starting the database raises."""
    if "ISPETTORE_DATABASE_URL" in os.environ:
        yield
        return
    cluster = own_cluster()
    ran = cluster.running()
    cluster.start()
    os.environ["ISPETTORE_DATABASE_URL"] = cluster.url
    settings.cache_clear()
    engine.cache_clear()
    try:
        yield
    finally:
        engine().dispose()
        if not ran:
            cluster.stop()
