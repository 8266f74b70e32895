"""What runs in a child: the core's functions with plain arguments, and results that can be sent back."""

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from ispettore.core.audio.reading import Source
from ispettore.core.audio.writing import OutputFormat, Sink
from ispettore.core.certify import seal
from ispettore.core.certify.certificate import Origin, certify
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.verification import verify
from ispettore.core.errors import ContentChanged, IspettoreError
from ispettore.core.measure import pyramid, ribbon, span_levels, tracks
from ispettore.core.measure.inspection import Progress, inspect
from ispettore.core.measure.reading import Span
from ispettore.core.plan.conform import conform
from ispettore.core.spec import delivery, kept
from ispettore.core.treat import trace

LONGEST_H = 12
"""A day of digital silence fits into 2 MB; what is longer than any session would only fill the disk."""


class RecordingTooLong(IspettoreError):
    """“{file}” is {hours:.1f} hours long; the limit here is {longest_h} hours. Export it in parts."""


@dataclass(frozen=True)
class Inspected:
    """An inspection as JSON values, its miniature ribbon, how its peaks and loudness run, and where its pyramid and levels were
    written."""

    data: dict[str, Any]
    methods_version: int
    ribbon: bytes
    tracks: bytes
    pyramid: str
    levels: str
    listening: str | None


def inspected(path: str, name: str, sha256: str, room_tone: str, folder: str, *, progress: Progress) -> Inspected:
    """Inspect one file; where it can't be sought in exactly, decode it once into a lossless copy in `folder` to listen from.

    Raises ContentChanged where its bytes are not those of the hash it is kept under, RecordingTooLong and what inspecting raises.
    """
    with Source(Path(path), name=name) as source:
        hours = source.claimed_frames / source.sample_rate_hz / 3600
        if hours > LONGEST_H:
            raise RecordingTooLong(file=name, hours=hours, longest_h=LONGEST_H)
    measured = inspect(Path(path), name=name, progress=progress, room_tone=spans(room_tone))
    inspection = measured.inspection
    if inspection.sha256 != sha256:
        raise ContentChanged(file=name)
    listening = None
    if not inspection.facts.seeks_exactly:
        listening = Path(folder) / "listening.flac"
        progress("decoding to listen from", 0.0)
        with (
            Source(Path(path), name=name) as source,
            Sink(
                listening, sample_rate_hz=source.sample_rate_hz, channels=source.channels, form=OutputFormat(container="flac")
            ) as sink,
        ):
            for block in source.blocks():
                sink.write(block)
    data = inspection.model_dump(mode="json")
    zoomed, levels = Path(folder) / "pyramid", Path(folder) / "levels"
    with zoomed.open("wb") as file:
        pyramid.write(measured, file)
    with levels.open("wb") as file:
        span_levels.write(measured, file)
    return Inspected(
        data,
        inspection.methods_version,
        ribbon.of(measured).packed(),
        tracks.of(measured).packed(),
        str(zoomed),
        str(levels),
        str(listening) if listening else None,
    )


def spans(room_tone: str) -> list[Span]:
    """What a recording says of its room tone, as spans: none where it is to be found.

    >>> spans("1.5-2")
    [Span(start_s=1.5, end_s=2.0)]
    """
    if not room_tone:
        return []
    start, end = room_tone.split("-")
    return [Span(start_s=float(start), end_s=float(end))]


@dataclass(frozen=True)
class ConformedFile:
    """The outcome as JSON values; `path` and `certificate` where a deliverable was written, with its picture at every zoom and the
    gain that moved on the way."""

    outcome: dict[str, Any]
    path: str | None
    certificate: dict[str, Any] | None
    ribbon: bytes | None
    pyramid: str | None = None
    tracks: bytes | None = None
    reduction: bytes | None = None


def conformed(
    path: str,
    name: str,
    sha256: str,
    room_tone: str,
    specification: dict[str, Any],
    preference: str,
    container: str,
    folder: str,
    file_name: str,
    keys: str,
    issued: datetime,
    issuer: str,
    *,
    progress: Progress,
) -> ConformedFile:
    """Conform one recording into `folder`, then measure the written file once more, on its own, and seal its certificate.

    The name it is to have, `file_name`, is only what it is called: on its way it has a short one of its own. Raises ContentChanged
    where the recording's bytes are not those of the hash it is kept under, and what conforming raises.
    """
    spec = kept.specification(specification)
    target = Path(folder) / f"deliverable.{container}"
    result = conform(
        Path(path),
        spec,
        target,
        name=name,
        out_name=file_name,
        expected_sha256=sha256,
        form=delivery.chosen(container, spec),
        preference=preference,  # type: ignore[arg-type]
        room_tone=spans(room_tone),
        written_at=issued,
        progress=progress,
    )
    outcome = result.model_dump(mode="json")
    if not result.passes:
        return ConformedFile(outcome, None, None, None)
    certificate, picture, zoomed, run = None, None, None, None
    reduction = trace.packed(result.reduction_db) if result.reduction_db is not None else None
    if result.role == "deliverable" or spec.limit("container") is None:
        origin = Origin(name=name, sha256=sha256, treatment=result.treatment, touch=round(result.touch.touch, 2))
        progress("certifying", 0.0)
        found, measured, _ = certify(
            target,
            spec,
            issued=issued,
            issuer=issuer,
            name=file_name,
            origin=origin,
            progress=lambda _s, f: progress("certifying", f),
        )
        picture, run = ribbon.of(measured).packed(), tracks.of(measured).packed()
        zoomed = target.with_name(f"{target.name}.pyramid")
        with zoomed.open("wb") as file:
            pyramid.write(measured, file)
        if found is not None:
            certificate = seal.seal(found.plain(), KeyFolder(Path(keys)).own())
    return ConformedFile(outcome, str(target), certificate, picture, str(zoomed) if zoomed else None, run, reduction)


def verified(path: str, name: str, certificate: str, certificate_name: str, keys: str, *, progress: Progress) -> dict[str, Any]:
    """Check a certificate against a file; the report as JSON values."""
    sealed = seal.parse(certificate.encode(), name=certificate_name)
    found = verify(sealed, Path(path), name=name, keys=KeyFolder(Path(keys)), progress=progress)
    report = found.model_dump(mode="json", include={"genuine", "intact", "key", "key_id", "problems", "methods", "older", "notes"})
    paper = found.certificate
    stated = None
    if paper is not None:
        named = {"id": paper.specification.id, "name": paper.specification.name, "version": paper.specification.version}
        stated = {
            "file_name": paper.file.name,
            "sha256": paper.file.sha256,
            "specification": named,
            "issued": paper.issued.isoformat(),
            "issuer": paper.issuer,
            "limits": [limit.model_dump(mode="json") for limit in found.limits],
        }
    return {**report, "said": found.said if found.intact else "", "stated": stated}
