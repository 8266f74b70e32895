"""What changed, as it changes: PostgreSQL's notifications passed on to every open page as server-sent events."""

import asyncio
import contextlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import psycopg
import structlog

from ispettore.studio.database import plain_url
from ispettore.studio.events import CHANNEL, Notice

log = structlog.get_logger()
RETRY_S = 1.0
EVERYTHING = Notice(about="everything").model_dump_json()


class Live:
    """One listening connection for the process; a queue for each page."""

    def __init__(self) -> None:
        self._pages: set[asyncio.Queue[str]] = set()

    @asynccontextmanager
    async def listening(self) -> AsyncIterator[None]:
        task = asyncio.create_task(self._listen())
        try:
            yield
        finally:
            task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await task

    async def _listen(self) -> None:
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(plain_url(), autocommit=True) as connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    # Something may have been missed while nobody listened.
                    self._tell(EVERYTHING)
                    async for notice in connection.notifies():
                        self._tell(notice.payload)
            except psycopg.OperationalError:
                log.warning("the database does not answer; trying again")
            await asyncio.sleep(RETRY_S)

    def _tell(self, message: str) -> None:
        for page in list(self._pages):
            if page.full():
                # A page that does not keep up starts over with everything.
                while not page.empty():
                    page.get_nowait()
                message = EVERYTHING
            page.put_nowait(message)

    async def messages(self) -> AsyncIterator[str]:
        """Messages for one page, until it goes away. The first asks for everything: what changed before was told to nobody here."""
        page: asyncio.Queue[str] = asyncio.Queue(maxsize=500)
        self._pages.add(page)
        try:
            yield EVERYTHING
            while True:
                yield await page.get()
        finally:
            self._pages.discard(page)
