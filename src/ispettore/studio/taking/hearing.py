"""What a take reads while it is recorded, and what its reader hears on headphones: by the warm child of take checks.

Nothing of it touches what is recorded: where the child ends, levels and treated sound are missing for a moment, and no more.
"""

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from uuid import UUID, uuid4

from pydantic import BaseModel
from sqlmodel import Session, col, select

from ispettore.core.audio.growing_wav import SAMPLE_BYTES
from ispettore.core.check.live import LiveLevels
from ispettore.core.errors import IspettoreError
from ispettore.core.treat.live import LiveSteps
from ispettore.core.treat.treatment import Step
from ispettore.demo.standin import Setting
from ispettore.studio.catalogue import conformings, recordings, treatments
from ispettore.studio.catalogue.take_checks import listener
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.rehearsing import speaking
from ispettore.studio.rehearsing.checking import Ended, Lost
from ispettore.studio.rehearsing.rehearser import Answer, RehearsalFailed, Request
from ispettore.studio.rehearsing.speaking import Heard, Read, Reader, Spoken, Wish
from ispettore.studio.tables import Conforming, Recording

AS_CONFORMED = "conformed"


class HearingEnded(IspettoreError):
    """The process that listens ended, and another begins. What was recorded is all kept; levels of a moment are missing."""


class TreatmentHeard(BaseModel):
    """A treatment that a take can be heard through: what it is chosen by, and what it is called."""

    id: str
    name: str


@dataclass
class _Last:
    """What was conformed last in a production."""

    recording: str
    steps: tuple[Step, ...]


def choices(production_id: UUID) -> list[TreatmentHeard]:
    """Those there are: first how this production was conformed last, then all that are kept."""
    with transaction() as session:
        last = _last(session, production_id)
    found = [TreatmentHeard(id=AS_CONFORMED, name=f"As “{last.recording}” was conformed")] if last is not None else []
    return found + [TreatmentHeard(id=one.id, name=one.name) for one in treatments.all_kept()]


@dataclass(frozen=True)
class HeardAt:
    """What a piece read, by the time of the take; and what came out of the treatment, from which frame of the take on, and how much
    later it does."""

    levels: tuple[LiveLevels, ...]
    treated: bytes
    treated_first: int
    behind_s: float


class Hearing:
    """One take on its way: pieces go in, and what they read and become comes out."""

    def __init__(self, production_id: UUID, *, name: str, sample_rate_hz: int, channels: int) -> None:
        self._production_id, self._name = production_id, name
        self._rate, self._channels = sample_rate_hz, channels
        self._key, self._turn = uuid4().hex, 0
        self._since: int | None = None
        self._wanted, self._through = "", False
        self._treated_since: int | None = None

    def hear(self, first: int, samples: bytes) -> HeardAt:
        """A piece that begins with frame `first`. Raises HearingEnded, after which the next piece begins anew."""
        fresh = self._since is None
        if fresh:
            self._since = first
            self._speak(b"", first=True)
            if self._wanted:
                self._choose()
        heard = self._speak(samples, first=False)
        if self._through and self._treated_since is None:
            self._treated_since = first
        assert self._since is not None
        since_s = self._since / self._rate
        treated_first = (self._treated_since or 0) + heard.treated_from
        early = max((self._treated_since or 0) - treated_first, 0)  # silence that it began with
        return HeardAt(
            levels=tuple(one.model_copy(update={"at_s": one.at_s + since_s}) for one in heard.levels),
            treated=heard.treated[early * self._channels * SAMPLE_BYTES :],
            treated_first=treated_first + early,
            behind_s=heard.behind_s,
        )

    def choose(self, treatment: str, *, at: int) -> LiveSteps:
        """Be heard through a treatment from frame `at` on; empty for none. Raises NotFound and HearingEnded."""
        self._steps(treatment)
        self._wanted = treatment
        if self._since is None:
            self._since = at
            self._speak(b"", first=True)
        return self._choose()

    def _choose(self) -> LiveSteps:
        steps = self._steps(self._wanted)
        self._through, self._treated_since = steps is not None, None
        return self._asked(speaking.choose, Wish(key=self._key, production=str(self._production_id), name=self._name, steps=steps))

    def _speak(self, samples: bytes, *, first: bool) -> Heard:
        kind = {"channels": self._channels, "sample_rate_hz": self._rate}
        return self._asked(speaking.speak, Spoken(key=self._key, first=first, samples=samples, **kind))

    def end(self) -> None:
        with suppress(IspettoreError):
            self._asked(speaking.forget, Ended(key=self._key))

    def _steps(self, treatment: str) -> tuple[Step, ...] | None:
        if not treatment:
            return None
        if treatment != AS_CONFORMED:
            return treatments.view(treatment).treatment.steps
        with transaction() as session:
            last = _last(session, self._production_id)
        if last is None:
            raise NotFound(what="conformed recording")
        return last.steps

    def _asked(self, compute: Callable[[Request], Answer | Lost], request: Request) -> Answer:
        self._turn += 1
        try:
            found = listener().ask(compute, request, name=self._name, matter=self._key, turn=self._turn)
        except RehearsalFailed:
            self._since = None
            raise HearingEnded() from None
        if isinstance(found, Lost):
            self._since = None
            raise HearingEnded()
        return found


def stand_in(setting: Setting, *, sample_rate_hz: int) -> bytes:
    """A minute of the stand-in reading, 16-bit little-endian integers of one channel. Raises RehearsalFailed."""
    asked = Reader(setting=setting, sample_rate_hz=sample_rate_hz)
    found: Read = listener().ask(speaking.read, asked, name="Stand-in", matter=uuid4().hex, turn=1)
    return found.samples


def _last(session: Session, production_id: UUID) -> _Last | None:
    there = col(Conforming.recording_id).in_(recordings.current_ids(production_id))
    newest = select(Conforming.recording_id).where(there, col(Conforming.sha256).is_not(None))
    found = session.exec(newest.order_by(col(Conforming.created_at).desc()).limit(1)).first()
    treatment = conformings.last_treatment(session, found)[0] if found is not None else None
    if treatment is None:
        return None
    return _Last(session.get_one(Recording, found).name, treatment.steps)
