"""What a worker asks of a child and what comes back: a frozen model each for every kind of work, and nothing else crosses (of a
check, `views.Verified` comes back).

Paths point to files on this machine, and are all that a child can read; what it writes lies in the request's `folder`, for the
worker to put away. No private key is among them: the worker seals.
"""

from datetime import datetime
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.cover import Kind
from ispettore.core.audio.facts import FileFacts
from ispettore.core.audio.formats import FormatName
from ispettore.core.audio.tagging import Tags
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.certify.certificate import Known, Origin
from ispettore.core.edit.edits import Edits
from ispettore.core.edit.reading import Sound, over
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span
from ispettore.core.plan.bedded import Laid
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.encoding import Master
from ispettore.core.plan.one_sound import Likeness
from ispettore.core.plan.preferences import Preference
from ispettore.core.spec.specification import Specification
from ispettore.core.treat.bed import Bed
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.core.treat.retake import Matched


class _Sent(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class LaidSounds(_Sent):
    """A bed, and its sounds by the hashes of their bytes: whoever sends them knows that they are these."""

    bed: Bed
    sounds: dict[str, Path]

    @property
    def laid(self) -> Laid:
        """What is laid under the voice."""
        return Laid(self.bed, self.sounds)


class SourceFile(_Sent):
    """A file whose bytes have this hash: whoever sends it knows so, and nobody hashes it again.

    `room_tone` is where a person chose it; None where it is to be found. With `edits` over it, `path` seeks exactly, `takes` are
    the retakes in them, `known_as` is what the sound is known by, and `facts` are those of the file that came in.
    """

    path: Path
    name: str
    sha256: str
    room_tone: Span | None = None
    edits: Edits | None = None
    takes: dict[str, Path] = {}
    facts: FileFacts | None = None
    known_as: str = ""

    @property
    def sound(self) -> Sound:
        """What is measured and treated."""
        return over(self.path, self.edits, self.facts, self.takes)


class InspectRequest(_Sent):
    source: SourceFile
    folder: Path


class Inspected(_Sent):
    """An inspection as JSON values, its miniature ribbon, how its peaks and loudness run, and where its pyramid and levels were
    written; `listening` is a lossless copy, where the file itself can't be sought in exactly."""

    inspection: dict[str, Any]
    methods_version: int
    ribbon: bytes
    tracks: bytes
    pyramid: Path
    levels: Path
    listening: Path | None


class KnownSource(_Sent):
    """What is kept of the source's inspection: `levels` were written beside it."""

    inspection: Inspection
    levels: Path


class RetakeRequest(_Sent):
    """A retake for a span of a recording, in the time of that as it is edited. Where `known` is None the recording is measured
    first."""

    source: SourceFile
    known: KnownSource | None
    take: Path
    name: str
    span: Span
    folder: Path


class PreparedTake(_Sent):
    """A retake as it is put in, what was done to it, and how long nobody spoke at the start and the end of the span."""

    path: Path
    matched: Matched
    lead_s: float
    trail_s: float


class BedRequest(_Sent):
    """A sound for beds, as it came in."""

    path: Path
    name: str
    sha256: str
    folder: Path


class MeasuredBed(_Sent):
    """What was measured of it; `heard` is a lossless copy, where the file itself can't be sought in exactly."""

    inspection: Inspection
    heard: Path | None


class ConformRequest(_Sent):
    """`file_name` is what the result is to be called. Where `known` is None the source is measured first. `certifies` tells whether
    whoever asked may certify the result."""

    source: SourceFile
    known: KnownSource | None
    specification: Specification
    preference: Preference
    treatment: KeptTreatment | None = None
    likeness: Likeness | None = None
    bounds: Bounds | None = None
    under: LaidSounds | None = None
    form: OutputFormat
    file_name: str
    certifies: bool = True
    folder: Path
    beside: Known
    issued: datetime
    issuer: str


class PlanRequest(_Sent):
    """Where `known` is None the source is measured first."""

    source: SourceFile
    known: KnownSource | None
    specification: Specification
    preferences: tuple[Preference, ...]
    treatment: KeptTreatment | None = None
    likeness: Likeness | None = None
    bounds: Bounds | None = None
    under: LaidSounds | None = None


class Planned(_Sent):
    """Up to three plans by their preferences, gentlest first, as JSON values."""

    plans: list[dict[str, Any]]


class Deliverable(_Sent):
    """A written file with its hash, its picture at every zoom, and what its certificate is to say, where it is one that is
    certified; `listening` is a lossless copy, where the file itself can't be sought in exactly."""

    path: Path
    sha256: str
    ribbon: bytes | None = None
    tracks: bytes | None = None
    pyramid: Path | None = None
    listening: Path | None = None
    certificate: dict[str, Any] | None = None


class ConformedFile(_Sent):
    """The outcome as JSON values; `written` where a file was written; `reduction` is the gain that moved on the way, `lowered` how
    far the voice lowered what lies under it."""

    outcome: dict[str, Any]
    written: Deliverable | None = None
    reduction: bytes | None = None
    lowered: bytes | None = None


class CoverFile(_Sent):
    """A picture that was checked when it came in."""

    path: Path
    kind: Kind
    width: int
    height: int


class DeliverRequest(_Sent):
    """The file of an attempt, with what it is to say of itself. `origin` is where it came from, `master` what it was before it was
    written, where that is known."""

    path: Path
    container: FormatName
    file_name: str
    tags: Tags
    cover: CoverFile | None
    specification: Specification
    origin: Origin
    beside: Known
    master: Master | None
    folder: Path
    issued: datetime
    issuer: str


class DeliveredFile(_Sent):
    """The tagged file with its hash and CRC-32, what it measured, what writing did to the master, and what its certificate is to
    say where it met every required limit."""

    path: Path
    sha256: str
    crc32: int
    outcome: dict[str, Any]
    certificate: dict[str, Any] | None


class VerifyRequest(_Sent):
    """`certificate` is what the file `certificate_name` holds. The file is hashed: it comes from anywhere; None where there is
    none. Of a package, files are unpacked into `folder`. `notices` are all that may speak of it, `keys` is a folder of public
    keys."""

    path: Path | None
    name: str
    certificate: bytes
    certificate_name: str
    notices: tuple[dict[str, Any], ...]
    folder: Path
    keys: Path
