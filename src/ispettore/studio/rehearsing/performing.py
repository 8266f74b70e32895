"""What a rehearser's child does: it keeps the recordings that were asked for last, each with what its steps have put out."""

import tempfile
from collections import OrderedDict
from pathlib import Path

import numpy as np
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.facts import FileFacts
from ispettore.core.edit.edits import Edits
from ispettore.core.edit.reading import Sound, over
from ispettore.core.measure import span_levels
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span
from ispettore.core.plan import rehearsing
from ispettore.core.plan.rehearsing import Foretold
from ispettore.core.plan.window import Learned
from ispettore.core.spec.specification import Specification
from ispettore.core.treat.pictures import Picture
from ispettore.core.treat.rehearsal import Rehearsal
from ispettore.core.treat.treatment import Step

HELD = 2


class _Sent(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Known(_Sent):
    """What was kept of a recording's inspection; `levels` is the file beside it."""

    inspection: Inspection
    levels: Path


class Rehearsed(_Sent):
    """A recording (`path` seeks exactly), with the edits over it if there are any, and the steps over that.
    `known` may be left out once it was sent under this `key`."""

    key: str
    path: Path
    name: str
    room_tone: Span | None
    known: Known | None
    steps: tuple[Step, ...]
    edits: Edits | None = None
    takes: dict[str, Path] = {}
    facts: FileFacts | None = None
    sounds: dict[str, Path] = {}
    """What the steps mix in, by the hashes of the bytes."""

    @property
    def sound(self) -> Sound:
        """What is rehearsed."""
        return over(self.path, self.edits, self.facts, self.takes)


class SoundRequest(Rehearsed):
    """A stretch of what comes out, by the recording's own time."""

    at_s: float
    length_s: float


class ForetellRequest(Rehearsed):
    specification: Specification
    encoding: Learned | None


class PictureRequest(Rehearsed):
    """The pictures of the last step."""


class Drawn(_Sent):
    pictures: tuple[Picture, ...]


class Unknown(_Sent):
    """Nothing is held under this key: ask again with what is known of the recording."""


class Heard(_Sent):
    """Interleaved 32-bit little-endian floats."""

    samples: bytes
    channels: int
    sample_rate_hz: int


_held: OrderedDict[str, tuple[Rehearsal, Basis]] = OrderedDict()


def sound(request: SoundRequest) -> Heard | Unknown:
    """A stretch of sound. Before the first sample there is silence."""
    found = _rehearsal(request)
    if found is None:
        return Unknown()
    rehearsal, _ = found
    steps = list(request.steps)
    rate = rehearsal.rate_of(steps)
    later = rehearsal.leads(steps)
    wanted = round((request.at_s + later) * rate)
    frames = round((request.at_s + later + request.length_s) * rate) - wanted
    start = max(0, wanted)
    heard = rehearsal.sound(steps, start, max(0, frames - (start - wanted)))
    if start > wanted:
        heard = np.concatenate((np.zeros((min(start - wanted, frames), heard.shape[1]), dtype=np.float32), heard))
    return Heard(samples=heard.astype("<f4").tobytes(), channels=heard.shape[1], sample_rate_hz=rate)


def foretell(request: ForetellRequest) -> Foretold | Unknown:
    """What the steps are expected to bring."""
    found = _rehearsal(request)
    if found is None:
        return Unknown()
    rehearsal, basis = found
    return rehearsing.foretold(rehearsal, basis, request.steps, request.specification, request.encoding)


def draw(request: PictureRequest) -> Drawn | Unknown:
    """What the last of the steps does; of a longer recording in its typical stretch, or at its ends."""
    found = _rehearsal(request)
    if found is None:
        return Unknown()
    rehearsal, basis = found
    return Drawn(pictures=rehearsing.pictured(rehearsal, basis, request.steps))


def _rehearsal(request: Rehearsed) -> tuple[Rehearsal, Basis] | None:
    if request.key in _held:
        _held.move_to_end(request.key)
        rehearsal, basis = _held[request.key]
        rehearsal.recording = request.sound
        rehearsal.sounds.update(request.sounds)
        return rehearsal, basis
    if request.known is None:
        return None
    with request.known.levels.open("rb") as file:
        basis = span_levels.basis(request.known.inspection, file)
    rehearsal = Rehearsal(
        request.sound,
        request.known.inspection,
        name=request.name,
        folder=Path(tempfile.mkdtemp()),
        room_tone=[request.room_tone] if request.room_tone else [],
    )
    rehearsal.sounds.update(request.sounds)
    _held[request.key] = rehearsal, basis
    while len(_held) > HELD:
        _, (old, _) = _held.popitem(last=False)
        old.let_go()
    return rehearsal, basis
