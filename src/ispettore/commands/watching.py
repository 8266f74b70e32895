"""Watching a folder from the command line, for as long as the command runs."""

import signal
from pathlib import Path
from uuid import UUID

import typer
from sqlmodel import col, select

from ispettore.commands.installation import database
from ispettore.core.errors import IspettoreError
from ispettore.studio.attending import folders
from ispettore.studio.attending.process import Attending
from ispettore.studio.database import transaction
from ispettore.studio.tables import Production


class WhichProduction(IspettoreError):
    """{found} “{name}”. Name one by --production, by its identifier where several are called alike: {known}."""

    found: str
    name: str
    known: str


def run(folder: Path, *, production: str, conform: bool, results: Path | None) -> int:
    """Watch until told to stop. Raises what finding the production and having a folder watched raise."""
    with database():
        target = str(results.absolute()) if results is not None else ""
        watched = folders.watch(str(folder.absolute()), _named(production), conform=conform, results=target, kept=False)
        attending = Attending(only=watched, said=typer.echo)
        for name in (signal.SIGINT, signal.SIGTERM):
            signal.signal(name, lambda *_: attending.stop())
        typer.echo(f"Watching “{folder}”. Ctrl-C stops.")
        attending.run()
    return 0


def _named(wanted: str) -> UUID:
    """The production of a name or an identifier. Raises WhichProduction."""
    with transaction() as session:
        rows = session.exec(select(Production.id, Production.name).where(col(Production.removed_at).is_(None))).all()
    found = [identifier for identifier, name in rows if wanted in (name, str(identifier))]
    if len(found) != 1:
        known = ", ".join(f"“{name}” ({identifier})" for identifier, name in rows) or "there is none yet"
        said = "There are several productions called" if found else "There is no production called"
        raise WhichProduction(found=said, name=wanted, known=known)
    return found[0]
