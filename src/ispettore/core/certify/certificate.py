"""The certificate: what was measured in one delivered file, against which specification, and that it met it; and that of a
production, which names the certificates of its files.

It speaks of technical limits only, never of how a voice sounds. Whether someone listened the file through is in it as far as that
was known when it was issued.
"""

import hashlib
from collections.abc import Sequence
from datetime import datetime
from importlib.metadata import version
from pathlib import Path
from typing import Any, Literal

import rfc8785
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.facts import FileFacts, sha256_of
from ispettore.core.audio.sound_hash import sound_sha256
from ispettore.core.certify import forms
from ispettore.core.deliver.entries import Entry
from ispettore.core.edit.edits import Edit, Edits
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.progress import Progress, no_progress
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Verdict, judge, on_production
from ispettore.core.text import shown_name
from ispettore.core.treat.treatment import Treatment

FORMAT: Literal["ispettore-certificate"] = "ispettore-certificate"
STATEMENT = (
    "The file named here was decoded and measured, and met every required limit of the specification. This speaks of its technical "
    "limits only and is no judgement by ear."
)
OF_PRODUCTION = (
    "The files named here were decoded and measured, and each has a certificate of its own. Together they met every limit that is "
    "required of the production as a whole. This speaks of technical limits only and is no judgement by ear."
)


class _Sealed(BaseModel):
    """A part of what is sealed."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class CertifiedFile(_Sealed):
    """`sound_sha256` is the hash of its encoded sound without what it says of itself (`audio/sound_hash.py`)."""

    name: str
    sha256: str
    size_bytes: int
    sound_sha256: str | None = None


class CertifiedReading(_Sealed):
    """A reading to four decimals, with its unit and method."""

    value: float | None
    unit: str
    method: str
    note: str | None = None


def issuer() -> str:
    """Who measures and seals: this program and its version."""
    return f"Ispettore {version('ispettore')}"


class SealedEdit(_Sealed):
    """A stretch of the source that was left out, and how much of its room tone and of retakes stands there, in seconds; the SHA-256
    of each retake's sound as it was put in."""

    start_s: float
    end_s: float
    room_s: float
    take_s: float = 0.0
    takes: tuple[str, ...] = ()

    @classmethod
    def all_of(cls, edits: Edits | None) -> "tuple[SealedEdit, ...]":
        """Those of a source; none where there are none."""
        if edits is None:
            return ()
        return tuple(cls._of(edits, edit) for edit in edits.edits)

    @classmethod
    def _of(cls, edits: Edits, edit: Edit) -> "SealedEdit":
        start, end, room, take = (round(edits.seconds(one), 4) for one in (edit.start, edit.end, edit.room, edit.taken))
        takes = tuple(dict.fromkeys(one.take for one in edit.put if one.take))
        return cls(start_s=start, end_s=end, room_s=room, take_s=take, takes=takes)


class Origin(_Sealed):
    """Where the deliverable came from, where that is known: which file, what was edited in it, and how it was treated."""

    name: str
    sha256: str
    edits: tuple[SealedEdit, ...] = ()
    treatment: Treatment | None = None
    touch: float | None = None


class Accepted(_Sealed):
    """A finding in the source that a person accepted, and why."""

    kind: str
    title: str
    start_s: float
    end_s: float
    reason: str


class Known(_Sealed):
    """What is known beside the measurement when a certificate is issued: who answers for it (a name as it was given), findings that
    were accepted, and how far the file was listened to, in words; empty where nobody did."""

    certified_by: str = ""
    accepted: tuple[Accepted, ...] = ()
    listening: str = ""


class _Issued(_Sealed):
    """What every certificate begins with. `supersedes` is the SHA-256 of the certificate in whose place this one is, if any."""

    format: Literal["ispettore-certificate"] = FORMAT
    version: Literal[4] = forms.NEWEST
    issued: datetime
    issuer: str
    certified_by: str = ""
    supersedes: str | None = None
    specification: Specification
    specification_sha256: str
    verdict: Verdict
    methods_version: int

    def plain(self) -> dict[str, Any]:
        """As JSON values, ready to be sealed."""
        return self.model_dump(mode="json")


