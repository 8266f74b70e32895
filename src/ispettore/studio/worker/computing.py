"""What runs in a child: the core's functions, one for each kind of work, from a request to its answer."""

import shutil
import zlib
from pathlib import Path

from ispettore.core.audio import tagging
from ispettore.core.audio.cover import Cover
from ispettore.core.audio.reading import Block, Source, read_all
from ispettore.core.audio.writing import OutputFormat, Samples, Sink
from ispettore.core.certify.certificate import Origin, SealedEdit, certify
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.package_check import verify_package
from ispettore.core.certify.verification import Paper, Verification, read, verify
from ispettore.core.certify.wording import subject, tell
from ispettore.core.deliver.unpacked import is_package
from ispettore.core.edit.edits import FADE_S, MOST_ROOM
from ispettore.core.edit.making import LONGEST_TONE_S, SHORTEST_TONE_S
from ispettore.core.edit.reading import EditedSource, open_samples, open_sound
from ispettore.core.errors import IspettoreError
from ispettore.core.measure import pyramid, ribbon, span_levels, tracks
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.meters import Measured
from ispettore.core.plan import encoding
from ispettore.core.plan.conform import Conformed, conform
from ispettore.core.plan.proposing import proposed
from ispettore.core.progress import Progress
from ispettore.core.treat import retake, trace
from ispettore.studio.catalogue.views import SpecificationName
from ispettore.studio.certifying.views import Stated, Verified
from ispettore.studio.worker.requests import (
    BedRequest,
    ConformedFile,
    ConformRequest,
    Deliverable,
    DeliveredFile,
    DeliverRequest,
    Inspected,
    InspectRequest,
    KnownSource,
    MeasuredBed,
    Planned,
    PlanRequest,
    PreparedTake,
    RetakeRequest,
    SourceFile,
    VerifyRequest,
)

LONGEST_H = 12
"""A day of digital silence fits into 2 MB; what is longer than any session would only fill the disk."""


class RecordingTooLong(IspettoreError):
    """“{file}” is {hours:.1f} hours long; the limit here is {longest_h} hours. Export it in parts."""

    file: str
    hours: float
    longest_h: int


class NothingToMatchTo(IspettoreError):
    """Nobody speaks in “{file}”, so there is nothing that a retake could be matched to. Nothing was changed."""

    file: str


def inspected(request: InspectRequest, progress: Progress) -> Inspected:
    """Inspect one file; where it can't be sought in exactly, decode it once into a lossless copy to listen from.

    Raises RecordingTooLong and what inspecting raises.
    """
    file, folder = request.source, request.folder
    with open_sound(file.sound, name=file.name) as source:
        _not_too_long(source, file.name)
    tone = [file.room_tone] if file.room_tone else []
    measured = inspect(file.sound, name=file.name, sha256=file.known_as or file.sha256, progress=progress, room_tone=tone)
    inspection = measured.inspection
    listening = None
    if file.edits is None and not inspection.facts.seeks_exactly:
        progress("Preparing playback", 0.0)
        listening = _decoded(file, folder / "listening.flac")
    levels = folder / "levels"
    with levels.open("wb") as out:
        span_levels.write(measured, out)
    return Inspected(
        inspection=inspection.model_dump(mode="json"),
        methods_version=inspection.methods_version,
        ribbon=ribbon.of(measured).packed(),
        tracks=tracks.of(measured).packed(),
        pyramid=_zoomed(measured, folder / "pyramid"),
        levels=levels,
        listening=listening,
    )


def _not_too_long(source: Source | EditedSource, name: str) -> None:
    hours = source.claimed_frames / source.sample_rate_hz / 3600
    if hours > LONGEST_H:
        raise RecordingTooLong(file=name, hours=hours, longest_h=LONGEST_H)


def _decoded(file: SourceFile, path: Path) -> Path:
    with Source(file.path, name=file.name) as source:
        form = OutputFormat(container="flac")
        with Sink(path, sample_rate_hz=source.sample_rate_hz, channels=source.channels, form=form) as sink:
            for block in source.blocks():
                sink.write(block)
    return path


def _zoomed(measured: Measured, path: Path) -> Path:
    with path.open("wb") as file:
        pyramid.write(measured, file)
    return path


