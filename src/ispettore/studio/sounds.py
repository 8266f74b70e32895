"""Sound to listen to: short PCM pieces of a recording or a deliverable, so that every format plays and positions are exact."""

from dataclasses import dataclass
from uuid import UUID

import numpy as np
from numpy.typing import NDArray

from ispettore.core.audio.writing import read_span
from ispettore.core.measure.inspection import METHODS_VERSION
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NotReady
from ispettore.studio.store import Store
from ispettore.studio.tables import Conforming, InspectionRecord, Recording

LONGEST_FRAMES = 1_000_000


@dataclass(frozen=True)
class Piece:
    """Samples of shape (frames, channels), float32; fewer than asked for at the end of the file."""

    samples: NDArray[np.float32]


def of_recording(recording_id: UUID, store: Store, *, start: int, frames: int) -> Piece:
    """A piece of an inspected recording. Raises NotFound or NotReady."""
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is None:
            raise NotFound(what="recording")
        inspection = session.get(InspectionRecord, (recording.sha256, METHODS_VERSION))
        if inspection is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        sha256 = inspection.listening_sha256 or recording.sha256
    return _piece(sha256, store, start, frames)


def of_deliverable(conforming_id: UUID, store: Store, *, start: int, frames: int) -> Piece:
    """A piece of a deliverable, decoded: constant MP3 and lossless formats seek exactly. Raises NotFound."""
    with transaction() as session:
        conforming = session.get(Conforming, conforming_id)
        if conforming is None or conforming.sha256 is None:
            raise NotFound(what="deliverable")
        sha256 = conforming.sha256
    return _piece(sha256, store, start, frames)


def _piece(sha256: str, store: Store, start: int, frames: int) -> Piece:
    with store.as_local(sha256) as path:
        return Piece(read_span(path, max(start, 0), min(frames, LONGEST_FRAMES)))
