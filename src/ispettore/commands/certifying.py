"""`ispettore certify`, `verify` and `check-archive`: sealing what was measured, and checking what others sealed."""

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import typer

from ispettore import telling
from ispettore.commands import files
from ispettore.commands.progress import shown
from ispettore.core import errors
from ispettore.core.archive import checking
from ispettore.core.certify import notices, report, verification
from ispettore.core.certify import seal as sealing
from ispettore.core.certify.certificate import Known, issuer
from ispettore.core.certify.certificate import certify as certify_file
from ispettore.core.certify.keys import KeyFolder, default_folder, load_public
from ispettore.core.certify.package_check import verify_package
from ispettore.core.certify.verification import Paper, Verification
from ispettore.core.certify.verification import verify as verify_file
from ispettore.core.measure import ribbon
from ispettore.core.spec import catalogue
from ispettore.core.text import refuse, shown_name

CERTIFICATES = frozenset({".json", ".pdf"})


def certify(paths: list[Path], *, spec: str, out: Path, pdf: Path | None, by: str, quiet: bool) -> int:
    """Measure each deliverable and seal a certificate; the exit status. Raises what naming things raises, KeyExposed and BadKey."""
    specification, beside = catalogue.find(spec), Known(certified_by=refuse(by, what="The name"))
    deliverables = files.found(paths)
    many = files.several(paths, deliverables)
    targets = dict(zip(deliverables, files.into(out, deliverables, ".json", many=many), strict=True))
    pages = dict(zip(deliverables, files.into(pdf, deliverables, ".pdf", many=many), strict=True)) if pdf else {}

    def one(path: Path) -> int:
        issued = datetime.now(UTC).replace(microsecond=0)
        with shown(path.name, quiet=quiet) as progress:
            certificate, measured, verdict = certify_file(
                path, specification, issued=issued, issuer=issuer(), beside=beside, progress=progress
            )
        if certificate is None:
            telling.print_inspection(measured.inspection, verdict)
            typer.echo("Not certified: the file misses the limits marked above.", err=True)
            return 1
        key = KeyFolder(default_folder()).own()
        sealed = sealing.seal(certificate.plain(), key)
        sealing.write(sealed, targets[path])
        if path in pages:
            report.write(sealed, ribbon.of(measured), pages[path], key=key)
        typer.echo(f"Certified: {path.name} meets {specification.name}. The certificate is {targets[path]}.")
        return 0

    return files.each(deliverables, one)


def verify(certificate: Path, file: Path | None, *, key: Path | None, told: list[Path], as_json: bool, quiet: bool) -> int:
    """Check a certificate, or each in a folder, against its file; the exit status. Raises FileMissing, NotACertificate, BadKey and
    what reading the files raises."""
    if not certificate.is_dir():
        _there(certificate, *told)
    given, keys = load_public(key) if key else None, KeyFolder(default_folder())
    notes = [notices.parse(path.read_bytes(), name=path.name) for path in told] + keys.notices()

    def checked(paper: Paper, against: Path | None) -> Verification:
        if against is not None and not (against.exists() if paper.of_production else against.is_file()):
            raise errors.FileMissing(file=shown_name(against))
        if against is not None and paper.of_production:
            return verify_package(paper, against, keys=keys, given=given, told=notes)
        with shown(certificate.name, quiet=quiet) as progress:
            return verify_file(paper, against, keys=keys, given=given, told=notes, progress=progress)

    if not certificate.is_dir():
        paper = verification.read(certificate.read_bytes(), name=certificate.name)
        found = checked(paper, file)
        _say(found, file, as_json=as_json)
        return found.exit_code
    return _folder(certificate, checked, as_json=as_json)


def _folder(folder: Path, checked: Callable[[Paper, Path | None], Verification], *, as_json: bool) -> int:
    """Every certificate of files in a folder, against the file of the name it tells, beside it or in the folder above."""
    statuses, rows = [], []

    def one(path: Path) -> int:
        try:
            paper = verification.read(path.read_bytes(), name=path.name)
        except errors.NotACertificate:
            return 0  # something else
        if paper.of_production:
            return 0  # is given with its package
        name = str(paper.content.get("file", {}).get("name", ""))
        places = [place / name for place in (path.parent, path.parent.parent) if name]
        file = next((place for place in places if place.is_file()), None)
        if file is None:
            raise errors.FileMissing(file=shown_name(path.parent / name))
        found = checked(paper, file)
        if not as_json:
            typer.echo(f"{path}:")
            telling.print_verification(found, file.name)
        rows.append({"certificate": str(path), "path": str(file), **_data(found)})
        statuses.append(found.exit_code)
        return 0

    def failed(path: Path, said: str) -> None:
        rows.append({"certificate": str(path), "error": said})
        statuses.append(files.FAILED)

    files.each(files.found([folder], CERTIFICATES, what="certificate"), one, failed)
    if not statuses:
        raise files.NothingInFolder(what="certificate of a file", file=str(folder))
    if as_json:
        telling.print_json(rows)
    return next(status for status in WORST_FIRST if status in statuses)


WORST_FIRST = (1, 2, 3, 0)
"""Not genuine, not checked, by an unknown key, genuine."""
SHOWN = frozenset(
    {"genuine", "intact", "key", "key_id", "problems", "notice", "older", "methods", "compared", "notes", "parts", "given"}
)


def _data(found: Verification) -> dict[str, Any]:
    return found.model_dump(mode="json", include=set(SHOWN))


def _say(found: Verification, file: Path | None, *, as_json: bool) -> None:
    if as_json:
        telling.print_json(_data(found))
    else:
        telling.print_verification(found, file.name if file is not None else "")


def check_archive(paths: list[Path], *, key: Path | None, as_json: bool, quiet: bool) -> int:
    """Check every byte of archives; the exit status. Raises FileMissing and BadKey."""
    given = load_public(key) if key else None
    trusted = {given.thumbprint()} if given is not None else set(KeyFolder(default_folder()).known().keys)
    statuses, rows = [], []

    def one(path: Path) -> int:
        _exists(path)
        try:
            with checking.archive(path, name=path.name) as found, shown(path.name, quiet=quiet) as progress:
                checking.check(found, progress)
        except checking.ArchiveChanged as error:
            typer.echo(error.sentence, err=True)
            statuses.append(1)
            rows.append({"path": str(path), "error": error.sentence})
            return 0
        known = found.key.thumbprint() in trusted
        if as_json:
            rows.append({"path": str(path), **telling.archive_as_data(found, trusted=known)})
        else:
            telling.print_archive(found, trusted=known)
        statuses.append(0 if known else 3)
        return 0

    def failed(path: Path, said: str) -> None:
        rows.append({"path": str(path), "error": said})
        statuses.append(files.FAILED)

    files.each(paths, one, failed)
    if as_json and (len(paths) > 1 or "error" not in rows[0]):
        telling.print_json(rows if len(paths) > 1 else {name: value for name, value in rows[0].items() if name != "path"})
    return next(status for status in WORST_FIRST if status in statuses)


def _there(*paths: Path) -> None:
    for path in paths:
        if not path.is_file():
            raise errors.FileMissing(file=shown_name(path))


def _exists(path: Path) -> None:
    if not path.exists():
        raise errors.FileMissing(file=shown_name(path))
