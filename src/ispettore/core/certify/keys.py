"""Keys that seal certificates: Ed25519 (RFC 8032), kept in one folder, named by their thumbprint (RFC 7638)."""

import os
from dataclasses import dataclass
from pathlib import Path

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from joserfc.errors import JoseError
from joserfc.jwk import OKPKey

from ispettore.core import errors

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
        """The private key; made at first use and readable by its owner alone. Two processes may ask at once."""
        private = self.path / PRIVATE
        if not private.exists():
            self._make(private)
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

    def known(self) -> dict[str, OKPKey]:
        """Trusted public keys by thumbprint: this installation's own and those in `known/`."""
        paths = [self.path / PUBLIC, *sorted((self.path / KNOWN).glob("*"))]
        keys = [_load(path) for path in paths if path.is_file()]
        return {key.thumbprint(): key for key in keys}


def load_public(path: Path) -> OKPKey:
    """A public key from a PEM or JWK file. Raises BadKey."""
    if not path.is_file():
        raise errors.BadKey(file=path.name, reason="there is no such file")
    return _load(path)


def _load(path: Path) -> OKPKey:
    try:
        key = OKPKey.import_key(path.read_bytes())
    except (JoseError, ValueError, TypeError, UnicodeDecodeError) as error:
        raise errors.BadKey(file=path.name, reason="it is no Ed25519 key in PEM or JWK form") from error
    if key.as_dict(private=False).get("crv") != "Ed25519":
        raise errors.BadKey(file=path.name, reason="it is no Ed25519 key")
    return key
