"""Take checks of a production: heard in a warm process, kept without their sound, and held against one another."""

from collections.abc import Callable
from contextlib import suppress
from datetime import datetime
from functools import lru_cache
from uuid import UUID, uuid4

from pydantic import BaseModel
from sqlmodel import col, select

from ispettore.core.check.advice import TakeCheck
from ispettore.core.check.comparing import compared
from ispettore.core.errors import IspettoreError
from ispettore.core.spec import kept
from ispettore.core.spec.specification import Specification
from ispettore.core.text import refuse
from ispettore.demo.standin import Setting
from ispettore.studio import events
from ispettore.studio.catalogue import deeds
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.rehearsing import checking
from ispettore.studio.rehearsing.checking import Act, Asked, Ended, HeardPiece, Lost, Piece
from ispettore.studio.rehearsing.rehearser import Answer, RehearsalFailed, Rehearser, Request
from ispettore.studio.settings import settings
from ispettore.studio.tables import Production, TakeCheckRecord, now

MOST_SHOWN = 50
LONGEST_NAME = 120
STAND_IN = "Stand-in"
RATES_HZ = (8_000, 192_000)


class CheckEnded(IspettoreError):
    """The take check was interrupted: the process that listens ended. Start it again; what was heard is gone."""


class CheckedAgainst(BaseModel):
    """Which version of which specification a take check was held against."""

    id: str
    version: int
    name: str


class TakeCheckView(BaseModel):
    """A take check that was kept; `compared` says what is otherwise than in the one before it of the same source."""

    id: UUID
    created_at: datetime
    heard_from: str
    distance_cm: float | None
    specification: CheckedAgainst
    found: TakeCheck
    compared: list[str]


@lru_cache(maxsize=1)
def listener() -> Rehearser:
    """The child of this process; it starts with the first piece."""
    return Rehearser(memory_bytes=settings().job_memory_bytes, place=settings().work)


def warm() -> None:
    """Have the child ready, with all that it needs to listen and to judge."""
    with suppress(IspettoreError):
        listener().ask(checking.get_ready, Ended(key=""), name="", matter="warm", turn=0)


class Listening:
    """One session: pieces go in as they come, and what they read comes out."""

    def __init__(self, production_id: UUID, *, sample_rate_hz: int, channels: int, heard_from: str) -> None:
        """Raises NotFound and BadText."""
        with transaction() as session:
            if (found := session.get(Production, production_id)) is None or found.removed_at is not None:
                raise NotFound(what="production")
        self._production_id, self._rate, self._channels = production_id, sample_rate_hz, channels
        self._heard_from = refuse(heard_from.strip()[:LONGEST_NAME], what="The device's name")
        self._key, self._turn = uuid4().hex, 0
        self._ended = False

    def hear(self, samples: bytes = b"", *, act: Act = "", setting: Setting | None = None, frames: int = 0) -> HeardPiece:
        """A piece of interleaved 32-bit floats, or so many frames of the stand-in. Raises CheckEnded."""
        piece = Piece(
            key=self._key,
            first=self._turn == 0,
            act=act,
            channels=self._channels,
            sample_rate_hz=self._rate,
            samples=samples,
            setting=setting,
            frames=frames,
        )
        return self._asked(checking.hear, piece)

    def kept(self, *, distance_cm: float | None) -> TakeCheckView:
        """What was heard held against the specification of now, and kept. Raises NotFound, CheckTooShort and CheckEnded."""
        with transaction() as session:
            production = _production(session.get(Production, self._production_id))
            specification = kept.specification(production.specification)
        found = self._asked(
            checking.judge,
            Asked(key=self._key, production=str(self._production_id), specification=specification, distance_cm=distance_cm),
        )
        name = keep(self._production_id, found, specification, heard_from=self._heard_from, distance_cm=distance_cm)
        return next(one for one in listed(self._production_id) if one.id == name)

    def end(self) -> None:
        """Let go of what was heard."""
        if not self._ended:
            self._ended = True
            with suppress(CheckEnded):
                self._asked(checking.forget, Ended(key=self._key))

    def _asked(self, compute: Callable[[Request], Answer | Lost], request: Request) -> Answer:
        self._turn += 1
        try:
            found = listener().ask(compute, request, name=self._heard_from, matter=self._key, turn=self._turn)
        except RehearsalFailed as error:
            raise CheckEnded() from error
        if isinstance(found, Lost):
            raise CheckEnded()
        return found


def keep(
    production_id: UUID,
    found: TakeCheck,
    specification: Specification,
    *,
    heard_from: str,
    distance_cm: float | None,
    at: datetime | None = None,
) -> UUID:
    """Keep what a take check came to; `at` is when it was made, where that is not now. Raises NotFound."""
    with transaction() as session:
        production = _production(session.get(Production, production_id, with_for_update=True))
        row = TakeCheckRecord(
            production_id=production.id,
            heard_from=heard_from,
            distance_cm=distance_cm,
            specification={"id": specification.id, "version": specification.version, "name": specification.name},
            found=found.model_dump(mode="json"),
            created_at=at or now(),
        )
        session.add(row)
        deeds.note(session, production, f"Take check: {'ready' if found.ready else 'not ready'}.")
        events.tell(session, events.Notice(about="production", id=str(production.id), production=production.id))
        return row.id


def listed(production_id: UUID) -> list[TakeCheckView]:
    """Those of a production, the newest first. Raises NotFound."""
    with transaction() as session:
        _production(session.get(Production, production_id))
        rows = select(TakeCheckRecord).where(TakeCheckRecord.production_id == production_id)
        found = session.exec(rows.order_by(col(TakeCheckRecord.created_at).desc()).limit(MOST_SHOWN)).all()
    return [_view(row, next((one for one in found[place + 1 :] if _same(one, row)), None)) for place, row in enumerate(found)]


def _same(one: TakeCheckRecord, other: TakeCheckRecord) -> bool:
    return (one.heard_from == STAND_IN) == (other.heard_from == STAND_IN)


def _view(row: TakeCheckRecord, before: TakeCheckRecord | None) -> TakeCheckView:
    found = TakeCheck.model_validate(row.found)
    earlier = TakeCheck.model_validate(before.found) if before is not None else None
    told = []
    if before is not None and earlier is not None:
        told = compared(found, earlier, when=_when(before.created_at, row.created_at))
    return TakeCheckView(
        **row.model_dump(include={"id", "created_at", "heard_from", "distance_cm"}),
        specification=CheckedAgainst.model_validate(row.specification),
        found=found,
        compared=told,
    )


def _when(then: datetime, later: datetime) -> str:
    """A day in words; of the same day no time is told, as nobody here knows which clock the page shows.

    >>> _when(datetime(2026, 3, 2, 9, 5), datetime(2026, 3, 9)), _when(datetime(2026, 3, 2, 9, 5), datetime(2026, 3, 2, 11, 0))
    ('on 2 March', 'at the check before')
    """
    return "at the check before" if then.date() == later.date() else f"on {then.day} {then:%B}"


def _production(found: Production | None) -> Production:
    if found is None or found.removed_at is not None:
        raise NotFound(what="production")
    return found
