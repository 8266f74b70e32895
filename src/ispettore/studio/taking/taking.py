"""Takes of a production: begun, gone on with after whatever interrupted them, made recordings, or discarded."""

from pathlib import Path
from uuid import UUID

from pydantic import BaseModel
from sqlmodel import select

from ispettore.core.audio.growing_wav import GrowingWav
from ispettore.core.figures import clock
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, recordings
from ispettore.studio.catalogue.incoming import Incoming, allowed_name
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Production, Recording, now
from ispettore.studio.taking import open_take, places
from ispettore.studio.taking.errors import TakeEmpty, TakeGoesOn
from ispettore.studio.taking.open_take import OpenTake
from ispettore.studio.taking.places import TakeFacts, TakeMark

SPARE_S = 60
LONGEST_NAME = 120
SUFFIX = ".wav"


class UnfinishedTake(BaseModel):
    """A take that was neither finished nor discarded: what is kept of it, in seconds, and whether it is being recorded just now."""

    id: str
    name: str
    heard_from: str
    begun_at: str
    sample_rate_hz: int
    channels: int
    kept_s: float
    marks: list[TakeMark]
    goes_on: bool


class Takes(BaseModel):
    """What a next take would be called, and those that are not finished."""

    next: str
    unfinished: list[UnfinishedTake]


def listed(production_id: UUID) -> Takes:
    """Raises NotFound."""
    with transaction() as session:
        _there(session.get(Production, production_id))
        used = set(session.exec(select(Recording.name).where(Recording.production_id == production_id)).all())
    known = [one for one in places.all_of(production_id) if not _ended(one)]
    used |= {one.name for one in known}
    number = next(n for n in range(1, len(used) + 2) if f"Take {n}{SUFFIX}" not in used)
    return Takes(next=f"Take {number}", unfinished=[_view(one) for one in known])


def begin(
    production_id: UUID, identifier: str, *, name: str, heard_from: str, sample_rate_hz: int, channels: int, fresh: bool
) -> OpenTake:
    """Open a take to be recorded on: a `fresh` one where it is not there yet. Raises NotFound, BadText, NameTooLong, TakeOtherwise,
    NoRoomLeft and StoreReadOnly."""
    with transaction() as session:
        _there(session.get(Production, production_id))
    if not fresh:
        of(production_id, identifier)
    wanted = TakeFacts(
        id=identifier,
        production_id=production_id,
        name=_named(name) if fresh else places.facts(identifier).name,
        heard_from=refuse(heard_from.strip()[:LONGEST_NAME], what="The device's name"),
        sample_rate_hz=sample_rate_hz,
        channels=channels,
        begun_at=now(),
    )
    if fresh:
        room = SPARE_S * sample_rate_hz * channels * 4
        disk.room_for(room, settings().incoming, Store(settings().store).folder, file=wanted.name)
    opened = OpenTake(wanted, begin=fresh)
    tell(production_id)
    return opened


def finish(identifier: str, *, take: OpenTake | None = None) -> UUID:
    """Make a recording of a take, once, however often this is tried; `take` is the one who has it open. Raises NotFound,
    TakeGoesOn, TakeEmpty, NoRoomLeft and StoreReadOnly."""
    known = places.facts(identifier)
    if known.recording is not None:
        return known.recording
    path, incoming = places.sound(identifier), Incoming(settings().incoming)
    with disk.in_words(known.name):
        if path.exists():
            take = take or _taken_over(known)
            if take.sync() == 0:
                take.close()
                raise TakeEmpty(file=known.name)
            take.finish(incoming.path(identifier))
        size = _size(incoming.path(identifier))
        metadata = {"filename": known.name, "production": str(known.production_id)}
        incoming.note(identifier, {**(incoming.info(identifier) or {}), "size": size, "offset": size, "metadata": metadata})
        length_s = _length_s(incoming.path(identifier))
        made = incoming.finish(identifier, Store(settings().store))
        with transaction() as session:
            if (recording := session.get(Recording, made)) is not None:
                deeds.note(session, recording, f"Recorded here from {known.heard_from}, {clock(length_s)}.")
        places.remove(identifier)
        places.note(known.model_copy(update={"recording": made}))
    tell(known.production_id)
    return made


def became(production_id: UUID, identifier: str) -> UUID | None:
    """The recording that a take of a production became, where it did."""
    try:
        known = places.facts(identifier)
    except NotFound:
        return None
    return known.recording if known.production_id == production_id else None


def discard(identifier: str) -> None:
    """Let go of a take for good. Raises NotFound and TakeGoesOn."""
    known = places.facts(identifier)
    with open_take.opening:
        if open_take.is_open(identifier):
            raise TakeGoesOn(file=known.name)
        places.remove(identifier)
    tell(known.production_id)


def of(production_id: UUID, identifier: str) -> str:
    """A take of this production. Raises NotFound."""
    if places.facts(identifier).production_id != production_id:
        raise NotFound(what="take")
    return identifier


def _taken_over(known: TakeFacts) -> OpenTake:
    with open_take.opening:
        if open_take.is_open(known.id):
            raise TakeGoesOn(file=known.name)
        return OpenTake(known, begin=False)


def _named(name: str) -> str:
    """A take's file name. Raises BadText and NameTooLong."""
    bare = recordings.shown_name(refuse(name.strip(), what="The take's name") or "Take")
    return allowed_name(bare if bare.lower().endswith(SUFFIX) else bare + SUFFIX)


def _view(known: TakeFacts) -> UnfinishedTake:
    return UnfinishedTake(
        **known.model_dump(include={"id", "name", "heard_from", "sample_rate_hz", "channels"}),
        begun_at=known.begun_at.isoformat(),
        kept_s=_length_s(places.sound(known.id)),
        marks=list(known.marks),
        goes_on=open_take.is_open(known.id),
    )


def _length_s(path: Path) -> float:
    """How much a take promises; 0 where it is not there."""
    try:
        return GrowingWav.promised_s(path)
    except (OSError, ValueError):
        return 0.0


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        raise NotFound(what="take") from None


def tell(production_id: UUID) -> None:
    with transaction() as session:
        events.tell(session, events.Notice(about="uploads", production=production_id))


def _ended(known: TakeFacts) -> bool:
    """Whether a take was made a recording, and the server ended before that was noted."""
    with open_take.opening:
        over = not places.sound(known.id).exists() and not Incoming(settings().incoming).path(known.id).exists()
        if over:
            places.remove(known.id)
        return over


def _there(found: Production | None) -> None:
    if found is None or found.removed_at is not None:
        raise NotFound(what="production")
