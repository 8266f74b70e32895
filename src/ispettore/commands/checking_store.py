"""Checking the store from the command line."""

import typer

from ispettore.commands.installation import database
from ispettore.commands.progress import shown
from ispettore.studio.operating import scrubbing
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store


def run(*, tidy: bool, as_json: bool, quiet: bool) -> int:
    """Check every file of the store. Raises what starting the database raises."""
    with database(), shown("Checking", quiet=quiet) as progress:
        found = scrubbing.check(Store(settings().store), progress, tidy=tidy)
    if as_json:
        typer.echo(found.model_dump_json(indent=2))
    else:
        _told(found)
    return 1 if found.wrong else 0


def _told(found: scrubbing.StoreCheck) -> None:
    typer.echo(f"{found.files} files hashed ({found.size_bytes / 1e9:.1f} GB).")
    for wrong in found.wrong:
        typer.echo(f"{wrong.what.capitalize()}: {', '.join(wrong.of)} ({wrong.sha256[:12]}…).")
        typer.echo("  It is measured once more by itself." if wrong.mended else "  Add the same file again to repair it.")
    if not found.wrong:
        typer.echo("All are as they came in.")
    if found.unnamed:
        gone = f"{found.removed} cleared away" if found.removed else "--tidy clears them away"
        typer.echo(f"{found.unnamed} files are needed by nothing ({found.unnamed_bytes / 1e6:.0f} MB); {gone}.")
