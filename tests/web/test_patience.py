"""Heads of requests that come too slowly: the connection is closed, and nobody else waits."""

import asyncio
import contextlib
import unittest
from unittest import mock

import uvicorn

from ispettore.web import patience, serving

SOON_S = 0.6
HEAD = b"GET / HTTP/1.1\r\nhost: here\r\n"


async def echo(scope, receive, send):
    """Answers with what was sent."""
    body, more = b"", scope["type"] == "http"
    while more:
        message = await receive()
        body, more = body + message.get("body", b""), message.get("more_body", False)
    if scope["type"] == "http":
        headers = [(b"content-length", str(len(body)).encode())]
        await send({"type": "http.response.start", "status": 200, "headers": headers})
        await send({"type": "http.response.body", "body": body})


class Patience(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.enterContext(mock.patch.object(patience, "HEAD_WITHIN_S", SOON_S))
        config = uvicorn.Config(echo, http=patience.PatientProtocol, port=0, log_level="error", lifespan="off")
        self.server = uvicorn.Server(config)
        self.task = asyncio.create_task(self.server.serve())
        while not self.server.started:
            await asyncio.sleep(0.01)
        self.port = self.server.servers[0].sockets[0].getsockname()[1]

    async def asyncTearDown(self):
        self.server.should_exit = True
        await self.task

    async def opened(self):
        return await asyncio.open_connection("127.0.0.1", self.port)

    async def drip(self, writer, content: bytes) -> None:
        """A byte at a time, each well within the time for all."""
        try:
            for byte in content:
                writer.write(bytes([byte]))
                await writer.drain()
                await asyncio.sleep(SOON_S / 6)
        except ConnectionError:
            pass

    async def test_a_connection_that_says_nothing_is_closed(self):
        reader, _ = await self.opened()
        self.assertEqual(await reader.read(), b"")

    async def test_a_head_that_drips_is_ended_however_steadily_it_comes(self):
        reader, writer = await self.opened()
        dripping = asyncio.create_task(self.drip(writer, HEAD))
        others, more = await self.opened()
        more.write(HEAD + b"\r\n")
        self.assertTrue((await others.readuntil(b"\r\n\r\n")).startswith(b"HTTP/1.1 200"), "nobody else waits for it")
        self.assertEqual(await reader.read(), patience.TOO_SLOW)
        dripping.cancel()

    async def test_the_answer_arrives_while_bytes_still_come_and_then_the_connection_ends(self):
        async def told() -> bytes:
            reader, writer = await self.opened()
            writer.write(HEAD + b"x: ")
            pouring = asyncio.create_task(self.pour(writer))
            found = await reader.read()
            await asyncio.wait_for(pouring, patience.LINGER_S + 30)
            return found

        self.assertEqual(set(await asyncio.gather(*(told() for _ in range(20)))), {patience.TOO_SLOW})

    async def pour(self, writer) -> None:
        """Bytes without a pause, until the other side takes no more."""
        with contextlib.suppress(ConnectionError):
            while True:
                writer.write(b"y")
                await writer.drain()
                await asyncio.sleep(0.002)

    async def test_a_slow_body_is_not_its_business_nor_a_slow_answer(self):
        reader, writer = await self.opened()
        writer.write(b"POST / HTTP/1.1\r\nhost: here\r\ncontent-length: 12\r\n\r\n")
        await self.drip(writer, b"a slow body.")
        self.assertTrue((await reader.readuntil(b"body.")).startswith(b"HTTP/1.1 200"))

    async def test_every_head_on_a_connection_has_its_time(self):
        reader, writer = await self.opened()
        for number in range(3):
            writer.write(HEAD + b"\r\n")
            self.assertTrue((await reader.readuntil(b"\r\n\r\n")).startswith(b"HTTP/1.1 200"), number)
            await asyncio.sleep(SOON_S * 0.7)
        dripping = asyncio.create_task(self.drip(writer, HEAD))
        self.assertEqual(await reader.read(), patience.TOO_SLOW)
        dripping.cancel()


class Served(unittest.TestCase):
    def test_the_web_process_speaks_it(self):
        with (
            mock.patch.object(serving.uvicorn, "run") as run,
            mock.patch.object(serving.binding, "check"),
            mock.patch.object(serving, "keep_to_oneself"),
            mock.patch.object(serving.attempts, "keep_temporary"),
            mock.patch.object(serving.signal, "signal"),
            mock.patch.object(serving.logs, "configure"),
        ):
            serving.main()
        self.assertIs(run.call_args.kwargs["http"], patience.PatientProtocol)
        self.assertLessEqual(patience.HEAD_WITHIN_S, 30)


if __name__ == "__main__":
    unittest.main()
