"""Where takes lie while they are recorded: a WAV file each, what is known of it, and its levels, in a folder beside the uploads.

Whatever happens, what was promised of a take stays here until somebody finishes or discards it.
"""

import json
import os
import time
from datetime import datetime
from pathlib import Path
from uuid import UUID

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ispettore.core.audio import cues
from ispettore.core.check.live import LiveLevels
from ispettore.studio.catalogue.incoming import KEEP_DAYS, UID
from ispettore.studio.errors import NotFound
from ispettore.studio.settings import settings


class TakeMark(BaseModel):
    """A mark that was set while reading: after how many frames, and what stands there."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    frame: int = Field(ge=0, le=2**53)
    text: str = Field("", max_length=cues.LONGEST)


class TakeFacts(BaseModel):
    """What is known of a take beside its sound. `recording` is what it became, once it was finished: that is known here for some
    days, for a page that did not hear the answer."""

    model_config = ConfigDict(frozen=True)

    id: str
    production_id: UUID
    name: str
    heard_from: str
    sample_rate_hz: int
    channels: int
    begun_at: datetime
    marks: tuple[TakeMark, ...] = ()
    recording: UUID | None = None


def folder() -> Path:
    """Where they lie; made with the first."""
    return settings().incoming / "takes"


def sound(identifier: str) -> Path:
    """The WAV file of a take. Raises NotFound for what is no identifier."""
    if not UID.match(identifier):
        raise NotFound(what="take")
    return folder() / f"{identifier}.wav"


def facts(identifier: str) -> TakeFacts:
    """What is known of one. Raises NotFound."""
    try:
        return TakeFacts.model_validate_json(sound(identifier).with_suffix(".json").read_bytes())
    except (OSError, ValidationError):
        raise NotFound(what="take") from None


def note(known: TakeFacts) -> None:
    """Write it down, whole or not at all. Raises OSError."""
    target = sound(known.id).with_suffix(".json")
    target.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    temporary = target.with_suffix(".part")
    with temporary.open("w", encoding="utf-8") as file:
        json.dump(known.model_dump(mode="json"), file)
        file.flush()
        os.fsync(file.fileno())
    temporary.replace(target)


def all_of(production_id: UUID) -> list[TakeFacts]:
    """Those of a production that are neither finished nor discarded, the oldest first. What is known of those that were finished
    some days ago goes."""
    found = []
    for path in folder().glob("*.json"):
        try:
            one = facts(path.stem)
        except NotFound:
            continue
        if one.recording is None:
            found.append(one)
        elif time.time() - path.stat().st_mtime > KEEP_DAYS * 86_400:
            remove(one.id)
    return sorted((one for one in found if one.production_id == production_id), key=lambda one: one.begun_at)


def remove(identifier: str) -> None:
    """Let go of all that lies here of a take."""
    path = sound(identifier)
    for one in (path, path.with_suffix(".json"), path.with_suffix(".part"), path.with_suffix(".levels")):
        one.unlink(missing_ok=True)


def add_levels(identifier: str, levels: list[LiveLevels]) -> None:
    """Keep what a take read while it was recorded, so that it can be drawn once more; losing some of it loses no sound. Of one that
    is not there any more nothing is kept."""
    if not sound(identifier).exists():
        return
    rows = [(one.at_s, _or_silence(one.peak_dbfs), _or_silence(one.rms_dbfs), one.full_scale) for one in levels]
    with sound(identifier).with_suffix(".levels").open("ab") as file:
        file.write(np.array(rows, dtype="<f4").tobytes())


def levels(identifier: str, *, most: int) -> NDArray[np.float32]:
    """What it read, as at most so many rows in the order of time: until when (s), the highest peak and the highest RMS level (dBFS,
    −200 for silence), and how many samples stood at full scale."""
    try:
        content = sound(identifier).with_suffix(".levels").read_bytes()
    except OSError:
        content = b""
    rows = np.frombuffer(content[: len(content) // 16 * 16], dtype="<f4").reshape(-1, 4)
    rows = rows[np.argsort(rows[:, 0], kind="stable")]
    together = -(-len(rows) // most) if len(rows) else 1
    first = np.arange(0, len(rows), together)
    if not len(first):
        return rows
    highest = np.maximum.reduceat(rows[:, :3], first)
    return np.column_stack((highest, np.add.reduceat(rows[:, 3], first)))


def _or_silence(level: float | None) -> float:
    return -200.0 if level is None else level
