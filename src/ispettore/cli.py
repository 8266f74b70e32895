"""The command line, and the stable contract for scripts: the same rules as on the screen, as text or JSON."""

import io
import os
import re
import sys
from collections.abc import Callable
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any

import typer

from ispettore import telling
from ispettore.core import errors
from ispettore.core.archive import checking
from ispettore.core.audio.formats import WRITABLE
from ispettore.core.audio.writing import format_for
from ispettore.core.certify import notices, report, verification
from ispettore.core.certify import seal as sealing
from ispettore.core.certify.certificate import Known, issuer
from ispettore.core.certify.certificate import certify as certify_file
from ispettore.core.certify.keys import KeyFolder, default_folder, load_public
from ispettore.core.certify.package_check import verify_package
from ispettore.core.certify.verification import verify as verify_file
from ispettore.core.measure import ribbon, tracks
from ispettore.core.measure.inspecting import inspect as inspect_file
from ispettore.core.measure.reading import Span
from ispettore.core.plan.bounds import load as load_bounds
from ispettore.core.plan.conform import conform as conform_file
from ispettore.core.plan.holding import PREFERENCES, USUAL_PREFERENCE
from ispettore.core.plan.proposing import proposed
from ispettore.core.spec import builtin, catalogue
from ispettore.core.spec.breaches import breaches
from ispettore.core.spec.verdict import judge, role_of
from ispettore.core.spec.wording import sentence
from ispettore.core.text import refuse, shown_name
from ispettore.core.treat.keeping import load as load_treatment

