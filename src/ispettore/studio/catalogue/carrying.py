"""Edits and chapter marks of a file carried over to the newer one that took its place, once that is measured."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlmodel import Session, col, select

from ispettore.core.edit import carrying
from ispettore.core.edit.edits import Edits
from ispettore.core.errors import ContentChanged
from ispettore.core.figures import clock
from ispettore.core.measure import span_levels
from ispettore.core.measure.grid import CELL_S
from ispettore.studio.catalogue import chapters, deeds, edited, editings, lookup
from ispettore.studio.errors import FileBreaksOff
from ispettore.studio.store.blobs import NotInStore, Store
from ispettore.studio.tables import ChapterRecord, DeedRecord, EditState, Recording

Powers = NDArray[Any]
CARRIED = "Chapter marks carried over from the older file"


def carry(session: Session, recording: Recording, store: Store) -> None:
    """Edit and mark a recording as the file was that it took the place of, where that is heard in it as well; what has no place
    there is noted. Once alone: whoever undoes it has it undone."""
    before = select(Recording).where(Recording.replaced_by == recording.id)
    older = session.exec(before.order_by(col(Recording.created_at).desc()).limit(1)).first()
    if older is None:
        return
    known = select(EditState.number).where(EditState.recording_id == recording.id).limit(1)
    line = edited.line(session, older) if session.exec(known).first() is None else None
    marks = chapters.marks(session, older) if not _marked(session, recording) else []
    if line is None and not marks:
        return
    try:
        was, now = _powers(session, older, store), _powers(session, recording, store)
    except (NotInStore, ContentChanged):
        deeds.note(session, recording, "Edits and chapter marks of the older file could not be carried over.")
        return
    _mark(session, recording, marks, was, now)
    if line is not None:
        _edit(session, recording, line.edits, was, now)


def _marked(session: Session, recording: Recording) -> bool:
    """Whether marks were carried over before, or set here: whoever removed them does not get them again."""
    noted = select(DeedRecord.id).where(DeedRecord.recording_id == recording.id, col(DeedRecord.text).startswith(CARRIED))
    return bool(chapters.marks(session, recording)) or session.exec(noted.limit(1)).first() is not None


def _mark(session: Session, recording: Recording, marks: Sequence[ChapterRecord], was: Powers, now: Powers) -> None:
    places = carrying.moments([one.at_s for one in marks], was, now, cell_s=CELL_S)
    for mark, at_s in zip(marks, places, strict=True):
        if at_s is not None:
            chapters.copy(session, mark, recording, at_s)
    if marks:
        there = sum(at_s is not None for at_s in places)
        deeds.note(session, recording, f"{CARRIED}: {there} of {len(marks)}.")


def _edit(session: Session, recording: Recording, edits: Edits, was: Powers, now: Powers) -> None:
    try:
        onto = editings.now_of(session, recording)
    except FileBreaksOff:
        deeds.note(session, recording, "The edits of the older file could not be carried over.")
        return
    if onto.sample_rate_hz != edits.sample_rate_hz:
        deeds.note(session, recording, "The edits of the older file were not carried over: its sample rate differs.")
        return
    found = carrying.carried(edits, was, onto, now, cell_s=CELL_S)
    places = ", ".join(clock(edit.start / onto.sample_rate_hz, 1) for edit in found.lost)
    missing = f" Not found in the newer: what was edited at {places} of the older." if found.lost else ""
    count = len(edits.edits)
    deeds.note(session, recording, f"Edits carried over from the older file: {len(found.edits.edits)} of {count}.{missing}")
    if found.edits.edits:
        editings.follow(session, recording, onto, found.edits)


def _powers(session: Session, recording: Recording, store: Store) -> Powers:
    """The mean power of each cell of a recording's file, shape (cells,). Raises NotInStore and ContentChanged."""
    record = edited.of_file(session, recording)
    if record is None or record.levels_sha256 is None:
        raise NotInStore(file=recording.name)
    with store.open(record.levels_sha256, name=recording.name) as file:
        return np.asarray(span_levels.basis(lookup.inspection(record), file).power.mean(axis=0))