def conformed(request: ConformRequest, progress: Progress) -> ConformedFile:
    """Conform one recording, and write the certificate of the written file by what its own bytes measured, for others to seal.

    On its way the file has a short name of its own. Raises what conforming raises.
    """
    source, specification = request.source, request.specification
    target = request.folder / f"deliverable.{request.form.container}"
    result = conform(
        source.sound,
        specification,
        target,
        name=source.name,
        out_name=request.file_name,
        known=_basis(request.known) if request.known else None,
        sha256=source.known_as or source.sha256,
        form=request.form,
        treatment=request.treatment,
        likeness=request.likeness,
        bounds=request.bounds,
        preference=request.preference,
        room_tone=[source.room_tone] if source.room_tone else [],
        laid=request.under.laid if request.under else None,
        written_at=request.issued,
        progress=progress,
    )
    outcome = result.model_dump(mode="json")
    if result.after is None:
        return ConformedFile(outcome=outcome)
    reduction = trace.packed(result.reduction_db) if result.reduction_db is not None else None
    lowered = trace.packed(result.lowered_db) if result.lowered_db is not None else None
    written = _written(request, target, result, progress)
    return ConformedFile(outcome=outcome, written=written, reduction=reduction, lowered=lowered)


def planned(request: PlanRequest, progress: Progress) -> Planned:
    """Plan for one recording, without running any plan. Raises what reading raises, and NotWritable."""
    source = request.source
    progress("Planning", 0.0)
    found = proposed(
        source.sound,
        request.specification,
        name=source.name,
        known=_basis(request.known) if request.known else None,
        treatment=request.treatment,
        likeness=request.likeness,
        preferences=request.preferences,
        bounds=request.bounds,
        room_tone=[source.room_tone] if source.room_tone else [],
        laid=request.under.laid if request.under else None,
        progress=progress,
    )
    return Planned(plans=[{"preference": preference, "plan": plan.model_dump(mode="json")} for preference, plan in found])


def bedded(request: BedRequest, progress: Progress) -> MeasuredBed:
    """Measure a sound for beds; where it can't be sought in exactly, decode it once into a lossless copy. Raises RecordingTooLong
    and what inspecting raises."""
    with Source(request.path, name=request.name) as source:
        _not_too_long(source, request.name)
    inspection = inspect(request.path, name=request.name, sha256=request.sha256, progress=progress).inspection
    heard = None
    if not inspection.facts.seeks_exactly:
        progress("Preparing playback", 0.0)
        file = SourceFile(path=request.path, name=request.name, sha256=request.sha256)
        heard = _decoded(file, request.folder / "heard.flac")
    return MeasuredBed(inspection=inspection, heard=heard)


def retaken(request: RetakeRequest, progress: Progress) -> PreparedTake:
    """Make a retake sound like the recording that it goes into. Raises what preparing raises, and NothingToMatchTo where nobody
    speaks in the recording."""
    source = request.source
    progress("Preparing the retake", 0.0)
    tone = [source.room_tone] if source.room_tone else []
    known = _basis(request.known) if request.known else inspect(source.sound, name=source.name, room_tone=tone, sha256="").basis
    wanted = retake.into(known, request.span)
    if wanted is None:
        raise NothingToMatchTo(file=source.name)
    target, made = request.folder / "prepared.rf64", request.folder / "made"
    made.mkdir()
    rate = wanted.sample_rate_hz
    rooms = sorted(known.inspection.room_tone, key=lambda span: -span.length_s)[:MOST_ROOM]
    lead_s, trail_s = retake.around(known.inspection, request.span)
    with open_samples(source.sound) as samples:
        edges = [_around(samples, at, rate) if _spoken(known, at) else None for at in (request.span.start_s, request.span.end_s)]
        room = [samples(round(one.start_s * rate), round(min(one.length_s, LONGEST_TONE_S) * rate)) for one in rooms]
    room = [piece for piece in room if len(piece) >= SHORTEST_TONE_S * rate]
    matched = retake.prepare(request.take, wanted, target, name=request.name, room=room, folder=made, progress=progress)
    made_sound, _ = read_all(target)
    starts, ends = matched.speech.start_s - lead_s, matched.speech.end_s + trail_s
    if edges[0] is not None:
        lead_s -= retake.swings_with(edges[0], made_sound, round(starts * rate), sample_rate_hz=rate) / rate
    if edges[1] is not None:
        trail_s += retake.swings_with(edges[1], made_sound, round(ends * rate), sample_rate_hz=rate) / rate
    return PreparedTake(path=target, matched=matched, lead_s=lead_s, trail_s=trail_s)


def _spoken(known: Basis, at_s: float) -> bool:
    """Whether somebody speaks just there: there is no pause to join in."""
    return any(one.start_s < at_s < one.end_s for one in known.inspection.speech)


def _around(samples: Samples, at_s: float, rate: int) -> Block:
    """What is heard around a join."""
    half = round(FADE_S * rate / 2)
    return samples(max(round(at_s * rate) - half, 0), 2 * half)


