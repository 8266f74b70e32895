"""Keys that seal certificates: Ed25519 (RFC 8032), kept in one folder, named by their thumbprint (RFC 7638).

`seal-private.pem` and `seal-public.pem` are the pair in use, `retired/` holds the public keys of pairs before it, `known/` those of
others that are trusted.
"""

import fcntl
import json
import os
import re
import shutil
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal
from uuid import uuid4

import rfc8785
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from joserfc.errors import JoseError
from joserfc.jwk import OKPKey

from ispettore.core import errors
from ispettore.core.certify import notices
from ispettore.core.text import shown_name

PRIVATE, PUBLIC, KNOWN, RETIRED = "seal-private.pem", "seal-public.pem", "known", "retired"
NOTICES = "notices"
LARGEST_BYTES = 20_000
KeyRole = Literal["own", "retired", "trusted"]


@dataclass(frozen=True)
class TrustedKey:
    """A public key whose seals count here: the one in use, one that was in use, or somebody else's by the name it was given."""

    fingerprint: str
    role: KeyRole
    name: str
    since: datetime
    key: OKPKey

    @property
    def pem(self) -> bytes:
        """As others take it (RFC 8410)."""
        written: bytes = self.key.as_pem(private=False)
        return written


def default_folder() -> Path:
    """`ISPETTORE_KEYS`, else `ispettore/keys` in the user's state folder."""
    named = os.environ.get("ISPETTORE_KEYS")
    if named:
        return Path(named)
    state = os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state"
    return Path(state) / "ispettore" / "keys"


@dataclass(frozen=True)
class KeyFolder:
    """The folder with this installation's key pair, and the public keys of others that are trusted beside it (`known/`)."""

    path: Path

    def own(self) -> OKPKey:
        """The private key; made at first use and readable by its owner alone. Two processes may ask at once.

        Raises BadKey, and KeyExposed where others can read it: what is sealed with it would prove nothing.
        """
        private = self.path / PRIVATE
        if not private.exists():
            self._make(private)
        if exposed := _exposed(private):
            raise exposed
        return _load(private)

    def _make(self, private: Path) -> None:
        self.path.mkdir(parents=True, exist_ok=True, mode=0o700)
        (self.path / KNOWN).mkdir(exist_ok=True)
        key = Ed25519PrivateKey.generate()
        temporary = _written(private, key)
        try:
            os.link(temporary, private)  # fails where another process was first: its key stands
        except FileExistsError:
            return
        finally:
            temporary.unlink()
        _put(self.path / PUBLIC, _public(key))

    def roll(self) -> str:
        """Begin to seal with a new key; its fingerprint. The private key before it is gone for good, its public key stays among
        those that count, so that what it sealed stays genuine. Raises as `own` does."""
        self.own()
        with self._alone():
            before, retired = self.own(), self.path / RETIRED
            retired.mkdir(exist_ok=True)
            _put(retired / f"{before.thumbprint()}.pem", before.as_pem(private=False))
            key = Ed25519PrivateKey.generate()
            _written(self.path / PRIVATE, key).replace(self.path / PRIVATE)
            _put(self.path / PUBLIC, _public(key))
        return self.own().thumbprint()

    @contextmanager
    def _alone(self) -> Iterator[None]:
        """One process at a time."""
        with (self.path / ".lock").open("ab") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            yield

    def trust(self, content: bytes, *, name: str) -> str:
        """Count the seals of somebody's public key from now on, given in PEM or JWK form; its fingerprint. `name` says whose it is.

        Raises BadKey, for a private key as well: nobody hands that out.
        """
        key = _read(content[:LARGEST_BYTES], name)
        if key.is_private:
            raise errors.BadKey(
                file=name, reason="it is a private key, which nobody but its owner may hold. Ask for the public one"
            )
        folder = self.path / KNOWN
        folder.mkdir(parents=True, exist_ok=True)
        for one in self.listed():
            if one.fingerprint == key.thumbprint():
                raise errors.BadKey(file=name, reason=f"it counts already, as “{one.name}”")
        called = re.sub(r"[^\w .,()-]+", "-", name.removesuffix(".pem")).strip(" .-")[:80] or "key"
        path, count = folder / f"{called}.pem", 1
        while path.exists():
            count += 1
            path = folder / f"{called} ({count}).pem"
        _put(path, key.as_pem(private=False))
        return key.thumbprint()

    def distrust(self, fingerprint: str) -> bool:
        """Count the seals of somebody else's key no more; whether there was such a key."""
        for path in self._files(KNOWN):
            if _loaded(path) == fingerprint:
                path.unlink()
                return True
        return False

    def listed(self) -> list[TrustedKey]:
        """All keys whose seals count: the one in use, those before it, and others'."""
        found: list[TrustedKey] = []
        private, public = self.path / PRIVATE, self.path / PUBLIC
        places: list[tuple[KeyRole, Path]] = [("own", private if private.is_file() else public)]
        places += [("retired", path) for path in self._files(RETIRED)] + [("trusted", path) for path in self._files(KNOWN)]
        for role, path in places:
            try:
                if path.is_file():
                    key = OKPKey.import_key(_load(path).as_dict(private=False))
                    since = datetime.fromtimestamp(path.stat().st_mtime, UTC).replace(microsecond=0)
                    names: dict[KeyRole, str] = {"own": "this installation", "retired": "this installation, earlier"}
                    found.append(TrustedKey(key.thumbprint(), role, names.get(role, path.stem), since, key))
            except (errors.IspettoreError, OSError):
                continue  # `known` tells
        return found

    def notices(self) -> list[dict[str, Any]]:
        """Sealed notices that were put into `notices/`; what is none is left aside."""
        found = []
        for path in self._files(NOTICES):
            try:
                found.append(notices.parse(path.read_bytes(), name=path.name))
            except (errors.IspettoreError, OSError):
                continue
        return found

    def put_notice(self, sealed: dict[str, Any], certificate: str) -> None:
        """Put a sealed notice about a certificate, by its hash, where `notices` finds it."""
        folder = self.path / NOTICES
        folder.mkdir(parents=True, exist_ok=True)
        _put(folder / f"{certificate}.{sealed['notice']['ending']}.json", rfc8785.dumps(sealed) + b"\n")

    def shown(self, target: Path) -> "KeyFolder":
        """A copy of this folder with everything in it but the private key, for whoever checks seals and is to make none."""
        private, public = self.path / PRIVATE, self.path / PUBLIC
        target.mkdir(parents=True)
        if private.is_file():
            (target / PUBLIC).write_bytes(_load(private).as_pem(private=False))
        elif public.is_file():
            shutil.copyfile(public, target / PUBLIC)
        for folder in (KNOWN, RETIRED, NOTICES):
            (target / folder).mkdir()
            for path in self._files(folder):
                if path.is_file():
                    shutil.copyfile(path, target / folder / path.name)
        return KeyFolder(target)

    def _files(self, folder: str) -> list[Path]:
        return sorted(path for path in (self.path / folder).glob("*") if not path.name.startswith("."))

    def known(self) -> "Known":
        """Trusted public keys: this installation's own, now and before, and those in `known/`. What is no key is told, and in
        nobody's way."""
        private, public = self.path / PRIVATE, self.path / PUBLIC
        # Both, as they may be of two pairs for a moment while one takes the place of the other.
        paths = [*(path for path in (public, private) if path.is_file()), *self._files(RETIRED), *self._files(KNOWN)]
        keys: dict[str, OKPKey] = {}
        problems = []
        for path in paths:
            try:
                if path.is_file():
                    key = OKPKey.import_key(_load(path).as_dict(private=False))
                    keys[key.thumbprint()] = key
            except (errors.IspettoreError, OSError) as error:
                said = error.sentence if isinstance(error, errors.IspettoreError) else f"“{shown_name(path)}” can't be read."
                problems.append(f"{said} It is left aside.")
        if private.is_file() and not public.is_file():
            problems.append(f"The public key “{PUBLIC}” is missing from the folder of keys; it was worked out of the private key.")
        if private.is_file() and (exposed := _exposed(private)):
            problems.append(exposed.sentence)
        return Known(keys, tuple(problems))


