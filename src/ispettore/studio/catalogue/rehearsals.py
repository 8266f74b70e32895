"""Drafts heard and foretold before they are run: what of a recording and its draft a rehearser is asked."""

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from functools import lru_cache
from typing import TypeVar
from uuid import UUID

from sqlmodel import Session

from ispettore.core.plan import bedded
from ispettore.core.plan.bedded import Laid
from ispettore.core.plan.rehearsing import Foretold
from ispettore.core.spec import kept
from ispettore.core.treat import draft, order
from ispettore.core.treat.bed import Bed
from ispettore.core.treat.pictures import Picture
from ispettore.core.treat.rehearsal import WHOLE_S
from ispettore.core.treat.treatment import Step
from ispettore.studio.catalogue import beds, drafts, edited, lookup, plannings, room_tones, sounds
from ispettore.studio.catalogue.drawn import Drawn
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NotReady
from ispettore.studio.rehearsing import performing
from ispettore.studio.rehearsing.performing import ForetellRequest, Heard, Known, PictureRequest, Rehearsed, SoundRequest, Unknown
from ispettore.studio.rehearsing.rehearser import Overtaken, Rehearser
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import InspectionRecord, Production, Recording

LONGEST_S = 10.0
Request = TypeVar("Request", bound=Rehearsed)
Answer = TypeVar("Answer")
Chosen = Callable[[Session, Recording, float], tuple[Step, ...]]
"""The steps that are rehearsed of a recording of so many seconds."""


class Rehearsers:
    """Two processes: one for what is heard, which nothing may hold up, one for what is foretold."""

    def __init__(self) -> None:
        memory, place = settings().job_memory_bytes, settings().work
        read = [Store(settings().store).shelf.here]
        self.hearing = Rehearser(memory_bytes=memory, place=place, read=read)
        self.foretelling = Rehearser(memory_bytes=memory, place=place, read=read)

    def warm(self) -> None:
        """Have both ready: somebody looks at a draft."""
        self.hearing.warm()
        self.foretelling.warm()

    def close(self) -> None:
        self.hearing.close()
        self.foretelling.close()


@lru_cache(maxsize=1)
def rehearsers() -> Rehearsers:
    """Those of this process; they start with the first question."""
    return Rehearsers()


def sound(
    recording_id: UUID, store: Store, *, number: int, turn: int, at_s: float, length_s: float, upto: str | None = None
) -> Heard:
    """A stretch of what the draft makes of a recording, by the recording's own time; up to the step called `upto` only, where one
    is named.

    Steps that can't run are passed over: the rest is heard. Raises NotFound, NotReady, and Overtaken where the draft is at another
    state than `number` by now.
    """

    return _asked(
        recording_id, store, _drafted(number, upto), turn, rehearsers().hearing, performing.sound, _stretch(at_s, length_s)
    )


def _stretch(at_s: float, length_s: float) -> Callable[[Rehearsed], SoundRequest]:
    """How a stretch of what is rehearsed is asked for."""
    return lambda base: SoundRequest(**dict(base), at_s=max(0.0, at_s), length_s=min(LONGEST_S, length_s))


def with_bed(recording_id: UUID, store: Store, *, turn: int, at_s: float, length_s: float) -> Heard:
    """A stretch of a recording as it came in or was edited, with what lies under it. Raises NotFound and NotReady."""

    return _asked(recording_id, store, _alone, turn, rehearsers().hearing, performing.sound, _stretch(at_s, length_s))


def foretold(recording_id: UUID, store: Store, *, number: int, turn: int) -> Foretold:
    """What the draft is expected to bring. Raises as `sound` does."""

    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is None:
            raise NotFound(what="recording")
        specification = kept.specification(session.get_one(Production, recording.production_id).specification)
        encoding = plannings.encoding(session, recording, specification)

    def request(base: Rehearsed) -> ForetellRequest:
        return ForetellRequest(**dict(base), specification=specification, encoding=encoding)

    return _asked(recording_id, store, _drafted(number), turn, rehearsers().foretelling, performing.foretell, request)