class Certificate(_Issued):
    """Everything that is sealed of one file, as it is written. How each version is read stands in `forms`."""

    subject: Literal["file"] = "file"
    statement: str = STATEMENT
    file: CertifiedFile
    facts: FileFacts
    readings: dict[str, CertifiedReading]
    origin: Origin | None = None
    accepted: tuple[Accepted, ...] = ()
    listening: str = ""


class CertifiedPart(_Sealed):
    """A file of a production: which one, what it is there, and the SHA-256 of the content of its own certificate."""

    name: str
    sha256: str
    size_bytes: int
    entry: Entry
    certificate: str
    listening: str = ""


class ProductionCertificate(_Issued):
    """Everything that is sealed of a production: its files, and that they met the limits on it. The verdict is that on the
    production; each file's own is in its certificate."""

    subject: Literal["production"] = "production"
    statement: str = OF_PRODUCTION
    production: str
    files: tuple[CertifiedPart, ...]


def certify(
    path: Path,
    specification: Specification,
    *,
    issued: datetime,
    issuer: str,
    name: str | None = None,
    origin: Origin | None = None,
    beside: Known | None = None,
    known: Measured | None = None,
    progress: Progress = no_progress,
) -> tuple[Certificate | None, Measured, Verdict]:
    """Measure a deliverable and certify it. The certificate is None where any must-limit is missed or unmeasured.

    `known` is what was measured as the file was written: it counts where its hash is that of the bytes there are now. Else, and
    without it, they are measured here. `beside` is what else is known.
    """
    same = known is not None and known.inspection.sha256 == sha256_of(path)
    measured = known if known is not None and same else inspect(path, name=name, progress=progress)
    inspection = measured.inspection
    verdict = judge(inspection, specification, role="deliverable")
    if not verdict.passes:
        return None, measured, verdict
    certificate = Certificate(
        issued=issued,
        issuer=issuer,
        file=CertifiedFile(
            name=name or shown_name(path),
            sha256=inspection.sha256,
            size_bytes=inspection.facts.size_bytes,
            sound_sha256=sound_sha256(path),
        ),
        facts=inspection.facts,
        specification=specification,
        specification_sha256=of_specification(specification),
        readings=certified_readings(inspection),
        verdict=verdict,
        methods_version=inspection.methods_version,
        origin=origin,
        **dict(beside or Known()),
    )
    return certificate, measured, verdict


def certify_production(
    production: str,
    files: Sequence[CertifiedPart],
    limits: Sequence[LimitVerdict],
    specification: Specification,
    *,
    issued: datetime,
    issuer: str,
    methods_version: int,
    certified_by: str = "",
    supersedes: str | None = None,
) -> ProductionCertificate | None:
    """Certify a production by its certified files and the limits on it, as they were judged over these files; None where any
    must-limit on it is missed or unmeasured."""
    verdict = on_production(limits, specification)
    if not verdict.passes:
        return None
    return ProductionCertificate(
        issued=issued,
        issuer=issuer,
        certified_by=certified_by,
        supersedes=supersedes,
        production=production,
        files=tuple(files),
        specification=specification,
        specification_sha256=of_specification(specification),
        verdict=verdict,
        methods_version=methods_version,
    )


def hash_of(content: dict[str, Any]) -> str:
    """SHA-256 of canonical JSON (RFC 8785), as lower-case hexadecimal: by it a certificate is named, and a specification known
    again. Raises rfc8785.CanonicalizationError."""
    return hashlib.sha256(rfc8785.dumps(content)).hexdigest()


def of_specification(specification: Specification) -> str:
    """The hash of a whole specification."""
    return hash_of(specification.model_dump(mode="json"))


def certified_readings(inspection: Inspection) -> dict[str, CertifiedReading]:
    """All readings of an inspection as they stand in a certificate."""
    return {
        quantity: CertifiedReading(
            value=None if reading.value is None else round(reading.value, 4),
            unit=reading.unit,
            method=reading.method,
            note=reading.note,
        )
        for quantity, reading in inspection.readings.items()
    }
