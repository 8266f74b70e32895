"""Laying sounds under voices: bringing them in, saying what lies where and how loud, and what came of it."""

import hashlib
from collections.abc import Mapping, Sequence
from typing import Any
from uuid import UUID

from pydantic import BaseModel
from sqlmodel import Session, col, select

from ispettore.core.bed import ducking
from ispettore.core.measure import span_levels
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.bedded import UnderVoice
from ispettore.core.spec import kept
from ispettore.core.treat import draft, trace, wording
from ispettore.core.treat.bed import Bed, Clip, Mix
from ispettore.core.treat.draft import DraftStep, ReadStep
from ispettore.studio import events
from ispettore.studio.catalogue import beds, conformings, deeds, edited, lookup, plannings
from ispettore.studio.catalogue.drawn import Drawn
from ispettore.studio.catalogue.held import Held
from ispettore.studio.catalogue.recordings import shown_name
from ispettore.studio.database import transaction
from ispettore.studio.errors import BedChanged, BedSoundInUse, BedSoundUnknown, BedUnusable, NotFound, NotReady
from ispettore.studio.jobs import works
from ispettore.studio.jobs.works import WorkView
from ispettore.studio.store.blobs import Blob, Store
from ispettore.studio.tables import BedSound, Conforming, Production, Recording, WorkKind, now

_lowered: Held[tuple[str, str], bytes] = Held(100)
"""What a voice will lower, by its levels and the bed."""


class BedSoundView(BaseModel):
    """A sound that can be laid. `sound` is what a clip names it by, empty until it is measured; `work` is the measuring."""

    id: UUID
    name: str
    sound: str
    duration_s: float | None
    channels: int | None
    loudness_lufs: float | None
    true_peak_dbtp: float | None
    work: WorkView | None


class ClipHeard(BaseModel):
    """From when to when a clip is heard in this recording; not at all where the end is not after the start."""

    start_s: float
    end_s: float


class BedView(BaseModel):
    """What lies under a recording, in the time of that as it is edited. `own` says that it is its own; what lies under the whole
    production is `of_production`. `state` tells one bed from another.

    `step` and `of_production_step` are both as they read. `planned` is what it does to the plan, `made` what voice, bed and mix
    came to in the file that was made with it last, by the attempt `made_by`.
    """

    production_id: UUID
    own: bool
    bed: Bed
    of_production: Bed
    state: str
    of_production_state: str
    length_s: float
    sounds: list[BedSoundView]
    heard: list[ClipHeard]
    step: ReadStep
    of_production_step: ReadStep
    planned: UnderVoice | None
    made: Mix | None
    made_by: UUID | None


def view(recording_id: UUID) -> BedView:
    """Raises NotFound."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        production = session.get_one(Production, recording.production_id)
        there = beds.text(production, recording)
        bed, shared = beds.whole(there), beds.whole(production.bed)
        record = lookup.whole(session, recording, light=True)
        length_s = edited.facts_of(session, record).duration_s if record is not None else 0.0
        made = _made(session, recording, there)
        return BedView(
            production_id=production.id,
            own=bool(recording.bed),
            bed=bed,
            of_production=shared,
            state=state(there),
            of_production_state=state(production.bed),
            length_s=length_s,
            sounds=_sounds(session, production.id),
            heard=[ClipHeard(start_s=start, end_s=end) for start, end in (clip.heard_s(length_s) for clip in bed.clips)],
            step=_step(bed),
            of_production_step=_step(shared),
            planned=plannings.under(session, recording, kept.specification(production.specification)) if bed.clips else None,
            made=conformings.mix(made) if made is not None else None,
            made_by=made.id if made is not None else None,
        )


def will_lower(recording_id: UUID, store: Store) -> bytes:
    """How far the voice of a recording will lower its bed, as it was recorded: the lowest gain in each 50 ms, packed as `trace`
    says. Raises NotFound and NotReady."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        record = lookup.whole(session, recording)
        if record is None or record.levels_sha256 is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        bed, levels, inspection = beds.whole(beds.of(session, recording)), record.levels_sha256, lookup.inspection(record)

    def read(missing: list[tuple[str, str]]) -> dict[tuple[str, str], bytes]:
        where = Drawn(levels, recording.name, recording.id)
        with where.whole(), store.compared(levels, name=recording.name) as path, path.open("rb") as file:
            power = span_levels.basis(inspection, file).power.mean(axis=0)
        gain = ducking.gain_db(power, inspection.value("active_speech_level_dbfs"), bed.ducking)
        return {key: trace.packed(gain) for key in missing}

    key = (levels, bed.model_copy(update={"clips": ()}).model_dump_json())
    return _lowered.of([key], read)[key]


