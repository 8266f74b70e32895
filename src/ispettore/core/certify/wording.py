"""What a certificate says, in lines, for its print and for the screen: both show the same."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ispettore.core.audio.facts import LOSSY_CODECS
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.forms import (
    AnyCertificate,
    CertificateForm3,
    CertificateForm4,
    EditForm,
    FactsForm,
    FileCertificate,
    ProductionForm3,
)
from ispettore.core.certify.seal import sealing_key
from ispettore.core.edit.edits import summed
from ispettore.core.figures import clock, number
from ispettore.core.spec import kept
from ispettore.core.spec.verdict import LimitVerdict
from ispettore.core.treat.wording import numbered


@dataclass(frozen=True)
class Line:
    """A line of its head: a name, empty where it goes on with the one before, and a text; an `exact` one is to be compared letter
    by letter."""

    name: str
    text: str
    exact: bool = False


@dataclass(frozen=True)
class Told:
    """All lines. `steps` is None where nothing is known of what was done; `accepted` are findings with their reasons."""

    title: str
    met: str
    lines: tuple[Line, ...]
    limits: tuple[LimitVerdict, ...]
    steps: tuple[str, ...] | None
    accepted: tuple[str, ...]


def tell(sealed: dict[str, Any], certificate: AnyCertificate, *, listened: str = "") -> Told:
    """A sealed certificate in lines; `listened` says how far its file was listened to by now, which is not sealed."""
    specification, verdict = certificate.specification, kept.verdict(certificate.verdict.model_dump())
    named = f"{specification.name}, version {specification.version}"
    if isinstance(certificate, ProductionForm3):
        title = "Certificate of a production"
        of_all = "and those on the production as a whole" if verdict.limits else "it sets none on the production as a whole"
        met = f"{named}: every file meets the limits on it, {of_all}."
        lines = _of_production(certificate)
    else:
        title, met = "Certificate of measurement", f"{named}: every required limit is met."
        lines = (*_of_file(certificate), Line("Listening", _heard(certificate, listened)))
    known = certificate.accepted if isinstance(certificate, CertificateForm3) else ()
    return Told(
        title=title,
        met=met,
        lines=(*lines, *_issued(sealed, certificate)),
        limits=verdict.limits,
        steps=None if isinstance(certificate, ProductionForm3) else _steps(certificate),
        accepted=tuple(f"{clock(one.start_s, 1)} {one.title}: {one.reason}" for one in known),
    )


def subject(certificate: AnyCertificate) -> str:
    """What a certificate is of, by its name."""
    return certificate.production if isinstance(certificate, ProductionForm3) else certificate.file.name


def _of_file(certificate: FileCertificate) -> tuple[Line, ...]:
    facts, file = certificate.facts, certificate.file
    lines = [
        Line("File", file.name),
        Line("", f"{_format(facts)}, {clock(facts.duration_s, 2)}, {number(file.size_bytes, 0)} bytes"),
        Line("SHA-256", file.sha256, exact=True),
    ]
    if isinstance(certificate, CertificateForm3) and certificate.file.sound_sha256:
        lines.append(Line("of its sound", certificate.file.sound_sha256, exact=True))
    if certificate.origin is not None:
        lines += [Line("Made from", certificate.origin.name), Line("SHA-256", certificate.origin.sha256, exact=True)]
    if isinstance(certificate, CertificateForm4) and certificate.origin is not None and certificate.origin.edits:
        lines.append(Line("Edited", _edited(certificate.origin.edits)))
    return tuple(lines)


def _edited(edits: Sequence[EditForm]) -> str:
    """How much of the source was edited.

    >>> _edited([EditForm(start_s=4, end_s=6.5, room_s=0.5, take_s=0.5, takes=("ab",))])
    '1 edit, 1.5 s shorter'
    """
    longer = sum(one.room_s + one.take_s - (one.end_s - one.start_s) for one in edits)
    return f"{len(edits)} edit{'s' if len(edits) > 1 else ''}, {summed(longer)}"


def _format(facts: FactsForm) -> str:
    count = f"{facts.channels} channel{'s' if facts.channels > 1 else ''}"
    lossy = facts.codec in LOSSY_CODECS and facts.bit_rate_kbps
    rate = f"{number(facts.bit_rate_kbps or 0, 0)} kbit/s" if lossy else f"{facts.bit_depth} bit"
    return f"{facts.container.upper()}, {number(facts.sample_rate_hz, 0)} Hz, {count}, {rate}"


def _of_production(certificate: ProductionForm3) -> tuple[Line, ...]:
    count, size = len(certificate.files), sum(part.size_bytes for part in certificate.files)
    return Line("Production", certificate.production), Line("", f"{count} file{'s' if count > 1 else ''}, {number(size, 0)} bytes")


def _issued(sealed: dict[str, Any], certificate: AnyCertificate) -> tuple[Line, ...]:
    """Who stands for it, and by which hash it is known."""
    key = sealing_key(sealed)
    lines = [
        Line("Sealed by", f"{certificate.issuer}, key {key.thumbprint() if key is not None else 'unknown'}"),
        Line("Methods", f"version {certificate.methods_version}"),
        Line("Certificate", hash_of(sealed["certificate"]), exact=True),
    ]
    if isinstance(certificate, CertificateForm3 | ProductionForm3):
        if certificate.certified_by:
            lines.insert(0, Line("Certified by", certificate.certified_by))
        if certificate.supersedes:
            lines.append(Line("Replaces", certificate.supersedes, exact=True))
    return tuple(lines)


def _heard(certificate: FileCertificate, now: str) -> str:
    """How far the file was listened to: as it is sealed, and as is known now."""
    if isinstance(certificate, CertificateForm3):
        since = f"{now} since (not part of the seal)" if now and now != certificate.listening else ""
        told = ", ".join(filter(None, (certificate.listening, since)))
    else:
        told = "yes" if certificate.listened else f"{now} (not part of the seal)" if now else ""
    return f"{told[:1].upper()}{told[1:]}" if told else "Not recorded"


def _steps(certificate: FileCertificate) -> tuple[str, ...] | None:
    origin = certificate.origin
    if origin is None:
        return None
    steps = [step for step in origin.treatment.steps if step.on] if origin.treatment else []
    told = numbered(steps)
    touch = [f"Touch {number(origin.touch, 0)} of 100."] if origin.touch is not None else []
    return (*(told or ["No processing, only conversion."]), *touch)