def _basis(known: KnownSource) -> Basis:
    with known.levels.open("rb") as file:
        return span_levels.basis(known.inspection, file)


def _written(request: ConformRequest, target: Path, result: Conformed, progress: Progress) -> Deliverable:
    """The file that was written; certified, where it is what the specification asks to have delivered."""
    assert result.after is not None
    sha256, specification = result.after.sha256, request.specification
    listening = None
    if not result.after.facts.seeks_exactly:
        listening = _decoded(SourceFile(path=target, name=request.file_name, sha256=sha256), request.folder / "listening.flac")
    if result.role != "deliverable" and specification.limit("container") is not None:
        return Deliverable(path=target, sha256=sha256, listening=listening)
    source = request.source
    progress("Certifying", 0.0)
    found, measured, _ = certify(
        target,
        specification,
        issued=request.issued,
        issuer=request.issuer,
        name=request.file_name,
        origin=Origin(
            name=source.name,
            sha256=source.sha256,
            edits=SealedEdit.all_of(source.edits),
            treatment=result.treatment,
            touch=round(result.touch.touch, 2),
        ),
        beside=request.beside,
        known=result.measured,
    )
    return Deliverable(
        path=target,
        sha256=sha256,
        ribbon=ribbon.of(measured).packed(),
        tracks=tracks.of(measured).packed(),
        pyramid=_zoomed(measured, request.folder / "pyramid"),
        listening=listening,
        certificate=found.plain() if found is not None and request.certifies else None,
    )


def delivered(request: DeliverRequest, progress: Progress) -> DeliveredFile:
    """Write tags into a copy of an attempt's file, decode and measure that as anybody would, and write its certificate, for others
    to seal.

    Raises NotTagged and what reading raises.
    """
    target = request.folder / f"deliverable.{request.container}"
    progress("Writing tags", 0.0)
    shutil.copyfile(request.path, target)
    picture = request.cover
    cover = (
        Cover(kind=picture.kind, width=picture.width, height=picture.height, content=picture.path.read_bytes()) if picture else None
    )
    tagging.write(target, request.container, request.tags, cover, name=request.file_name)
    watched: Progress = lambda _stage, fraction: progress("Measuring the delivered file", fraction)  # noqa: E731
    found, measured, verdict = certify(
        target,
        request.specification,
        issued=request.issued,
        issuer=request.issuer,
        name=request.file_name,
        origin=request.origin,
        beside=request.beside,
        progress=watched,
    )
    after = measured.inspection
    effect = encoding.effect(request.master, after) if request.master is not None else None
    return DeliveredFile(
        path=target,
        sha256=after.sha256,
        crc32=_crc32(target),
        outcome={
            "after": after.model_dump(mode="json"),
            "verdict": verdict.model_dump(mode="json"),
            "effect": effect.model_dump(mode="json") if effect is not None else None,
        },
        certificate=found.plain() if found is not None else None,
    )


def _crc32(path: Path) -> int:
    found = 0
    with path.open("rb") as file:
        while piece := file.read(1 << 20):
            found = zlib.crc32(piece, found)
    return found


def verified(request: VerifyRequest, progress: Progress) -> Verified:
    """Check a certificate against a file, that of a production against its package, or alone."""
    paper, keys = read(request.certificate, name=request.certificate_name), KeyFolder(request.keys)
    if paper.of_production and request.path is not None and is_package(request.path):
        found = verify_package(
            paper, request.path, name=request.name, folder=request.folder, keys=keys, told=request.notices, progress=progress
        )
    else:
        found = verify(paper, request.path, name=request.name, keys=keys, told=request.notices, progress=progress)
    return Verified(
        genuine=found.genuine,
        intact=found.intact,
        key=found.key,
        key_id=found.key_id,
        problems=list(found.problems),
        said=found.said if found.intact else "",
        methods=found.methods,
        older=list(found.older),
        notes=list(found.notes),
        given=found.given,
        ending=found.notice.ending if found.notice is not None else None,
        ended=found.notice.told if found.notice is not None else "",
        stated=_stated(paper, found),
    )


def _stated(paper: Paper, found: Verification) -> Stated | None:
    certificate = found.certificate
    if certificate is None:
        return None
    told, of = tell(paper.sealed, certificate), certificate.specification
    return Stated(
        name=subject(certificate),
        of_production=paper.of_production,
        title=told.title,
        lines=list(told.lines),
        specification=SpecificationName(id=of.id, name=of.name, version=of.version),
        issued=certificate.issued,
        limits=list(found.limits or told.limits),
        parts=list(found.parts),
    )
