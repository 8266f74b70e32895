"""A take recorded here: numbered pieces come in over a socket and are acknowledged once they lie on the disk; levels go out, and
what a treatment makes of it."""

import asyncio
import contextlib
import struct
from collections import deque
from threading import Thread
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Response, WebSocket
from pydantic import BaseModel, ConfigDict, Field, ValidationError
from starlette.concurrency import run_in_threadpool
from starlette.websockets import WebSocketDisconnect, WebSocketState

from ispettore.core.audio.virtual_wav import pcm_head
from ispettore.core.check.live import LiveLevels
from ispettore.core.errors import IspettoreError
from ispettore.core.treat.live import LiveSteps
from ispettore.demo.standin import Setting
from ispettore.studio.catalogue import take_checks
from ispettore.studio.catalogue.take_checks import LONGEST_NAME, RATES_HZ
from ispettore.studio.store.disk import JustNow
from ispettore.studio.taking import hearing, places, taking
from ispettore.studio.taking.errors import SoundMissing
from ispettore.studio.taking.hearing import Hearing, HearingEnded, TreatmentHeard
from ispettore.studio.taking.open_take import OpenTake
from ispettore.studio.taking.places import TakeMark
from ispettore.studio.taking.taking import UnfinishedTake
from ispettore.web.conversing import Admitted, opened

routes = APIRouter()
KEPT_EVERY_S = 1.0
LONGEST_PIECE_S = 1.0
HEARD_TOGETHER, WAITING_BYTES = 1 << 20, 32 << 20
"""So much of what waits is heard in one go, and so much waits at most: of what is beyond that no levels are told."""

DRAWN = 1_200
MOST = 8
"""Takes that one web process records at once."""

FIRST = struct.Struct("<Q")
STAND_IN_HZ = 48_000


class PieceNotUnderstood(IspettoreError):
    """What came over the connection of this take can't be used. Load the page again, then go on with the take."""


class TooManyTakes(IspettoreError):
    """Here {most} takes are being recorded, as many as can be. Try again in a moment; this browser keeps what it has recorded."""

    most: int


