"""The take check: sound comes in over a socket, and what it reads goes out ten times a second."""

import asyncio
import contextlib
import time
from threading import Thread
from typing import Annotated, Literal
from uuid import UUID

from fastapi import APIRouter, WebSocket
from pydantic import BaseModel, ConfigDict, Field, ValidationError
from starlette.concurrency import run_in_threadpool
from starlette.websockets import WebSocketDisconnect, WebSocketState

from ispettore.core.check.advice import PEAKS_DBFS
from ispettore.core.check.live import LiveLevels
from ispettore.core.check.session import READING_S, State
from ispettore.core.errors import IspettoreError
from ispettore.demo.standin import Setting
from ispettore.studio.catalogue import take_checks
from ispettore.studio.catalogue.take_checks import LONGEST_NAME, RATES_HZ, STAND_IN, Listening, TakeCheckView
from ispettore.studio.rehearsing.checking import Act, HeardPiece
from ispettore.web.conversing import Admitted, opened

routes = APIRouter()
TICK_S = 0.1
SILENT_FOR_S = 15.0
LONGEST_PIECE_S = 1.0
WAITING = 32
MOST = 8
"""Sessions of one web process."""
Centimetres = Annotated[float, Field(ge=3, le=500, allow_inf_nan=False)]


class NotUnderstood(IspettoreError):
    """What came over the take check's connection can't be used. Load the page again, then start the check anew."""


class WentSilent(IspettoreError):
    """No sound came for {seconds:.0f} s, so the take check ended. Check the microphone, then start it again."""

    seconds: float


class TooManyChecks(IspettoreError):
    """Here {most} take checks are under way, as many as can be. Try again in a moment."""

    most: int


