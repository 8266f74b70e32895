"""What the bench draws: tiles of the level ribbon, how peaks and loudness run, the gain that moved; and what a span reads."""

import io
import json
from collections.abc import Callable
from functools import lru_cache
from typing import Any, TypeVar
from uuid import UUID

import numpy as np
from PIL import Image

from ispettore.core.errors import Cancelled
from ispettore.core.measure import pyramid, span_levels, spectrogram
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.spectrogram import never
from ispettore.studio.catalogue import conformings, lookup, sounds
from ispettore.studio.catalogue.drawn import Drawn
from ispettore.studio.database import transaction
from ispettore.studio.errors import NoSuchSpan, NotFound
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import InspectionRecord, Recording

T = TypeVar("T")
LONGEST_HEADER = 4 * 1024 * 1024


def _inspected(recording_id: UUID, *, light: bool = True) -> InspectionRecord:
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        record = lookup.whole(session, recording, light=light) if recording is not None else None
        if record is None:
            raise NotFound(what="inspected recording")
        return record


def pyramid_of_recording(recording_id: UUID) -> Drawn:
    """A recording's pyramid. Raises NotFound."""
    return _of_recording(recording_id, "pyramid_sha256", "picture of this recording")


def pyramid_of_deliverable(conforming_id: UUID) -> Drawn:
    """A deliverable's pyramid. Raises NotFound."""
    made = conformings.get(conforming_id)
    return Drawn(_there(made.pyramid_sha256, "picture of this deliverable"), f"the picture of {made.file_name or 'this file'}")


def _of_recording(recording_id: UUID, column: str, what: str) -> Drawn:
    with transaction() as session:
        recording = session.get(Recording, recording_id)
    return Drawn(_there(getattr(_inspected(recording_id), column), what), recording.name if recording else "", recording_id)


def tracks_of_deliverable(conforming_id: UUID) -> bytes:
    """How a deliverable's peaks and loudness run. Raises NotFound."""
    return _there(conformings.get(conforming_id).tracks, "series of this deliverable")


def reduction(conforming_id: UUID) -> bytes:
    """The gain that dynamic steps moved, packed as `trace` packs it. Raises NotFound."""
    return _there(conformings.get(conforming_id).reduction, "gain of this deliverable")


def _there(found: T | None, what: str) -> T:
    if found is None:
        raise NotFound(what=what)
    return found


def shape(drawn: Drawn, store: Store) -> list[int]:
    """How many columns each level of a pyramid has, from the finest (5 ms a column). Raises as `Drawn.whole` does."""
    with drawn.whole():
        header, _ = _header(drawn, store)
    found: list[int] = header["columns"]
    return found


def tile(drawn: Drawn, store: Store, *, level: int, index: int) -> bytes:
    """One tile of a pyramid, compressed as it is kept (zlib). Raises NotFound, and as `Drawn.whole` does."""
    with drawn.whole():
        header, start = _header(drawn, store)
        place = _there(pyramid.place(header, level, index), "part of this picture")
        return b"".join(store.read(drawn.sha256, name=drawn.name, start=start + place[0], end=start + place[1]))


def tracks(recording_id: UUID) -> bytes:
    """How peaks and loudness run, packed as `Tracks` packs them. Raises NotFound."""
    return _there(_inspected(recording_id).tracks, "series of this recording")


def span_readings(
    recording_id: UUID, store: Store, *, start_s: float, end_s: float, cancelled: Callable[[], bool] = never
) -> dict[str, Reading]:
    """Every level reading of a span of an inspected recording. Raises NotFound, NoSuchSpan, NotReady and Cancelled."""
    if cancelled():
        raise Cancelled
    kept = _of_recording(recording_id, "levels_sha256", "levels of this recording")
    try:
        with kept.whole():
            header, after = _header(kept, store)
            levels = span_levels.cut(
                header,
                lambda first, last: b"".join(store.read(kept.sha256, name=kept.name, start=after + first, end=after + last)),
                start_s=start_s,
                end_s=end_s,
            )
    except ValueError:
        raise NoSuchSpan(longest_min=span_levels.LONGEST_S / 60) from None
    with sounds.opened(recording_id, store) as samples:
        return span_levels.readings(levels, samples)


def spectrogram_of(
    recording_id: UUID,
    store: Store,
    *,
    start_s: float,
    end_s: float,
    columns: int,
    rows: int,
    cancelled: Callable[[], bool] = never,
) -> tuple[bytes, spectrogram.Axes]:
    """A PNG of a span's spectrogram, darkest where it is loudest, and what its edges stand for.

    Raises NotFound, NoSuchSpan, and Cancelled.
    """
    inspection = lookup.inspection(_inspected(recording_id, light=False))
    rate = inspection.facts.sample_rate_hz
    if not 0 <= start_s < end_s <= inspection.facts.duration_s + 1:
        raise NoSuchSpan(longest_min=inspection.facts.duration_s / 60)
    where = spectrogram.axes(start_s, end_s, sample_rate_hz=rate)
    with sounds.opened(recording_id, store) as samples:
        levels = spectrogram.levels(samples, where, sample_rate_hz=rate, columns=columns, rows=rows, cancelled=cancelled)
    shades = spectrogram.shades(levels, where)
    # Ink laid on paper: the page's own colours show through.
    picture = Image.fromarray(np.dstack((np.zeros_like(shades), shades)), "LA")
    out = io.BytesIO()
    picture.save(out, "PNG", compress_level=3)
    return out.getvalue(), where


@lru_cache(maxsize=64)
def _header(drawn: Drawn, store: Store) -> tuple[dict[str, Any], int]:
    """A pyramid's or kept levels' line of JSON, and where what follows it starts. Blobs never change, so it is kept."""
    found = bytearray()
    for piece in store.read(drawn.sha256, name=drawn.name, end=LONGEST_HEADER):
        found += piece
        if b"\n" in piece:
            break
    line = bytes(found).split(b"\n", 1)[0]
    return json.loads(line), len(line) + 1
