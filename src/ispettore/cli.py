"""The command line: what its words are. What each command does stands in `commands/`, loaded when it is run.

Exit statuses are part of the interface, as the help of each command says.
"""

import io
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import typer

from ispettore.core import errors
from ispettore.core.audio.formats import WRITABLE
from ispettore.core.plan.preferences import PREFERENCES, USUAL_PREFERENCE

app = typer.Typer(
    help="Ispettore measures voice recordings against delivery specifications, conforms them, and certifies the result.",
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)
specs_app = typer.Typer(invoke_without_command=True, rich_markup_mode=None)
app.add_typer(specs_app, name="specs")


def _identifiers() -> list[str]:
    """For completion in a shell: those that ship."""
    from ispettore.core.spec.builtin import shipped

    return list(shipped())


MASTERS, LOSSY = ([name for name, written in WRITABLE.items() if written.lossy is lossy] for lossy in (False, True))
_PREFERENCES = f"{', '.join(PREFERENCES[:-1])} or {PREFERENCES[-1]}"
Recordings = Annotated[list[Path], typer.Argument(help="Recordings, or folders of them.")]
OwnBounds = Annotated[Path | None, typer.Option("--bounds", help="The most that may be done to a voice (JSON).")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Quiet = Annotated[bool, typer.Option("--quiet", help="Don't show progress on the terminal.")]
Spec = Annotated[str, typer.Option("--spec", help="A specification's identifier, or a JSON file.", autocompletion=_identifiers)]
OpenToAll = Annotated[bool, typer.Option("--open", help="Let in everybody who can reach it, without the start token.")]
Key = Annotated[Path | None, typer.Option("--key", help="The public key to trust (PEM or JWK).")]


def _ending(run: Callable[[], int]) -> None:
    """Run a command and end with its status; errors meant for a person end it with their sentence and status 2."""
    try:
        status = run()
    except errors.IspettoreError as error:
        typer.echo(error.sentence, err=True)
        raise typer.Exit(2) from error
    raise typer.Exit(status)


@app.callback()
def prepared() -> None:
    """Names of files may hold bytes that are no character: they are printed as escapes instead of ending the command."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


@app.command()
def inspect(
    files: Recordings,
    spec: Annotated[
        str | None, typer.Option("--spec", help="A specification's identifier, or a JSON file.", autocompletion=_identifiers)
    ] = None,
    room_tone: Annotated[
        list[str] | None, typer.Option("--room-tone", help="Where only the room is heard, as START-END in seconds.")
    ] = None,
    as_json: AsJson = False,
    quiet: Quiet = False,
) -> None:
    """Measure recordings, and judge them against a specification. Exit 0 all pass, 1 some limit missed, 2 error."""
    from ispettore.commands import inspecting

    _ending(lambda: inspecting.run(files, spec=spec, room_tone=room_tone or [], as_json=as_json, quiet=quiet))


@app.command()
def conform(
    files: Recordings,
    spec: Spec,
    out: Annotated[
        Path,
        typer.Option(
            "--out",
            help=f"The result: .{', .'.join(MASTERS)} for a master, .{', .'.join(LOSSY)} for a deliverable. For several, a folder.",
        ),
    ],
    treatment: Annotated[Path | None, typer.Option("--treatment", help="A treatment to run instead of planning one.")] = None,
    plan: Annotated[
        str, typer.Option("--plan", help=f"{_PREFERENCES}.", autocompletion=lambda: list(PREFERENCES))
    ] = USUAL_PREFERENCE,
    bounds: OwnBounds = None,
    as_json: AsJson = False,
    quiet: Quiet = False,
) -> None:
    """Conform recordings with as little processing as will do. Exit 0 all conform, 1 some can't be conformed (nothing is written
    for these), 2 error."""
    preference = next((known for known in PREFERENCES if known == plan), None)
    if preference is None:
        typer.echo(f"There is no plan “{plan}”; there are {_PREFERENCES.replace(' or ', ' and ')}.", err=True)
        raise typer.Exit(2)
    from ispettore.commands import conforming

    _ending(
        lambda: conforming.run(
            files,
            spec=spec,
            out=out,
            treatment=treatment,
            preference=preference,
            bounds=bounds,
            as_json=as_json,
            quiet=quiet,
        )
    )


@app.command("plan")
def proposals(files: Recordings, spec: Spec, bounds: OwnBounds = None, as_json: AsJson = False, quiet: Quiet = False) -> None:
    """Say what would conform recordings, in up to three plans each, without running any. Exit 0 there is a plan for each, 1 for
    some there is none, 2 error."""
    from ispettore.commands import conforming

    _ending(lambda: conforming.plan(files, spec=spec, bounds=bounds, as_json=as_json, quiet=quiet))


@app.command()
def certify(
    files: Annotated[list[Path], typer.Argument(help="Deliverables, or folders of them.")],
    spec: Spec,
    out: Annotated[Path, typer.Option("--out", help="Where the certificate goes (JSON). For several, a folder.")],
    pdf: Annotated[
        Path | None, typer.Option("--pdf", help="Where a printable page goes, with the certificate in it. For several, a folder.")
    ] = None,
    by: Annotated[str, typer.Option("--by", help="Your name, shown in the certificate.")] = "",
    quiet: Quiet = False,
) -> None:
    """Measure deliverables and seal a certificate of each. Exit 0 all certified, 1 some limit missed (no certificate), 2 error."""
    from ispettore.commands import certifying

    _ending(lambda: certifying.certify(files, spec=spec, out=out, pdf=pdf, by=by, quiet=quiet))


@app.command()
def verify(
    certificate: Annotated[Path, typer.Argument(help="The certificate (JSON or PDF), or a folder of certificates and files.")],
    file: Annotated[
        Path | None,
        typer.Argument(
            help="The file it certifies, or a production's package (folder or ZIP). Without it, only the certificate is checked."
        ),
    ] = None,
    key: Key = None,
    notice: Annotated[
        list[Path] | None, typer.Option("--notice", help="A notice that a certificate was withdrawn or superseded (JSON).")
    ] = None,
    as_json: AsJson = False,
    quiet: Quiet = False,
) -> None:
    """Check a certificate against a file. Exit 0 genuine, 1 not genuine or withdrawn, 3 intact but by an unknown key, 2 error."""
    from ispettore.commands import certifying

    _ending(lambda: certifying.verify(certificate, file, key=key, told=notice or [], as_json=as_json, quiet=quiet))


@app.command("check-archive")
def check_archive(
    archives: Annotated[
        list[Path], typer.Argument(help="Archives of productions: their ZIP files, or the folders they were unpacked to.")
    ],
    key: Key = None,
    as_json: AsJson = False,
    quiet: Quiet = False,
) -> None:
    """Check every byte of archives. Exit 0 whole, 1 changed, 3 whole but by an unknown key, 2 error."""
    from ispettore.commands import certifying

    _ending(lambda: certifying.check_archive(archives, key=key, as_json=as_json, quiet=quiet))


@specs_app.callback()
def specs(context: typer.Context, as_json: AsJson = False) -> None:
    """List the specifications that ship, or show one."""
    if context.invoked_subcommand is None:
        from ispettore.commands import specifying

        specifying.listed(as_json=as_json)


@specs_app.command("show")
def show(
    identifier: Annotated[
        str, typer.Argument(metavar="ID", help="A specification's identifier, or a JSON file.", autocompletion=_identifiers)
    ],
    as_json: AsJson = False,
) -> None:
    """Show one specification to its last limit. Exit 0, or 2 where there is none."""
    from ispettore.commands import specifying

    def shown() -> int:
        specifying.one(identifier, as_json=as_json)
        return 0

    _ending(shown)


@app.command()
def worker() -> None:
    """Do background work for the database and store that ISPETTORE_DATABASE_URL and ISPETTORE_STORE name."""
    from ispettore.studio.worker.process import run

    run()


@app.command()
def watch(
    folder: Annotated[
        Path | None, typer.Argument(help="The folder; without one, all that are set, and webhooks: as serve does beside.")
    ] = None,
    production: Annotated[str, typer.Option("--production", help="The production's name or identifier.")] = "",
    conform: Annotated[bool, typer.Option("--conform", help="Conform each recording once it is measured.")] = False,
    results: Annotated[Path | None, typer.Option("--results", help="A folder for the files that come of that.")] = None,
) -> None:
    """Bring what lands in a folder into a production, until Ctrl-C; Ispettore has to run beside it. Exit 0, or 2 on an error."""
    if folder is None:
        from ispettore.studio.attending.process import run

        run()
        return
    from ispettore.commands import watching

    _ending(lambda: watching.run(folder, production=production, conform=conform, results=results))


@app.command()
def serve(open_to_all: OpenToAll = False) -> None:
    """Start the application on this machine: database, web and workers. Ctrl-C stops them."""
    _launch(demo=False, open_to_all=open_to_all)


@app.command()
def demo(open_to_all: OpenToAll = False) -> None:
    """The same as serve, with the demo production."""
    _launch(demo=True, open_to_all=open_to_all)


@app.command()
def invite(
    sign_in: Annotated[str, typer.Argument(metavar="SIGN-IN-NAME", help="By what they will sign in.")],
    role: Annotated[list[str], typer.Option("--role", help="operator, reviewer or administrator; may be given several times.")],
    name: Annotated[str, typer.Option("--name", help="As certificates name them; else the sign-in name.")] = "",
) -> None:
    """Make an account, or a new link to one that is there, and print the link that sets its password. Exit 0, or 2 on an error."""
    from ispettore.commands import inviting

    _ending(lambda: inviting.run(sign_in, name=name or sign_in, roles=role))


@app.command()
def backup(
    folder: Annotated[Path, typer.Argument(help="Where it goes; into the same folder again, only what is new is copied.")],
    without_files: Annotated[
        bool, typer.Option("--without-files", help="Only name the store's files: it is backed up elsewhere.")
    ] = False,
) -> None:
    """Back up database, keys and files, while everything runs. Exit 0, 1 where the store misses files, 2 on an error."""
    from ispettore.commands import backing_up

    _ending(lambda: backing_up.backup(folder, with_files=not without_files))


@app.command()
def restore(folder: Annotated[Path, typer.Argument(help="The folder of a backup.")]) -> None:
    """Restore a backup into an installation that was never started. Exit 0, 1 where files are missing, 2 on an error."""
    from ispettore.commands import backing_up

    _ending(lambda: backing_up.restore(folder))


@app.command("check-store")
def check_store(
    tidy: Annotated[bool, typer.Option("--tidy", help="Clear away files that nothing needs.")] = False,
    as_json: AsJson = False,
    quiet: Quiet = False,
) -> None:
    """Hash every file that Ispettore keeps, while it runs or not. Exit 0 all as they were, 1 some damaged or missing, 2 error."""
    from ispettore.commands import checking_store

    _ending(lambda: checking_store.run(tidy=tidy, as_json=as_json, quiet=quiet))


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


def _launch(*, demo: bool, open_to_all: bool) -> None:
    from ispettore.studio.running.launching import launch

    _ending(lambda: launch(demo=demo, open_to_all=open_to_all, say=typer.echo))


if __name__ == "__main__":
    app()
