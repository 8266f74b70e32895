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
from ispettore.core.measure import ribbon, tracks
from ispettore.core.measure.inspection import Progress, inspect
from ispettore.core.plan.conform import conform
from ispettore.core.spec.specification import Specification


@dataclass(frozen=True)
class Inspected:
    """An inspection as JSON values, its miniature ribbon, and how its peaks and loudness run."""

    data: dict[str, Any]
    methods_version: int
    ribbon: bytes
    tracks: bytes
    listening: str | None


def inspected(path: str, name: str, folder: str, *, progress: Progress) -> Inspected:
    """Inspect one file; where it can't be sought in exactly, decode it once into a lossless copy in `folder` to listen from."""
    measured = inspect(Path(path), name=name, progress=progress)
    inspection = measured.inspection
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
    return Inspected(
        data,
        inspection.methods_version,
        ribbon.of(measured).packed(),
        tracks.of(measured).packed(),
        str(listening) if listening else None,
    )


@dataclass(frozen=True)
class ConformedFile:
    """The outcome as JSON values; `path` and `certificate` where a deliverable was written."""

    outcome: dict[str, Any]
    path: str | None
    certificate: dict[str, Any] | None
    ribbon: bytes | None


def conformed(
    path: str,
    name: str,
    sha256: str,
    specification: dict[str, Any],
    preference: str,
    container: str,
    out: str,
    keys: str,
    issued: datetime,
    issuer: str,
    *,
    progress: Progress,
) -> ConformedFile:
    """Conform one recording into `out`, then measure the written file once more, on its own, and seal its certificate."""
    spec = Specification.model_validate(specification)
    form = OutputFormat.model_validate({"container": container})
    target = Path(out)
    result = conform(
        Path(path),
        spec,
        target,
        name=name,
        form=form,
        preference=preference,  # type: ignore[arg-type]
        progress=progress,
    )
    outcome = result.model_dump(mode="json")
    if not result.passes:
        return ConformedFile(outcome, None, None, None)
    certificate, picture = None, None
    if result.role == "deliverable" or spec.limit("container") is None:
        origin = Origin(name=name, sha256=sha256, treatment=result.treatment, touch=round(result.touch.touch, 2))
        progress("certifying", 0.0)
        found, measured, _ = certify(
            target, spec, issued=issued, issuer=issuer, origin=origin, progress=lambda _s, f: progress("certifying", f)
        )
        picture = ribbon.of(measured).packed()
        if found is not None:
            certificate = seal.seal(found.plain(), KeyFolder(Path(keys)).own())
    return ConformedFile(outcome, str(target), certificate, picture)


def verified(path: str, name: str, certificate: str, certificate_name: str, keys: str, *, progress: Progress) -> dict[str, Any]:
    """Check a certificate against a file; the report as JSON values."""
    sealed = seal.parse(certificate.encode(), name=certificate_name)
    return verify(sealed, Path(path), name=name, keys=KeyFolder(Path(keys)), progress=progress).model_dump(mode="json")
