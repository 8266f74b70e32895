"""What conversations over a socket have in common."""

import asyncio
from typing import TypeVar

from fastapi import WebSocket
from pydantic import BaseModel, ValidationError

from ispettore.core.errors import IspettoreError
from ispettore.studio.access.errors import NotSignedIn
from ispettore.web.admission import HOW, still_in

OPEN_WITHIN_S, LOOK_AGAIN_S = 10.0, 30.0

Opening = TypeVar("Opening", bound=BaseModel)


async def opened(socket: WebSocket, kind: type[Opening], otherwise: type[IspettoreError]) -> Opening:
    """The message that opens one. Raises `otherwise` where none comes, or one that can't be used."""
    try:
        return kind.model_validate_json(await asyncio.wait_for(socket.receive_text(), OPEN_WITHIN_S))
    except (ValidationError, TimeoutError, KeyError):
        raise otherwise() from None


class Admitted:
    """Whether whoever opened one is let in by now, looked at once in a while."""

    def __init__(self, socket: WebSocket) -> None:
        self._socket, self._looked = socket, asyncio.get_running_loop().time()

    async def looked_at(self) -> None:
        """Raises NotSignedIn."""
        now = asyncio.get_running_loop().time()
        if now - self._looked > LOOK_AGAIN_S:
            self._looked = now
            if not await still_in(self._socket.scope):
                raise NotSignedIn(why=": what you showed has ended", how=HOW["accounts"])
