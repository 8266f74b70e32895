"""What a certificate of each version holds, as it is read for good.

These forms are never changed: a certificate that was sealed once must be readable, and checkable, by every later version of this
program. What is written is `certificate.Certificate`, whose newest version has its form here. A golden certificate of each version
stays in tests/core/golden.
"""

import json
from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, ValidationError

NEWEST: Literal[4] = 4


class _Form(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)


class FileForm(_Form):
    name: str
    sha256: str
    size_bytes: int


class FactsForm(_Form):
    container: str
    codec: str
    sample_rate_hz: int
    bit_depth: int | None
    channels: int
    frames: int
    duration_s: float
    bit_rate_kbps: float | None
    bit_rate_constant: bool | None
    size_bytes: int
    channel_relation: str | None = None
    tags: dict[str, str | tuple[str, ...]] = {}


class LimitForm(_Form):
    quantity: str
    low: float | None = None
    high: float | None = None
    one_of: tuple[str, ...] = ()
    guard: float = 0.0
    guard_percent: float = 0.0
    severity: str = "must"
    applies_to: str = "recording"
    purpose: str = ""


class SpecificationForm(_Form):
    id: str
    name: str
    version: int
    description: str = ""
    source: str = ""
    mono_on_two_loudspeakers: bool = False
    limits: tuple[LimitForm, ...]


class ReadingForm(_Form):
    value: float | None
    unit: str
    method: str
    note: str | None = None


class JudgedForm(_Form):
    quantity: str
    title: str
    unit: str
    difference_unit: str
    decimals: int
    low: float | None
    high: float | None
    one_of: tuple[str, ...] = ()
    reading: float | str | None
    passes: bool
    position: str
    margin: float | None
    severity: str
    applies_to: str
    guard: float = 0.0
    note: str | None = None


class VerdictForm(_Form):
    specification: str
    version: int
    role: str
    passes: bool
    limits: tuple[JudgedForm, ...]


class StepForm(_Form):
    kind: str
    settings: dict[str, Any] = {}
    on: bool = True
    reason: str = ""
    learned: dict[str, Any] = {}


class TreatmentForm(_Form):
    version: int = 1
    name: str = ""
    steps: tuple[StepForm, ...] = ()


class OriginForm(_Form):
    name: str
    sha256: str
    treatment: TreatmentForm | None = None
    touch: float | None = None


class _IssuedForm(_Form):
    """What all versions of all certificates hold."""

    format: Literal["ispettore-certificate"]
    version: int
    issued: datetime
    issuer: str
    statement: str
    specification: SpecificationForm
    verdict: VerdictForm
    methods_version: int


class CertificateForm(_IssuedForm):
    """Version 1."""

    file: FileForm
    facts: FactsForm
    readings: dict[str, ReadingForm]
    origin: OriginForm | None = None
    listened: bool = False


class CertificateForm2(CertificateForm):
    """Version 2: the hash of the whole specification (SHA-256 over its canonical JSON, RFC 8785), and tags as lists."""

    specification_sha256: str


class FileForm3(FileForm):
    sound_sha256: str | None


class AcceptedForm(_Form):
    kind: str
    title: str
    start_s: float
    end_s: float
    reason: str


class _IssuedForm3(_IssuedForm):
    specification_sha256: str
    certified_by: str
    supersedes: str | None


class CertificateForm3(_IssuedForm3):
    """Version 3, of a file: the hash of its sound, who answers for it, accepted findings, what it supersedes; how far it was
    listened to, in words."""

    subject: Literal["file"]
    file: FileForm3
    facts: FactsForm
    readings: dict[str, ReadingForm]
    origin: OriginForm | None
    accepted: tuple[AcceptedForm, ...]
    listening: str


class EditForm(_Form):
    start_s: float
    end_s: float
    room_s: float
    take_s: float
    takes: tuple[str, ...]


class OriginForm4(OriginForm):
    edits: tuple[EditForm, ...]


class CertificateForm4(CertificateForm3):
    """Version 4, of a file: beside what it was made from every edit of that, by its own time."""

    origin: OriginForm4 | None


class EntryForm(_Form):
    kind: str
    number: int | None
    part: int | None
    title: str
    narrator: str


class PartForm(_Form):
    name: str
    sha256: str
    size_bytes: int
    entry: EntryForm
    certificate: str
    listening: str


class ProductionForm3(_IssuedForm3):
    """Version 3 and, unchanged, 4, of a production."""

    subject: Literal["production"]
    production: str
    files: tuple[PartForm, ...]


FileCertificate = CertificateForm | CertificateForm2 | CertificateForm3 | CertificateForm4
AnyCertificate = FileCertificate | ProductionForm3
_FORMS: dict[tuple[int, str], type[AnyCertificate]] = {
    (1, "file"): CertificateForm,
    (2, "file"): CertificateForm2,
    (3, "file"): CertificateForm3,
    (3, "production"): ProductionForm3,
    (4, "file"): CertificateForm4,
    (4, "production"): ProductionForm3,
}


class Unreadable(ValueError):
    """Why the content of a certificate can't be read, in a sentence."""


def read(content: dict[str, Any]) -> AnyCertificate:
    """A certificate's content, to the letter as its version has it. Raises Unreadable."""
    version = content.get("version")
    if isinstance(version, bool) or not isinstance(version, int) or version < 1:
        raise Unreadable("The certificate does not say which version of certificates it is of.")
    if version > NEWEST:
        raise Unreadable(
            f"The certificate is of version {version}; this program reads up to version {NEWEST}. Check it with a newer one."
        )
    form = _FORMS.get((version, content["subject"] if version > 2 and isinstance(content.get("subject"), str) else "file"))
    if form is None:
        raise Unreadable("The certificate is neither that of a file nor that of a production.")
    try:
        return form.model_validate_json(json.dumps(content))
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        where = " → ".join(str(part) for part in first["loc"])
        said = "is not part of a certificate of its version" if first["type"] == "extra_forbidden" else first["msg"].lower()
        raise Unreadable(f"The certificate does not hold what a certificate must: {where}: {said}.") from error