@dataclass(frozen=True)
class Known:
    """Trusted public keys by thumbprint, and what is wrong with the folder they lie in, in sentences."""

    keys: dict[str, OKPKey]
    problems: tuple[str, ...] = ()


def _written(path: Path, key: Ed25519PrivateKey) -> Path:
    """A private key in a file beside `path` that nobody else can read, synced."""
    pem = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    temporary = path.with_name(f".{path.name}.{os.getpid()}.{uuid4().hex}")
    with os.fdopen(os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(pem)
        os.fsync(file.fileno())
    return temporary


def _public(key: Ed25519PrivateKey) -> bytes:
    return key.public_key().public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)


def _put(path: Path, content: bytes) -> None:
    """Write a file whole or not at all."""
    temporary = path.with_name(f".{path.name}.{os.getpid()}.{uuid4().hex}")
    with temporary.open("wb") as file:
        file.write(content)
        os.fsync(file.fileno())
    temporary.replace(path)


def _exposed(private: Path) -> errors.KeyExposed | None:
    mode = stat.S_IMODE(private.stat().st_mode)
    return errors.KeyExposed(file=private.name, mode=f"{mode:03o}") if mode & 0o077 else None


def load_public(path: Path) -> OKPKey:
    """A public key from a PEM or JWK file. Raises BadKey."""
    if not path.is_file():
        raise errors.BadKey(file=shown_name(path), reason="there is no such file")
    return _load(path)


def _load(path: Path) -> OKPKey:
    return _read(path.read_bytes(), shown_name(path))


def _loaded(path: Path) -> str | None:
    """The fingerprint of the key in a file; None for what is none."""
    try:
        return _load(path).thumbprint()
    except (errors.BadKey, OSError):
        return None


def _read(content: bytes, name: str) -> OKPKey:
    try:
        key = OKPKey.import_key(json.loads(content) if content.lstrip().startswith(b"{") else content)
    except (JoseError, ValueError, TypeError, KeyError, UnicodeDecodeError, RecursionError) as error:
        raise errors.BadKey(file=name, reason="it is no Ed25519 key in PEM or JWK form") from error
    if key.as_dict(private=False).get("crv") != "Ed25519":
        raise errors.BadKey(file=name, reason="it is no Ed25519 key")
    return key
