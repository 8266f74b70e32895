"""Keys that seal certificates: Ed25519 (RFC 8032), kept in one folder, named by their thumbprint (RFC 7638)."""

import os
import stat
from dataclasses import dataclass
from pathlib import Path

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from joserfc.errors import JoseError
from joserfc.jwk import OKPKey

from ispettore.core import errors
from ispettore.core.text import shown_name

PRIVATE, PUBLIC, KNOWN = "seal-private.pem", "seal-public.pem", "known"


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
        pem = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
        temporary = private.with_name(f".{PRIVATE}.{os.getpid()}")
        with os.fdopen(os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            file.write(pem)
            os.fsync(file.fileno())
        try:
            os.link(temporary, private)  # fails where another process was first: its key stands
        except FileExistsError:
            return
        finally:
            temporary.unlink()
        public = key.public_key().public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)
        (self.path / PUBLIC).write_bytes(public)

    def known(self) -> "Known":
        """Trusted public keys: this installation's own and those in `known/`. What is no key is told, and in nobody's way."""
        private, public = self.path / PRIVATE, self.path / PUBLIC
        own = public if public.is_file() else private
        paths = [own, *sorted(path for path in (self.path / KNOWN).glob("*") if not path.name.startswith("."))]
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


def _exposed(private: Path) -> errors.KeyExposed | None:
    mode = stat.S_IMODE(private.stat().st_mode)
    return errors.KeyExposed(file=private.name, mode=f"{mode:03o}") if mode & 0o077 else None


def load_public(path: Path) -> OKPKey:
    """A public key from a PEM or JWK file. Raises BadKey."""
    if not path.is_file():
        raise errors.BadKey(file=shown_name(path), reason="there is no such file")
    return _load(path)


def _load(path: Path) -> OKPKey:
    try:
        key = OKPKey.import_key(path.read_bytes())
    except (JoseError, ValueError, TypeError, UnicodeDecodeError) as error:
        raise errors.BadKey(file=shown_name(path), reason="it is no Ed25519 key in PEM or JWK form") from error
    if key.as_dict(private=False).get("crv") != "Ed25519":
        raise errors.BadKey(file=shown_name(path), reason="it is no Ed25519 key")
    return key
