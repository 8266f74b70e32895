"""Backing a whole installation up into a folder, and restoring it on an empty machine: database, keys, files.

A backup may be made while everything runs: the database is dumped as of one moment, and files that it names are never changed. Into
the same folder again, only what is new is copied. Sessions are left out: on another machine people sign in anew.
"""

import hashlib
import os
import shutil
import subprocess
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ValidationError
from sqlalchemy import inspect, make_url, text

from ispettore.core.certify.certificate import issuer
from ispettore.core.errors import IspettoreError
from ispettore.studio.access import secrets
from ispettore.studio.catalogue import certificates, naming
from ispettore.studio.database import engine, migrate, transaction
from ispettore.studio.running.cluster import program
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import NotInStore, Store
from ispettore.studio.tables import now

MANIFEST, DUMP, KEYS, FILES = "MANIFEST.json", "database.dump", "keys", "files"
LEFT_OUT = ("signed_in", "challenge", "sign_in_try")
"""Tables whose rows are of no use elsewhere."""
CHUNK = 1024 * 1024


class BackupFailed(IspettoreError):
    """The database could not be {done}: {reason}"""

    done: str
    reason: str


class NoBackup(IspettoreError):
    """“{folder}” is no whole backup: {reason} Nothing was changed."""

    folder: str
    reason: str


class NotEmpty(IspettoreError):
    """A backup is restored where nothing was yet: {what} of this installation is not empty. Nothing was changed; use an
    installation that was never started."""

    what: str


class Filed(BaseModel):
    """A file of a backup, by its place in the folder."""

    place: str
    sha256: str
    size_bytes: int


class Manifest(BaseModel):
    """What a backup holds. `missing` are the hashes of files that the database names and the store did not hold."""

    form: Literal[1] = 1
    made_at: datetime
    software: str
    revision: str
    database: Filed
    keys: list[Filed]
    files: list[Filed]
    with_files: bool
    missing: list[str]


def backup(folder: Path, *, with_files: bool = True, say: Callable[[str], None] = print) -> Manifest:
    """Back this installation up. Without files, the manifest alone names them. Raises BackupFailed, and what the operating system
    refuses."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    say("Database …")
    _dump(folder / f".{DUMP}")
    (folder / f".{DUMP}").replace(folder / DUMP)
    keys = list(_keys(folder))
    with transaction() as session:
        named = naming.every(session)
    say(f"{len(named)} files …" if with_files else f"{len(named)} files are named, none copied.")
    store = Store(settings().store)
    files, missing = [], []
    for sha256 in sorted(named):
        try:
            files.append(_copied(store, sha256, folder) if with_files else _listed(store, sha256))
        except (NotInStore, FileNotFoundError):
            missing.append(sha256)
    with transaction() as session:
        revision = session.connection().execute(text("SELECT version_num FROM alembic_version")).scalar_one()
    made = Manifest(
        made_at=now(),
        software=issuer(),
        revision=revision,
        database=_filed(folder, DUMP),
        keys=keys,
        files=files,
        with_files=with_files,
        missing=missing,
    )
    secrets.put(folder / MANIFEST, made.model_dump_json(indent=1).encode())
    _forget_others(folder, made)
    return made


def restore(folder: Path, *, say: Callable[[str], None] = print) -> Manifest:
    """Restore a backup into this installation, which was never started; what it names and this store does not hold is in `missing`
    of what is returned. All of it is checked before anything is written.

    Raises NoBackup, NotEmpty and BackupFailed.
    """
    made = _read(folder)
    say("Checking …")
    for part in (made.database, *made.keys, *(made.files if made.with_files else [])):
        if not _is(folder / part.place, part):
            raise NoBackup(folder=folder.name, reason=f"“{part.place}” is missing or damaged.")
    _must_be_empty()
    say("Database …")
    _restore_dump(folder / made.database.place)
    migrate()
    target = certificates.keys().path
    target.mkdir(parents=True, exist_ok=True, mode=0o700)
    for key in made.keys:
        place = target / Path(key.place).relative_to(KEYS)
        place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        secrets.put(place, (folder / key.place).read_bytes())
    store = Store(settings().store)
    say(f"{len(made.files)} files …")
    missing = list(made.missing)
    for file in made.files:
        if made.with_files:
            store.put_file(folder / file.place)
        elif not store.has(file.sha256):
            missing.append(file.sha256)
    return made.model_copy(update={"missing": missing})


def _copied(store: Store, sha256: str, folder: Path) -> Filed:
    """A file of the store in the folder, hashed on its way; one that is there already is believed by its name and size."""
    place = f"{FILES}/{sha256[:2]}/{sha256}"
    target, size = folder / place, store.size(sha256)
    if not (target.exists() and target.stat().st_size == size):
        target.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        hidden = target.with_name(f".{sha256}")
        with hidden.open("wb") as file:
            for chunk in store.read_checked(sha256, name=sha256):
                file.write(chunk)
            file.flush()
            os.fsync(file.fileno())
        hidden.replace(target)
    return Filed(place=place, sha256=sha256, size_bytes=size)


def _listed(store: Store, sha256: str) -> Filed:
    return Filed(place=f"{FILES}/{sha256[:2]}/{sha256}", sha256=sha256, size_bytes=store.size(sha256))


def _keys(folder: Path) -> Iterator[Filed]:
    """The folder of keys, copied for its owner's eyes alone."""
    source = certificates.keys().path
    shutil.rmtree(folder / KEYS, ignore_errors=True)
    for path in sorted(path for path in source.rglob("*") if path.is_file() and path.name != ".lock"):
        place = f"{KEYS}/{path.relative_to(source)}"
        (folder / place).parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        secrets.put(folder / place, path.read_bytes())
        yield _filed(folder, place)