def pictures(recording_id: UUID, store: Store, *, number: int, turn: int, step: str) -> tuple[Picture, ...]:
    """The pictures of one step, be it on or off, after those before it that are on. Raises as `sound` does."""

    def request(base: Rehearsed) -> PictureRequest:
        return PictureRequest(**dict(base))

    chosen = _drafted(number, step, shown=True)
    answer = _asked(recording_id, store, chosen, turn, rehearsers().foretelling, performing.draw, request)
    return answer.pictures


def _asked(
    recording_id: UUID,
    store: Store,
    chosen: Chosen,
    turn: int,
    rehearser: Rehearser,
    compute: Callable[[Request], Answer | Unknown],
    request: Callable[[Rehearsed], Request],
) -> Answer:
    """What a rehearser answers of the steps that are `chosen` of a recording."""
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        record = lookup.whole(session, recording, light=True)
        if record is None or record.levels_sha256 is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        steps = chosen(session, recording, edited.facts_of(session, record).duration_s)
        levels = record.levels_sha256
        under = edited.underneath(session, recording)
        sha256, _ = sounds.heard_from(session, recording, record)
        key, tone = f"{recording.known_as} {record.room_tone} {record.methods_version}", room_tones.heard(session, recording)
        identity = (record.sha256, record.methods_version, record.room_tone)
    with ExitStack() as files:
        path = files.enter_context(store.compared(sha256, name=recording.name))
        retakes = under.edits.takes if under else ()
        base = Rehearsed(
            key=key,
            path=path,
            name=recording.name,
            room_tone=tone,
            known=None,
            steps=steps,
            edits=under.edits if under else None,
            takes={take: files.enter_context(store.compared(take, name=recording.name)) for take in retakes},
            facts=under.facts if under else None,
            sounds={sound: files.enter_context(store.compared(sound, name=recording.name)) for sound in _sounds(steps)},
        )

        def ask(known: Known | None) -> Answer | Unknown:
            asked = request(base.model_copy(update={"known": known}))
            return rehearser.ask(compute, asked, name=base.name, matter=str(recording_id), turn=turn)

        answer = ask(None)
        if isinstance(answer, Unknown):
            with transaction() as session:
                inspection = lookup.inspection(session.get_one(InspectionRecord, identity))
            with Drawn(levels, base.name, recording_id).whole(), store.compared(levels, name=base.name) as where:
                answer = ask(Known(inspection=inspection.model_copy(update={"name": base.name}), levels=where))
    assert not isinstance(answer, Unknown)
    return answer


def _sounds(steps: Sequence[Step]) -> set[str]:
    """What steps mix in."""
    return {sound for step in steps if isinstance(step.typed, Bed) for sound in step.typed.sounds}


def _drafted(number: int, upto: str | None = None, *, shown: bool = False) -> Chosen:
    """The steps of a draft that are on and can run, up to one; where that one is `shown`, be it off. What lies under the voice is
    laid under what comes out of all of them."""

    def chosen(session: Session, recording: Recording, length_s: float) -> tuple[Step, ...]:
        steps = _steps(session, recording, number, upto, shown=shown)
        return steps if upto is not None else order.with_bed(steps, _bed(session, recording, length_s))

    return chosen


def _bed(session: Session, recording: Recording, length_s: float) -> Step | None:
    """What lies under a recording of this length, as a step; None where nothing does. Of one that is rehearsed whole the step sees
    the length itself, with whatever the steps before it add."""
    bed = beds.read(beds.of(session, recording))
    if bed is None:
        return None
    length = {"length_s": length_s} if length_s > WHOLE_S else {}
    specification = kept.specification(session.get_one(Production, recording.production_id).specification)
    laid = bedded.within(Laid(bed.model_copy(update=length)), specification)
    return laid.step if laid is not None else None


def _alone(session: Session, recording: Recording, length_s: float) -> tuple[Step, ...]:
    return order.with_bed((), _bed(session, recording, length_s))


def _steps(session: Session, recording: Recording, number: int, upto: str | None, *, shown: bool) -> tuple[Step, ...]:
    state = drafts.state_of(session, recording)
    if state.number != number:
        raise Overtaken(file=recording.name)
    found = []
    for step in draft.read(drafts.steps_of(session, recording, state)):
        if (step.on or (shown and step.id == upto)) and step.reading.sound:
            found.append(Step(kind=step.kind, settings=dict(step.settings)))
        if step.id == upto:
            break
    return tuple(found)