def lowered(conforming_id: UUID) -> bytes:
    """How far the voice lowered the bed in an attempt, packed alike. Raises NotFound."""
    found = conformings.get(conforming_id).lowered
    if found is None:
        raise NotFound(what="bed of this deliverable")
    return found


def change(recording_id: UUID, wanted: Mapping[str, Any] | None, *, follows: str) -> None:
    """Lay this under a recording, be it nothing; with None what lies under its production. Raises NotFound, BedUnusable,
    BedSoundUnknown, and BedChanged where it is not as it `follows` any more."""
    with transaction() as session:
        recording = session.get(Recording, recording_id, with_for_update=True)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        production = session.get_one(Production, recording.production_id)
        before = beds.text(production, recording)
        if state(before) != follows:
            raise BedChanged(file=recording.name)
        bed = None if wanted is None else _known(session, production.id, wanted, recording.name)
        recording.bed = "" if bed is None else beds.written(bed)
        deeds.note(session, recording, _told(bed))
        session.add(recording)
        events.tell_of(session, recording)


def change_all(production_id: UUID, wanted: Mapping[str, Any], *, follows: str) -> str:
    """Lay this under every recording of a production that has nothing of its own; its state then. Raises as `change`."""
    with transaction() as session:
        production = _production(session, production_id, lock=True)
        if state(production.bed) != follows:
            raise BedChanged(file=production.name)
        bed = _known(session, production.id, wanted, production.name)
        production.bed = beds.written(bed) if bed != Bed() else ""
        deeds.note(session, production, _told(bed))
        session.add(production)
        _tell(session, production.id)
        return state(production.bed)


def expected(production_id: UUID) -> None:
    """Whether a sound can come in. Raises NotFound."""
    with transaction() as session:
        _production(session, production_id)


def sounds(production_id: UUID) -> list[BedSoundView]:
    """The sounds that can be laid in a production."""
    with transaction() as session:
        return _sounds(session, production_id)


def add(production_id: UUID, name: str, blob: Blob, *, known: Inspection | None = None) -> UUID:
    """Take a stored file in as a sound that can be laid, and have it measured, unless that is `known` and it can be sought in
    exactly. One that is there already stays the one. Raises NotFound."""
    with transaction() as session:
        production = _production(session, production_id, lock=True)
        same = (BedSound.production_id == production.id, BedSound.sha256 == blob.sha256, col(BedSound.removed_at).is_(None))
        there = session.exec(select(BedSound).where(*same)).first()
        if there is not None:
            work = works.newest(session, WorkKind.BED, [there.id]).get(there.id)
            if there.told is None and (work is None or work.state in ("failed", "cancelled")):
                works.ask(session, WorkKind.BED, there.id, of=None, production_id=production.id)
            return there.id
        sound = BedSound(production_id=production.id, name=shown_name(name), sha256=blob.sha256, size_bytes=blob.size_bytes)
        session.add(sound)
        session.flush()
        if known is not None and known.facts.seeks_exactly:
            beds.measured(session, sound, known, sound.sha256)
        else:
            works.ask(session, WorkKind.BED, sound.id, of=None, production_id=production.id)
        _tell(session, production.id)
        return sound.id


