"""The certificate: what was measured in one delivered file, against which specification, and that it met it.

It speaks of technical limits only, never of how a voice sounds; whether someone listened the file through stands beside it.
"""

import hashlib
from datetime import datetime
from importlib.metadata import version
from pathlib import Path
from typing import Any, Literal

import rfc8785
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.facts import FileFacts, sha256_of
from ispettore.core.certify import forms
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.progress import Progress, no_progress
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Verdict, judge
from ispettore.core.text import shown_name
from ispettore.core.treat.treatment import Treatment

STATEMENT = (
    "The file named here was decoded and measured, and met every required limit of the specification. This speaks of its technical "
    "limits only and is no judgement by ear."
)


class CertifiedFile(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str
    sha256: str
    size_bytes: int


class CertifiedReading(BaseModel):
    """A reading to four decimals, with its unit and method."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    value: float | None
    unit: str
    method: str
    note: str | None = None


def issuer() -> str:
    """Who measures and seals: this program and its version."""
    return f"Ispettore {version('ispettore')}"


class Origin(BaseModel):
    """Where the deliverable came from, where that is known."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str
    sha256: str
    treatment: Treatment | None = None
    touch: float | None = None


class Certificate(BaseModel):
    """Everything that is sealed, as it is written. How each version is read stands in `forms`."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    format: Literal["ispettore-certificate"] = "ispettore-certificate"
    version: Literal[2] = forms.NEWEST
    issued: datetime
    issuer: str
    statement: str = STATEMENT
    file: CertifiedFile
    facts: FileFacts
    specification: Specification
    specification_sha256: str
    readings: dict[str, CertifiedReading]
    verdict: Verdict
    methods_version: int
    origin: Origin | None = None
    listened: bool = False

    def plain(self) -> dict[str, Any]:
        """As JSON values, ready to be sealed."""
        return self.model_dump(mode="json")


def certify(
    path: Path,
    specification: Specification,
    *,
    issued: datetime,
    issuer: str,
    name: str | None = None,
    origin: Origin | None = None,
    listened: bool = False,
    known: Measured | None = None,
    progress: Progress = no_progress,
) -> tuple[Certificate | None, Measured, Verdict]:
    """Measure a deliverable and certify it. The certificate is None where any must-limit is missed or unmeasured.

    `known` is what was measured as the file was written: it counts where its hash is that of the bytes there are now. Else, and
    without it, they are measured here.
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
        file=CertifiedFile(name=name or shown_name(path), sha256=inspection.sha256, size_bytes=inspection.facts.size_bytes),
        facts=inspection.facts,
        specification=specification,
        specification_sha256=hash_of(specification.model_dump(mode="json")),
        readings=certified_readings(inspection),
        verdict=verdict,
        methods_version=inspection.methods_version,
        origin=origin,
        listened=listened,
    )
    return certificate, measured, verdict


def hash_of(specification: dict[str, Any]) -> str:
    """SHA-256 of a whole specification's canonical JSON (RFC 8785), as lower-case hexadecimal."""
    return hashlib.sha256(rfc8785.dumps(specification)).hexdigest()


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
