"""Checking the certificate of a production against its package: every file with the certificate of its own, measured again, and the
limits on the production judged anew over all of them."""

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from joserfc.jwk import OKPKey

from ispettore.core import errors
from ispettore.core.certify import seal
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.comparison import Compared, unlike
from ispettore.core.certify.forms import PartForm, ProductionForm3
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.verification import Checked, Paper, PartChecked, Verification, verify
from ispettore.core.deliver import manifest, naming
from ispettore.core.deliver.entries import Entry
from ispettore.core.deliver.manifest import CERTIFICATES, OF_PRODUCTION
from ispettore.core.deliver.unpacked import UNREADABLE, Unpacked, opened
from ispettore.core.deliver.whole import File, whole
from ispettore.core.measure.inspection import Inspection
from ispettore.core.progress import Progress, no_progress
from ispettore.core.spec import kept
from ispettore.core.spec.verdict import LimitVerdict, judge_production, on_production, values
from ispettore.core.text import shown_name


def verify_package(
    paper: Paper,
    path: Path,
    *,
    name: str | None = None,
    folder: Path | None = None,
    keys: KeyFolder,
    given: OKPKey | None = None,
    told: Iterable[dict[str, Any]] = (),
    progress: Progress = no_progress,
) -> Verification:
    """Check the certificate of a production against a folder or ZIP file. Files of a ZIP are unpacked one by one into `folder`.

    What is in the package beside what is certified is told. Raises Cancelled.
    """
    notices = list(told)
    checked = Checked(paper, keys, given, notices)
    certificate = checked.certificate
    if not isinstance(certificate, ProductionForm3):
        if certificate is not None:
            checked.problems.append("It is the certificate of one file. Give it with that file.")
        return checked.verification()
    called = name or shown_name(path)
    parts: list[PartChecked] = []
    measured: list[tuple[PartForm, Inspection]] = []
    readings = facts = limits = 0
    try:
        with opened(path, folder) as package:
            for place, part in enumerate(certificate.files):
                share = _shared(progress, place, len(certificate.files))
                problems, found = _part(part, package, keys, given, notices, share)
                parts.append(PartChecked(name=part.name, problems=tuple(problems)))
                if found is not None and found.measured is not None:
                    measured.append((part, found.measured))
                    compared = found.compared
                    readings, facts, limits = readings + compared.readings, facts + compared.facts, limits + compared.limits
            checked.remarks += _beside(certificate, package)
    except UNREADABLE as error:
        checked.problems.append(f"“{called}” can't be read as a ZIP file: {error}.")
    checked.problems += [f"{part.name}: {problem}" for part in parts for problem in part.problems]
    judged: tuple[LimitVerdict, ...] = ()
    if len(measured) == len(certificate.files):
        specification = kept.specification(certificate.specification.model_dump())
        files = [
            File(Entry.model_validate(part.entry.model_dump()), one.facts.duration_s, one.facts.size_bytes)
            for part, one in measured
        ]
        judged = judge_production([values(one, specification) for _, one in measured], specification, whole(files))
        verdict = on_production(judged, specification)
        checked.problems += unlike(certificate.verdict, verdict, specification)
        checked.problems += [f"The production does not meet {specification.name}: {limit.title}." for limit in verdict.missed]
    return checked.verification(
        compared=Compared(readings=readings, facts=facts, limits=limits + len(judged), files=len(measured)),
        limits=judged,
        parts=tuple(parts),
    )


def _part(
    part: PartForm, package: Unpacked, keys: KeyFolder, given: OKPKey | None, told: list[dict[str, Any]], progress: Progress
) -> tuple[list[str], Verification | None]:
    """One file of a package: what is wrong with it, and what its own check brought."""
    content = package.read(f"{CERTIFICATES}/{part.name}{naming.BESIDE}", seal.LARGEST_BYTES)
    if content is None:
        return ["Its certificate is missing from the package."], None
    try:
        own = Paper(seal.parse(content, name=f"{part.name}{naming.BESIDE}"))
        if hash_of(own.content) != part.certificate:
            return ["The certificate in the package is not the one that the production's names."], None
    except (errors.NotACertificate, ValueError) as error:
        return [error.sentence if isinstance(error, errors.IspettoreError) else "Its certificate can't be read."], None
    with package.file(part.name) as path:
        if path is None:
            return ["The file is missing from the package."], None
        found = verify(own, path, name=part.name, keys=keys, given=given, told=told, progress=progress)
    problems = list(found.problems)
    if found.notice is not None and found.notice.withdraws:
        problems.append(found.notice.told)
    stated = own.content.get("file") or {}
    if (stated.get("name"), stated.get("sha256")) != (part.name, part.sha256):
        problems.append("Its certificate is for another file.")
    return problems, found


def _shared(progress: Progress, place: int, count: int) -> Progress:
    return lambda stage, fraction: progress(stage, (place + fraction) / count)


def _beside(certificate: ProductionForm3, package: Unpacked) -> Iterator[str]:
    """What is in the package and not certified."""
    known = {part.name for part in certificate.files} | {manifest.NAME, f"{CERTIFICATES}/{OF_PRODUCTION}"}
    known |= {f"{CERTIFICATES}/{part.name}{naming.BESIDE}" for part in certificate.files}
    for name in sorted(package.names - known):
        yield f"“{name}” is in the package, but not in its certificate."