def _forget_others(folder: Path, made: Manifest) -> None:
    """Remove files that an earlier backup into the same folder held and this one does not name."""
    kept = {file.sha256 for file in made.files}
    for path in (folder / FILES).glob("*/*"):
        if path.name not in kept:
            path.unlink()


def _read(folder: Path) -> Manifest:
    try:
        return Manifest.model_validate_json((folder / MANIFEST).read_bytes())
    except FileNotFoundError:
        raise NoBackup(folder=folder.name, reason=f"there is no {MANIFEST} in it.") from None
    except ValidationError:
        raise NoBackup(folder=folder.name, reason=f"its {MANIFEST} can't be read by this version.") from None


def _must_be_empty() -> None:
    if inspect(engine()).get_table_names():
        raise NotEmpty(what="the database")
    if any(path.name.endswith("-private.pem") for path in certificates.keys().path.glob("*.pem")):
        raise NotEmpty(what="the folder of keys")


def _dump(path: Path) -> None:
    left_out = [f"--exclude-table-data={table}" for table in LEFT_OUT]
    _postgres("pg_dump", "--format=custom", "--no-owner", "--no-privileges", *left_out, f"--file={path}", done="dumped")


def _restore_dump(path: Path) -> None:
    whole = ("--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction")
    _postgres("pg_restore", *whole, f"--dbname={make_url(settings().database_url).database}", str(path), done="restored")


def _postgres(name: str, *arguments: str, done: str) -> None:
    """Run one of the database's own programs against our database; the password is in its environment, never in its arguments."""
    url = make_url(settings().database_url)
    told = {"PGHOST": url.host, "PGPORT": url.port, "PGUSER": url.username, "PGPASSWORD": url.password, "PGDATABASE": url.database}
    environment = {**os.environ, **{key: str(value) for key, value in told.items() if value}}
    environment |= {f"PG{key.upper()}": str(value) for key, value in url.query.items() if key.startswith("ssl")}
    ran = subprocess.run([program(name), *arguments], env=environment, capture_output=True, text=True, check=False)
    if ran.returncode != 0:
        raise BackupFailed(done=done, reason=(ran.stderr.strip().splitlines() or ["no reason given."])[-1])


def _filed(folder: Path, place: str) -> Filed:
    path = folder / place
    return Filed(place=place, sha256=_hash(path), size_bytes=path.stat().st_size)


def _is(path: Path, part: Filed) -> bool:
    return path.is_file() and path.stat().st_size == part.size_bytes and _hash(path) == part.sha256


def _hash(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
