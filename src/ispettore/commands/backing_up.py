"""Backing up and restoring from the command line."""

from pathlib import Path

import typer

from ispettore.commands.installation import database
from ispettore.studio.running import backing_up


def backup(folder: Path, *, with_files: bool) -> int:
    """Back this installation up. Raises what backing up raises."""
    with database():
        made = backing_up.backup(folder, with_files=with_files, say=typer.echo)
    size = sum(file.size_bytes for file in made.files) / 1e9
    typer.echo(f"Backed up to {folder}: {len(made.files)} files{'' if with_files else ' named, none copied'} ({size:.1f} GB).")
    typer.echo("It holds the private key that seals certificates: keep it where nobody else can read it.")
    return _missing(made)


def restore(folder: Path) -> int:
    """Restore a backup into an empty installation. Raises what restoring raises."""
    with database():
        made = backing_up.restore(folder, say=typer.echo)
    typer.echo(f"Restored what was backed up on {made.made_at:%Y-%m-%d at %H:%M} UTC.")
    return _missing(made)


def _missing(made: backing_up.Manifest) -> int:
    if not made.missing:
        return 0
    typer.echo(f"{len(made.missing)} files that the database names are not in the store:", err=True)
    for sha256 in made.missing[:20]:
        typer.echo(f"  {sha256}", err=True)
    return 1