class _FromPage(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Opening(_FromPage):
    """What is listened to: a microphone by its name, whose samples come as interleaved 32-bit little-endian floats; or the
    stand-in, which is heard here."""

    source: Literal["microphone", "stand-in"]
    name: str = Field("Microphone", max_length=LONGEST_NAME)
    sample_rate_hz: int = Field(48_000, ge=RATES_HZ[0], le=RATES_HZ[1])
    channels: int = Field(1, ge=1, le=2)
    setting: Setting = Setting()
    distance_cm: Centimetres | None = None


class Said(_FromPage):
    """What somebody wants: to begin, to end the sentences or to give up; another setting of the stand-in; another distance."""

    act: Act = ""
    setting: Setting | None = None
    distance_cm: Centimetres | None = None


class Told(BaseModel):
    """Where a take check stands and the levels since the last message; or what it came to; or why it ended."""

    state: State = "listening"
    left_s: float = 0.0
    read_s: float = 0.0
    levels: tuple[LiveLevels, ...] = ()
    check: TakeCheckView | None = None
    problem: str = ""
    error: str = ""


class TakeChecks(BaseModel):
    """Those of a production, the newest first; where the peaks of the sentences should lie, in dBFS, and how long the sentences are
    at least, in seconds."""

    peaks_dbfs: tuple[float, float] = PEAKS_DBFS
    read_at_least_s: float = READING_S[0]
    checks: list[TakeCheckView]


@routes.get("/productions/{production_id}/take-checks", operation_id="getTakeChecks")
def get_take_checks(production_id: UUID) -> TakeChecks:
    """Whoever looks at them is about to make one: what listens is made ready."""
    Thread(target=take_checks.warm, daemon=True).start()
    return TakeChecks(checks=take_checks.listed(production_id))


_under_way: set[WebSocket] = set()


@routes.websocket("/productions/{production_id}/take-check", name="checkTake")
async def check_take(socket: WebSocket, production_id: UUID) -> None:
    await socket.accept()
    try:
        if len(_under_way) >= MOST:
            raise TooManyChecks(most=MOST)
        _under_way.add(socket)
        await _Conversation(socket, production_id).held()
    except WebSocketDisconnect:
        pass
    except IspettoreError as error:
        await _end(socket, error.sentence)
    finally:
        _under_way.discard(socket)


async def _end(socket: WebSocket, sentence: str) -> None:
    with contextlib.suppress(WebSocketDisconnect, RuntimeError):
        if socket.client_state is WebSocketState.CONNECTED:
            await socket.send_text(Told(error=sentence).model_dump_json())
            await socket.close()


class _Conversation:
    """One page and what it listens to."""

    def __init__(self, socket: WebSocket, production_id: UUID) -> None:
        self._socket, self._production_id = socket, production_id
        self._came: asyncio.Queue[bytes | Said | None] = asyncio.Queue(WAITING)
        self._refused: IspettoreError | None = None
        self._state: State = "listening"

    async def held(self) -> None:
        """Until the page goes. Raises what ends it."""
        opening = await opened(self._socket, Opening, NotUnderstood)
        of = STAND_IN if opening.source == "stand-in" else opening.name
        how = {"sample_rate_hz": opening.sample_rate_hz, "channels": opening.channels, "heard_from": of}
        listening = await run_in_threadpool(lambda: Listening(self._production_id, **how))  # type: ignore[arg-type]
        reading = asyncio.create_task(self._read(opening))
        try:
            # Now everything is ready: a page sends no sound before it is told so, and none waits.
            await self._tell(await run_in_threadpool(listening.hear), listening, None)
            await self._go_on(listening, opening)
        finally:
            reading.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await reading
            await run_in_threadpool(listening.end)

    async def _read(self, opening: Opening) -> None:
        """Put what comes in line; None once the page has gone, or sent what can't be used."""
        largest = round(LONGEST_PIECE_S * opening.sample_rate_hz) * opening.channels * 4
        try:
            while True:
                message = await self._socket.receive()
                if message["type"] == "websocket.disconnect":
                    break
                if (content := message.get("bytes")) is not None:
                    if len(content) > largest or len(content) % (4 * opening.channels):
                        raise NotUnderstood()
                    await self._came.put(content)
                else:
                    await self._came.put(Said.model_validate_json(message.get("text") or ""))
        except (ValidationError, IspettoreError):
            self._refused = NotUnderstood()
        await self._came.put(None)

    async def _go_on(self, listening: Listening, opening: Opening) -> None:
        stands_in = opening.source == "stand-in"
        setting, distance_cm = opening.setting, opening.distance_cm
        if stands_in:
            distance_cm = setting.distance_cm
        tick, admitted = time.monotonic(), Admitted(self._socket)
        while True:
            came = await self._next(tick + TICK_S - time.monotonic() if stands_in else SILENT_FOR_S, stands_in)
            if came is None:
                if self._refused is not None:
                    raise self._refused
                return
            act: Act = ""
            if isinstance(came, Said):
                act = came.act
                setting = came.setting or setting
                distance_cm = setting.distance_cm if stands_in else came.distance_cm or distance_cm
            if stands_in:
                due = came == b""
                tick = max(tick + TICK_S, time.monotonic() - 2 * TICK_S) if due else tick
                frames = round(TICK_S * opening.sample_rate_hz) if due else 0
                heard = await run_in_threadpool(listening.hear, act=act, setting=setting, frames=frames)
            else:
                heard = await run_in_threadpool(listening.hear, came if isinstance(came, bytes) else b"", act=act)
            if heard.levels or act or heard.state != self._state:
                await self._tell(heard, listening, distance_cm)
            self._state = heard.state
            await admitted.looked_at()

    async def _next(self, within_s: float, stands_in: bool) -> bytes | Said | None:
        """What came next; for the stand-in nothing at all, once its time has come."""
        try:
            return await asyncio.wait_for(self._came.get(), max(within_s, 0.0) if stands_in else within_s)
        except TimeoutError:
            if stands_in:
                return b""
            raise WentSilent(seconds=SILENT_FOR_S) from None

    async def _tell(self, heard: HeardPiece, listening: Listening, distance_cm: float | None) -> None:
        told = Told(**heard.model_dump())
        await self._socket.send_text(told.model_dump_json())
        if heard.state == "complete":
            try:
                check = await run_in_threadpool(listening.kept, distance_cm=distance_cm)
                said = Told(check=check)
            except take_checks.CheckEnded:
                raise
            except IspettoreError as error:
                said = Told(problem=error.sentence)
            await self._socket.send_text(said.model_dump_json())
