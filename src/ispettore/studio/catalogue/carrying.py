"""Edits of a file carried over to the newer one that took its place, once that is measured."""

from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlmodel import Session, col, select

from ispettore.core.edit import carrying
from ispettore.core.errors import ContentChanged
from ispettore.core.figures import clock
from ispettore.core.measure import span_levels
from ispettore.core.measure.grid import CELL_S
from ispettore.studio.catalogue import deeds, edited, editings, lookup
from ispettore.studio.errors import FileBreaksOff
from ispettore.studio.store.blobs import NotInStore, Store
from ispettore.studio.tables import EditState, Recording


def carry(session: Session, recording: Recording, store: Store) -> None:
    """Edit a recording as the file was that it took the place of, where that is heard in it as well; what has no place there is
    noted. Once alone: whoever undoes it has it undone."""
    before = select(Recording).where(Recording.replaced_by == recording.id)
    older = session.exec(before.order_by(col(Recording.created_at).desc()).limit(1)).first()
    line = edited.line(session, older) if older is not None else None
    known = select(EditState.number).where(EditState.recording_id == recording.id).limit(1)
    if older is None or line is None or session.exec(known).first() is not None:
        return
    count = len(line.edits.edits)
    try:
        onto = editings.now_of(session, recording)
        if onto.sample_rate_hz != line.edits.sample_rate_hz:
            deeds.note(session, recording, "The edits of the older file were not carried over: its sample rate differs.")
            return
        was, now = _powers(session, older, store), _powers(session, recording, store)
    except (FileBreaksOff, NotInStore, ContentChanged):
        deeds.note(session, recording, "The edits of the older file could not be carried over.")
        return
    found = carrying.carried(line.edits, was, onto, now, cell_s=CELL_S)
    places = ", ".join(clock(edit.start / onto.sample_rate_hz, 1) for edit in found.lost)
    missing = f" Not found in the newer: what was edited at {places} of the older." if found.lost else ""
    deeds.note(session, recording, f"Edits carried over from the older file: {len(found.edits.edits)} of {count}.{missing}")
    if found.edits.edits:
        editings.follow(session, recording, onto, found.edits)


def _powers(session: Session, recording: Recording, store: Store) -> NDArray[Any]:
    """The mean power of each cell of a recording's file, shape (cells,). Raises NotInStore and ContentChanged."""
    record = edited.of_file(session, recording)
    if record is None or record.levels_sha256 is None:
        raise NotInStore(file=recording.name)
    with store.open(record.levels_sha256, name=recording.name) as file:
        return np.asarray(span_levels.basis(lookup.inspection(record), file).power.mean(axis=0))