app = typer.Typer(
    help="Ispettore measures voice recordings against delivery specifications, conforms them, and certifies the result.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)

OwnBounds = Annotated[Path | None, typer.Option("--bounds", help="The most that may be done to a voice (JSON).")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Spec = Annotated[str, typer.Option("--spec", help="A specification's identifier, or a JSON file.")]
MASTERS, LOSSY = ([name for name, written in WRITABLE.items() if written.lossy is lossy] for lossy in (False, True))
_PREFERENCES = f"{', '.join(PREFERENCES[:-1])} or {PREFERENCES[-1]}"


@contextmanager
def said_plainly() -> Any:
    """Errors meant for a person end the command with their sentence and status 2."""
    try:
        yield
    except errors.IspettoreError as error:
        typer.echo(error.sentence, err=True)
        raise typer.Exit(2) from error


@app.callback()
def prepared() -> None:
    """Names of files may hold bytes that are no character: they are printed as escapes instead of ending the command."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


@app.command()
def inspect(
    files: Annotated[list[Path], typer.Argument(help="Recordings to measure.")],
    spec: Annotated[str | None, typer.Option("--spec", help="A specification's identifier, or a JSON file.")] = None,
    room_tone: Annotated[
        list[str] | None, typer.Option("--room-tone", help="Where only the room is heard, as START-END in seconds.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Measure recordings, and judge them against a specification. Exit 0 all pass, 1 some limit missed, 2 error."""
    with said_plainly():
        specification = catalogue.find(spec) if spec else None
        marked = _spans(room_tone or [])
    rows: list[dict[str, Any]] = []
    worst = 0
    for path in files:
        try:
            measured = inspect_file(path, room_tone=marked)
        except errors.IspettoreError as error:
            worst = 2
            rows.append({"path": str(path), "error": error.sentence})
            typer.echo(error.sentence, err=True)
            continue
        inspection = measured.inspection
        verdict = judge(inspection, specification, role=role_of(inspection)) if specification else None
        places = breaches(verdict, inspection, tracks.of(measured)) if verdict else []
        if verdict and not verdict.passes:
            worst = max(worst, 1)
        rows.append({"path": str(path), **telling.as_data(inspection, verdict)})
        if rows[-1]["verdict"]:
            rows[-1]["verdict"]["breaches"] = [place.model_dump(mode="json") for place in places]
        if not as_json:
            telling.print_inspection(inspection, verdict)
            for place in places:
                telling.print_breach(place)
    if as_json:
        telling.print_json(rows)
    raise typer.Exit(worst)


@app.command()
def conform(
    file: Annotated[Path, typer.Argument(help="The recording.")],
    spec: Spec,
    out: Annotated[
        Path,
        typer.Option("--out", help=f"The result: .{', .'.join(MASTERS)} for a master, .{', .'.join(LOSSY)} for a deliverable."),
    ],
    treatment: Annotated[Path | None, typer.Option("--treatment", help="A treatment to run instead of planning one.")] = None,
    plan: Annotated[str, typer.Option("--plan", help=f"{_PREFERENCES}.")] = USUAL_PREFERENCE,
    bounds: OwnBounds = None,
    as_json: AsJson = False,
) -> None:
    """Conform a recording with as little processing as will do. Exit 1 and nothing written where it can't be conformed."""
    preference = next((known for known in PREFERENCES if known == plan), None)
    if preference is None:
        typer.echo(f"There is no plan “{plan}”; there are {_PREFERENCES.replace(' or ', ' and ')}.", err=True)
        raise typer.Exit(2)
    with said_plainly():
        format_for(out)
        given = load_treatment(treatment) if treatment else None
        result = conform_file(
            file,
            catalogue.find(spec),
            out,
            treatment=given,
            preference=preference,
            bounds=load_bounds(bounds) if bounds else None,
            written_at=datetime.now(UTC),
            progress=_progress_line(),
        )
    if as_json:
        telling.print_json(telling.conformed_as_data(result, file, out))
    else:
        telling.print_conformed(result, out)
    raise typer.Exit(0 if result.passes else 1)


@app.command("plan")
def proposals(
    file: Annotated[Path, typer.Argument(help="The recording.")], spec: Spec, bounds: OwnBounds = None, as_json: AsJson = False
) -> None:
    """Say what would conform a recording, in up to three plans, without running any. Exit 1 where there is none."""
    with said_plainly():
        plans = proposed(file, catalogue.find(spec), bounds=load_bounds(bounds) if bounds else None, progress=_progress_line())
    good = [(preference, each) for preference, each in plans if not each.obstacles]
    obstacles = [] if good else list(plans[0][1].obstacles)
    if as_json:
        told = [obstacle.model_dump(mode="json") for obstacle in obstacles]
        telling.print_json({"plans": [telling.plan_as_data(*each) for each in good], "obstacles": told})
    else:
        for preference, each in good:
            telling.print_plan(preference, each)
        if obstacles:
            typer.echo("Can't meet this specification.")
        for obstacle in obstacles:
            typer.echo(f"  {obstacle.told}")
    raise typer.Exit(0 if good else 1)


@app.command()
def certify(
    file: Annotated[Path, typer.Argument(help="The deliverable.")],
    spec: Spec,
    out: Annotated[Path, typer.Option("--out", help="Where the certificate goes (JSON).")],
    pdf: Annotated[Path | None, typer.Option("--pdf", help="Where a printable page goes, with the certificate in it.")] = None,
    by: Annotated[str, typer.Option("--by", help="Your name, shown in the certificate.")] = "",
) -> None:
    """Measure a deliverable and seal a certificate. Exit 1 and no certificate where any must-limit is missed."""
    with said_plainly():
        specification = catalogue.find(spec)
        issued = datetime.now(UTC).replace(microsecond=0)
        beside = Known(certified_by=refuse(by, what="The name"))
        certificate, measured, verdict = certify_file(file, specification, issued=issued, issuer=issuer(), beside=beside)
        if certificate is None:
            telling.print_inspection(measured.inspection, verdict)
            typer.echo("Not certified: the file misses the limits marked above.", err=True)
            raise typer.Exit(1)
        key = KeyFolder(default_folder()).own()
        sealed = sealing.seal(certificate.plain(), key)
        sealing.write(sealed, out)
        if pdf is not None:
            report.write(sealed, ribbon.of(measured), pdf, key=key)
    typer.echo(f"Certified: {file.name} meets {specification.name}. The certificate is {out}.")


@app.command()
def verify(
    certificate: Annotated[Path, typer.Argument(help="The certificate (JSON or PDF).")],
    file: Annotated[
        Path | None,
        typer.Argument(
            help="The file it certifies, or a production's package (folder or ZIP). Without it, only the certificate is checked."
        ),
    ] = None,
    key: Annotated[Path | None, typer.Option("--key", help="The public key to trust (PEM or JWK).")] = None,
    notice: Annotated[
        list[Path] | None, typer.Option("--notice", help="A notice that a certificate was withdrawn or superseded (JSON).")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Check a certificate against a file. Exit 0 genuine, 1 not genuine or withdrawn, 3 intact but by an unknown key, 2 error."""
    with said_plainly():
        for path in (certificate, *(notice or [])):
            if not path.is_file():
                raise errors.FileMissing(file=shown_name(path))
        paper = verification.read(certificate.read_bytes(), name=certificate.name)
        if file is not None and not (file.exists() if paper.of_production else file.is_file()):
            raise errors.FileMissing(file=shown_name(file))
        given, keys = load_public(key) if key else None, KeyFolder(default_folder())
        told = [notices.parse(path.read_bytes(), name=path.name) for path in notice or []] + keys.notices()
        if file is not None and paper.of_production:
            checked = verify_package(paper, file, keys=keys, given=given, told=told)
        else:
            checked = verify_file(paper, file, keys=keys, given=given, told=told)
    if as_json:
        shown = {
            "genuine",
            "intact",
            "key",
            "key_id",
            "problems",
            "notice",
            "older",
            "methods",
            "compared",
            "notes",
            "parts",
            "given",
        }
        telling.print_json(checked.model_dump(mode="json", include=shown))
    else:
        telling.print_verification(checked, file.name if file is not None else "")
    raise typer.Exit(checked.exit_code)


@app.command("check-archive")
def check_archive(
    archive: Annotated[Path, typer.Argument(help="The archive of a production: its ZIP file, or the folder it was unpacked to.")],
    key: Annotated[Path | None, typer.Option("--key", help="The public key to trust (PEM or JWK).")] = None,
    as_json: AsJson = False,
) -> None:
    """Check every byte of an archive. Exit 0 whole, 1 changed, 3 whole but by an unknown key, 2 error."""
    with said_plainly():
        if not archive.exists():
            raise errors.FileMissing(file=shown_name(archive))
        given = load_public(key) if key else None
        trusted = {given.thumbprint()} if given is not None else set(KeyFolder(default_folder()).known().keys)
        try:
            with checking.archive(archive, name=archive.name) as found:
                checking.check(found, _progress_line())
        except checking.ArchiveChanged as error:
            typer.echo(error.sentence, err=True)
            raise typer.Exit(1) from error
    known = found.key.thumbprint() in trusted
    if as_json:
        telling.print_json(telling.archive_as_data(found, trusted=known))
    else:
        telling.print_archive(found, trusted=known)
    raise typer.Exit(0 if known else 3)


@app.command()
def specs(as_json: AsJson = False) -> None:
    """List the specifications that ship."""
    if as_json:
        telling.print_json([specification.model_dump(mode="json") for specification in builtin.shipped().values()])
        return
    for specification in builtin.shipped().values():
        typer.echo(f"{specification.id:24} {specification.name}\n{'':24} {specification.description}")
        for limit in specification.limits:
            typer.echo(f"{'':24} · {sentence(limit)}")


@app.command()
def worker() -> None:
    """Do background work for the database and store that ISPETTORE_DATABASE_URL and ISPETTORE_STORE name."""
    from ispettore.studio.worker.process import run

    run()


@app.command()
def serve() -> None:
    """Start the application on this machine: database, web and workers. Ctrl-C stops them."""
    _launch(demo=False)


@app.command()
def demo() -> None:
    """The same as serve, with the demo production."""
    _launch(demo=True)


@app.command("intake-desk")
def intake_desk(
    folder: Annotated[Path, typer.Option("--folder", help="Where it keeps what is handed in.")],
    port: Annotated[int, typer.Option("--port", help="On loopback.")] = 8720,
    seed: Annotated[int | None, typer.Option("--seed", help="Be busy or drop connections now and then, drawn from this.")] = None,
) -> None:
    """Run the intake desk that stands in for an outlet; ISPETTORE_DESK_TOKEN is what it asks to be shown."""
    from ispettore.desk.serving import serve as serve_desk

    token = os.environ.get("ISPETTORE_DESK_TOKEN", "")
    if not token:
        typer.echo("There is no token. Set ISPETTORE_DESK_TOKEN to what whoever hands in has to show.", err=True)
        raise typer.Exit(2)
    serve_desk(host="127.0.0.1", port=port, folder=folder, token=token, seed=seed)


def _launch(*, demo: bool) -> None:
    from ispettore.studio.running.launching import launch

    with said_plainly():
        raise typer.Exit(launch(demo=demo, say=typer.echo))


def _spans(texts: list[str]) -> list[Span]:
    """Spans written as START-END in seconds. Raises BadSpan."""
    found = []
    for text in texts:
        match = re.fullmatch(r"(\d+(?:\.\d+)?)-(\d+(?:\.\d+)?)", text)
        if match is None or float(match[2]) <= float(match[1]):
            raise errors.BadSpan(text=text)
        found.append(Span(start_s=float(match[1]), end_s=float(match[2])))
    return found


def _progress_line() -> Callable[[str, float], None]:
    """Shows the stage on a terminal's error stream; says nothing elsewhere."""
    if not sys.stderr.isatty() or os.environ.get("NO_COLOR"):
        return lambda _stage, _fraction: None

    def show(stage: str, fraction: float) -> None:
        sys.stderr.write(f"\r\033[K{stage} {100 * fraction:.0f} %" if fraction < 1 else "\r\033[K")
        sys.stderr.flush()

    return show


if __name__ == "__main__":
    app()