class _FromPage(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class TakeOpening(_FromPage):
    """Which take comes in: a fresh one, or one to go on with; from which device, and through which treatment it is heard."""

    take: str = Field(pattern="^[0-9a-f]{32}$")
    fresh: bool
    name: str = Field("", max_length=LONGEST_NAME)
    heard_from: str = Field("Microphone", max_length=LONGEST_NAME)
    sample_rate_hz: int = Field(ge=RATES_HZ[0], le=RATES_HZ[1])
    channels: int = Field(1, ge=1, le=2)
    hear: str = Field("", max_length=LONGEST_NAME)


class TakeSaid(_FromPage):
    """All marks so far; what it is heard through from now on; or that it is over after so many frames."""

    marks: Annotated[list[TakeMark], Field(max_length=1_000)] | None = None
    hear: str | None = Field(None, max_length=LONGEST_NAME)
    finish: int | None = Field(None, ge=0)


class TakeTold(BaseModel):
    """How many frames and marks are kept whatever happens; levels since the last message; what is heard; the recording that it
    became; what can't be heard; why it ended, and whether it can go on once that has passed."""

    kept: int | None = None
    marks: int | None = None
    levels: tuple[LiveLevels, ...] = ()
    heard: LiveSteps | None = None
    behind_s: float | None = None
    recording: UUID | None = None
    problem: str = ""
    error: str = ""
    again: bool = False


class TakesOfProduction(BaseModel):
    """What a next take would be called; those that are not finished; and what can be heard while recording one."""

    next: str
    unfinished: list[UnfinishedTake]
    heard: list[TreatmentHeard]


class FinishedTake(BaseModel):
    """The recording that a take became."""

    id: UUID


@routes.get("/productions/{production_id}/takes", operation_id="getTakes")
def get_takes(production_id: UUID) -> TakesOfProduction:
    """Whoever looks at them is about to make one: what listens is made ready."""
    Thread(target=take_checks.warm, daemon=True).start()
    found = taking.listed(production_id)
    return TakesOfProduction(next=found.next, unfinished=found.unfinished, heard=hearing.choices(production_id))


@routes.post("/productions/{production_id}/takes/{take_id}/finish", operation_id="finishTake")
def finish_take(production_id: UUID, take_id: str) -> FinishedTake:
    """Make a recording of what is kept of a take."""
    return FinishedTake(id=taking.finish(taking.of(production_id, take_id)))


@routes.delete("/productions/{production_id}/takes/{take_id}", operation_id="discardTake", status_code=204)
def discard_take(production_id: UUID, take_id: str) -> None:
    taking.discard(taking.of(production_id, take_id))


@routes.get(
    "/stand-in",
    operation_id="getStandIn",
    response_class=Response,
    responses={200: {"content": {"audio/wav": {}}, "description": "A minute of it, 16 bit, mono"}},
)
def get_stand_in(setting: Annotated[Setting, Query()]) -> Response:
    """A stand-in for a microphone, reading as it is set."""
    samples = hearing.stand_in(setting, sample_rate_hz=STAND_IN_HZ)
    head = pcm_head(len(samples), channels=1, sample_rate_hz=STAND_IN_HZ)
    return Response(head + samples, media_type="audio/wav")


_under_way: set[WebSocket] = set()
_ending: set[asyncio.Task[None]] = set()


@routes.websocket("/productions/{production_id}/take", name="recordTake")
async def record_take(socket: WebSocket, production_id: UUID) -> None:
    await socket.accept()
    conversation = _Conversation(socket, production_id)
    try:
        if len(_under_way) >= MOST:
            raise TooManyTakes(most=MOST)
        _under_way.add(socket)
        await conversation.held()
    except WebSocketDisconnect:
        pass
    except IspettoreError as error:
        with contextlib.suppress(WebSocketDisconnect, RuntimeError):
            if socket.client_state is WebSocketState.CONNECTED:
                await conversation.tell(TakeTold(error=error.sentence, again=isinstance(error, JustNow | TooManyTakes)))
                await socket.close()
    finally:
        _under_way.discard(socket)


class _Conversation:
    """One page and the take that it records."""

    def __init__(self, socket: WebSocket, production_id: UUID) -> None:
        self._socket, self._production_id = socket, production_id
        self._sending = asyncio.Lock()
        self._waiting: deque[tuple[int, bytes]] = deque()
        self._wish: str | None = None
        self._waiting_bytes = 0
        self._came = asyncio.Event()
        self._over_at: int | None = None
        """After how many frames it is over."""

    async def tell(self, told: TakeTold) -> None:
        async with self._sending:
            await self._socket.send_text(told.model_dump_json(exclude_none=True))

    async def held(self) -> None:
        """Until the page goes. Raises what ends it."""
        opening = await opened(self._socket, TakeOpening, PieceNotUnderstood)
        if (made := await run_in_threadpool(taking.became, self._production_id, opening.take)) is not None:
            await self.tell(TakeTold(recording=made))
            return
        kind = {"sample_rate_hz": opening.sample_rate_hz, "channels": opening.channels}
        begin = {**kind, "name": opening.name, "heard_from": opening.heard_from, "fresh": opening.fresh}
        take = await run_in_threadpool(lambda: taking.begin(self._production_id, opening.take, **begin))  # type: ignore[arg-type]
        listening = Hearing(self._production_id, name=take.facts.name, **kind)
        parts = []
        try:
            earlier = await run_in_threadpool(places.levels, opening.take, most=DRAWN)
            await self.tell(TakeTold(kept=take.frames, marks=len(take.facts.marks), levels=tuple(map(_drawn, earlier.tolist()))))
            if opening.hear:
                self._wish = opening.hear
                self._came.set()
            work = (self._read(take), self._keep(take), self._listen(take, listening))
            parts = [asyncio.create_task(part) for part in work]
            ended, _ = await asyncio.wait(parts, return_when=asyncio.FIRST_COMPLETED)
            for one in parts:
                one.cancel()  # before it is closed: nothing is kept of it any more
            for one in ended:
                one.result()
            if self._over_at is not None:
                await self._finish(take, self._over_at)
        finally:
            # Whoever goes on with it waits for nothing but this, and nothing that is given up keeps it from being done.
            take.close()
            _ending.add(over := asyncio.create_task(self._let_go(parts, listening)))
            over.add_done_callback(_ending.discard)

    async def _let_go(self, parts: list[asyncio.Task[None]], listening: Hearing) -> None:
        """What still hears ends in its own time."""
        for one in parts:
            one.cancel()
        await run_in_threadpool(taking.tell, self._production_id)
        await asyncio.gather(*parts, return_exceptions=True)
        await run_in_threadpool(listening.end)

    async def _read(self, take: OpenTake) -> None:
        """Put what comes in the file, piece by piece."""
        frame = take.facts.channels * 4
        largest = round(LONGEST_PIECE_S * take.facts.sample_rate_hz) * frame
        while True:
            message = await self._socket.receive()
            if message["type"] == "websocket.disconnect":
                return
            if (content := message.get("bytes")) is not None:
                size = len(content) - FIRST.size
                if not 0 < size <= largest or size % frame:
                    raise PieceNotUnderstood()
                first, samples = FIRST.unpack_from(content)[0], content[FIRST.size :]
                await run_in_threadpool(take.append, first, samples)
                self._wait(first, samples)
            elif await self._said(take, message.get("text") or ""):
                return

    async def _said(self, take: OpenTake, text: str) -> bool:
        """Whether it is over."""
        try:
            said = TakeSaid.model_validate_json(text)
        except ValidationError:
            raise PieceNotUnderstood() from None
        if said.marks is not None:
            await run_in_threadpool(take.mark, said.marks)
            await self.tell(TakeTold(marks=len(said.marks)))
        if said.hear is not None:
            self._wish = said.hear
            self._came.set()
        self._over_at = said.finish
        return said.finish is not None

    async def _finish(self, take: OpenTake, frames: int) -> None:
        """Make a recording of a take that is so long, and say which."""
        kept = await run_in_threadpool(take.sync)
        if frames > kept:
            raise SoundMissing(file=take.facts.name, at_s=kept / take.facts.sample_rate_hz)
        made = await run_in_threadpool(taking.finish, take.id, take=take)
        await self.tell(TakeTold(kept=kept, recording=made))

    async def _keep(self, take: OpenTake) -> None:
        """Have what came lie on the disk, and say so, every second."""
        told, admitted = take.frames, Admitted(self._socket)
        while True:
            await asyncio.sleep(KEPT_EVERY_S)
            kept = await run_in_threadpool(take.sync)
            if kept != told:
                told = kept
                await self.tell(TakeTold(kept=kept))
            await admitted.looked_at()

    def _wait(self, first: int, samples: bytes) -> None:
        self._waiting.append((first, samples))
        self._waiting_bytes += len(samples)
        while self._waiting_bytes > WAITING_BYTES:
            self._waiting_bytes -= len(self._waiting.popleft()[1])
        self._came.set()

    async def _listen(self, take: OpenTake, listening: Hearing) -> None:
        """Say what came reads and what becomes of it; where that fails nothing of the take is touched."""
        frame, at = take.facts.channels * 4, take.frames
        while True:
            await self._came.wait()
            self._came.clear()
            while self._waiting or self._wish is not None:
                try:
                    if (wish := self._wish) is not None:
                        self._wish = None
                        steps = await run_in_threadpool(listening.choose, wish, at=at)
                        await self.tell(TakeTold(heard=steps, behind_s=0.0))
                        continue
                    first, samples = self._together(frame)
                    at = first + len(samples) // frame
                    heard = await run_in_threadpool(listening.hear, first, samples)
                except HearingEnded:
                    continue
                except IspettoreError as error:
                    await self.tell(TakeTold(problem=error.sentence))
                    continue
                if heard.treated:
                    async with self._sending:
                        await self._socket.send_bytes(FIRST.pack(heard.treated_first) + heard.treated)
                if heard.levels:
                    await self.tell(TakeTold(levels=heard.levels, behind_s=heard.behind_s))
                    with contextlib.suppress(OSError):
                        await run_in_threadpool(places.add_levels, take.id, list(heard.levels))

    def _together(self, frame: int) -> tuple[int, bytes]:
        """The oldest piece that waits, with those that follow it."""
        first, samples = self._waiting.popleft()
        parts, size = [samples], len(samples)
        while self._waiting and size < HEARD_TOGETHER and self._waiting[0][0] == first + size // frame:
            parts.append(self._waiting.popleft()[1])
            size += len(parts[-1])
        self._waiting_bytes -= size
        return first, b"".join(parts)


def _drawn(row: list[float]) -> LiveLevels:
    at_s, peak, rms, full_scale = row
    return LiveLevels(
        at_s=at_s, peak_dbfs=peak, true_peak_dbtp=None, rms_dbfs=rms, momentary_lufs=None, full_scale=round(full_scale)
    )
