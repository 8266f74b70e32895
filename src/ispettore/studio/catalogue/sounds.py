"""Sound to listen to: short PCM pieces of a recording or a deliverable, so that every format plays and positions are exact."""

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from functools import cache
from uuid import UUID

import numpy as np
from numpy.typing import NDArray
from sqlmodel import Session

from ispettore.core.audio.writing import Samples
from ispettore.core.edit import making
from ispettore.core.edit.reading import EditedSamples
from ispettore.core.edit.timeline import Timeline
from ispettore.studio.catalogue import edited, editings, lookup
from ispettore.studio.database import transaction
from ispettore.studio.errors import FileCleared, NotFound, NotReady
from ispettore.studio.jobs import decoding
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Conforming, InspectionRecord, Recording

LONGEST_FRAMES = 1_000_000


@dataclass(frozen=True)
class Piece:
    """Samples of shape (frames, channels), float32; fewer than asked for at the end of the file."""

    samples: NDArray[np.float32]


def of_recording(recording_id: UUID, store: Store, *, start: int, frames: int) -> Piece:
    """A piece of an inspected recording. Raises NotFound, NotReady, NotInStore, ContentChanged and NotDecoded."""
    with opened(recording_id, store) as samples:
        return _piece(samples, start, frames)


def of_file(recording_id: UUID, store: Store, *, start: int, frames: int) -> Piece:
    """A piece of a recording as its file came in, without its edits. Raises as `of_recording` does."""
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        record = edited.of_file(session, recording) if recording is not None else None
        if recording is None or record is None:
            raise NotFound(what="inspected recording")
    with spans(record.listening_sha256 or recording.sha256, store, name=recording.name) as samples:
        return _piece(samples, start, frames)


def with_cut(recording_id: UUID, store: Store, *, cut_s: tuple[float, float], start: int, frames: int) -> Piece:
    """A piece of a recording as it would be heard if a stretch of it were cut out. Raises as `of_recording` does, FileBreaksOff and
    SpanNotEditable."""
    with transaction() as session:
        recording, record = inspected(session, recording_id)
        sha256, _ = heard_from(session, recording, record)
        line = Timeline(making.cut(editings.now_of(session, recording), *cut_s, file=recording.name))
    with spans(sha256, store, name=recording.name, line=line) as samples:
        return _piece(samples, start, frames)


@contextmanager
def opened(recording_id: UUID, store: Store) -> Iterator[Samples]:
    """An inspected recording from which many pieces are read. Raises NotFound or NotReady; and, here as while it is read,
    NotInStore, ContentChanged and NotDecoded."""
    with transaction() as session:
        recording, record = inspected(session, recording_id)
        sha256, line = heard_from(session, recording, record)
    with spans(sha256, store, name=recording.name, line=line) as samples:
        yield samples


@contextmanager
def spans(sha256: str, store: Store, *, name: str, line: Timeline | None = None) -> Iterator[Samples]:
    """A blob that seeks exactly, with edits over it if there are any, from which many pieces are read:
    damaged ones are not. Raises NotInStore; and, while it is
    read, ContentChanged and NotDecoded."""
    with store.open(sha256, name=name) as kept:
        samples = decoding.decoders().samples_of(kept, name=name)
        if line is None:
            yield samples
            return
        with ExitStack() as opened:

            @cache
            def takes(prepared: str) -> Samples:
                return decoding.decoders().samples_of(opened.enter_context(store.open(prepared, name=name)), name=name)

            yield EditedSamples(samples, line, takes)


def heard_from(session: Session, recording: Recording, record: InspectionRecord) -> tuple[str, Timeline | None]:
    """The blob that seeks exactly from which an inspected recording is heard, its own or a lossless copy of it, and the edits over
    it. Raises NotFound."""
    line = edited.line(session, recording)
    if line is not None:
        record = edited.of_file(session, recording) or record
    return record.listening_sha256 or recording.sha256, line


def inspected(session: Session, recording_id: UUID) -> tuple[Recording, InspectionRecord]:
    """A recording, and what is kept of its inspection. Raises NotFound or NotReady."""
    recording = session.get(Recording, recording_id)
    if recording is None:
        raise NotFound(what="recording")
    record = lookup.whole(session, recording)
    if record is None:
        raise NotReady(file=recording.name, reason="has not been inspected yet")
    return recording, record


def of_deliverable(conforming_id: UUID, store: Store, *, start: int, frames: int) -> Piece:
    """A piece of a deliverable, decoded: constant MP3 and lossless formats seek exactly. Raises NotFound,
    FileCleared, NotInStore, ContentChanged and NotDecoded."""
    with transaction() as session:
        conforming = session.get(Conforming, conforming_id)
        if conforming is None or conforming.sha256 is None:
            raise NotFound(what="deliverable")
        if conforming.cleared_at is not None:
            raise FileCleared(file=conforming.file_name or "the file")
        name, sha256 = conforming.file_name or "the file", conforming.listening_sha256 or conforming.sha256
    with spans(sha256, store, name=name) as samples:
        return _piece(samples, start, frames)


def _piece(samples: Samples, start: int, frames: int) -> Piece:
    return Piece(samples(max(start, 0), min(frames, LONGEST_FRAMES)))
