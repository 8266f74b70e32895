"""HTTP/1.1 as uvicorn speaks it, with an end to waiting for the head of a request.

Whoever opens a thousand connections and sends their headers a letter at a time would keep everybody else out: uvicorn waits for a
head for ever. Bodies have bounds of their own (`guarding.py`).
"""

import asyncio
from typing import Any

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

HEAD_WITHIN_S = 20.0
LINGER_S = 1.0
"""What still comes is taken and thrown away for so long, so that the last answer arrives: a connection that is closed while bytes
come is reset, and what was sent on it lost (RFC 9112, section 9.6)."""

TOO_SLOW = b"HTTP/1.1 408 Request Timeout\r\nconnection: close\r\ncontent-length: 0\r\n\r\n"


class PatientProtocol(H11Protocol):
    """One connection; each of its requests has `HEAD_WITHIN_S` from its first byte, the first from when it was opened."""

    _deadline: asyncio.TimerHandle | None = None
    _begun = False
    _given_up = False

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self._look()

    def data_received(self, data: bytes) -> None:
        if self._given_up:
            return
        self._begun = True
        super().data_received(data)
        self._look()

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop()
        super().connection_lost(exc)

    def _look(self) -> None:
        """A head is awaited as long as the other side has sent nothing that is one."""
        if self.conn.their_state is not h11.IDLE:
            self._stop()
        elif self._deadline is None:
            self._deadline = self.loop.call_later(HEAD_WITHIN_S, self._give_up)

    def _stop(self) -> None:
        if self._deadline is not None:
            self._deadline.cancel()
            self._deadline = None
        self._begun = False

    def _give_up(self) -> None:
        if self._begun:
            self.transport.write(TOO_SLOW)
        if not self._begun or not self.transport.can_write_eof():
            self.transport.close()
            return
        self._given_up = True
        self.transport.write_eof()
        self._deadline = self.loop.call_later(LINGER_S, self.transport.close)