def remove(sound_id: UUID) -> None:
    """Take a sound off the list of those that can be laid; its file stays with what was made with it. Raises NotFound, and
    BedSoundInUse where it lies under something."""
    with transaction() as session:
        sound = session.get(BedSound, sound_id, with_for_update=True)
        if sound is None or sound.removed_at is not None:
            raise NotFound(what="sound")
        production = session.get_one(Production, sound.production_id)
        of_it = (Recording.production_id == production.id, col(Recording.removed_at).is_(None), Recording.bed != "")
        texts = [production.bed, *session.exec(select(Recording.bed).where(*of_it)).all()]
        used = sum(sound.heard_sha256 in beds.whole(text).sounds for text in texts)
        if used:
            raise BedSoundInUse(name=sound.name, count=used)
        sound.removed_at = now()
        session.add(sound)
        _tell(session, production.id)


def state(text: str) -> str:
    """What tells one bed from another, as it is kept."""
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def _told(bed: Bed | None) -> str:
    if bed is None:
        return "Bed: as in the production."
    count = len(bed.clips)
    return f"Bed changed: {count} {'sound' if count == 1 else 'sounds'} under the voice." if count else "Bed taken out."


def _recording(session: Session, recording_id: UUID) -> Recording:
    recording = session.get(Recording, recording_id)
    if recording is None:
        raise NotFound(what="recording")
    return recording


def _production(session: Session, production_id: UUID, *, lock: bool = False) -> Production:
    production = session.get(Production, production_id, with_for_update=lock)
    if production is None or production.removed_at is not None:
        raise NotFound(what="production")
    return production


def _tell(session: Session, production_id: UUID) -> None:
    events.tell(session, events.Notice(about="production", id=str(production_id), production=production_id))


def _step(bed: Bed) -> ReadStep:
    [step] = draft.read([DraftStep(kind="bed", settings=bed.model_dump(mode="json"))])
    return step


def _known(session: Session, production_id: UUID, wanted: Mapping[str, Any], file: str) -> Bed:
    """A bed whose sounds are all of this production, called as they are there. Raises BedUnusable and BedSoundUnknown."""
    reading = wording.read("bed", wanted)
    if not reading.sound:
        wrong = [*(setting.problem for setting in reading.settings.values() if setting.problem), *reading.problems]
        raise BedUnusable(reason=wrong[0])
    bed = Bed.model_validate(wanted)
    there = session.exec(select(BedSound).where(BedSound.production_id == production_id)).all()
    names = {row.heard_sha256: row.name for row in there if row.heard_sha256 is not None}
    clips: list[Clip] = []
    for clip in bed.clips:
        if clip.sound not in names:
            raise BedSoundUnknown(file=file)
        clips.append(clip.model_copy(update={"name": names[clip.sound]}))
    return bed.model_copy(update={"clips": tuple(clips), "begins_s": 0.0, "length_s": None})


def _sounds(session: Session, production_id: UUID) -> list[BedSoundView]:
    rows = select(BedSound).where(BedSound.production_id == production_id, col(BedSound.removed_at).is_(None))
    found: Sequence[BedSound] = session.exec(rows.order_by(col(BedSound.created_at), col(BedSound.id))).all()
    running = works.newest(session, WorkKind.BED, [one.id for one in found])
    views = []
    for one in found:
        told = one.told or {}
        views.append(
            BedSoundView(
                id=one.id,
                name=one.name,
                sound=one.heard_sha256 or "",
                duration_s=told.get("duration_s"),
                channels=told.get("channels"),
                loudness_lufs=told.get("integrated_loudness_lufs"),
                true_peak_dbtp=told.get("true_peak_dbtp"),
                work=works.view(running.get(one.id)) if one.told is None else None,
            )
        )
    return views


def _made(session: Session, recording: Recording, laid: str) -> Conforming | None:
    """The newest attempt with just this bed under just this recording that brought a file."""
    if not beds.whole(laid).clips:
        return None
    same = (Conforming.recording_id == recording.id, Conforming.edited == recording.edited, Conforming.laid == laid)
    rows = select(Conforming).where(*same, col(Conforming.sha256).is_not(None))
    return session.exec(rows.order_by(col(Conforming.created_at).desc()).limit(1)).first()
