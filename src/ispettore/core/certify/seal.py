"""The seal: a JSON Web Signature (RFC 7515, EdDSA of RFC 8037) over the canonical JSON (RFC 8785) of a certificate.

The signature is detached (RFC 7515, appendix F), so that a sealed certificate stays readable: `{"certificate": …, "seal": "…"}`.
"""

import base64
import json
import warnings
from pathlib import Path
from typing import Any

import rfc8785
from joserfc import jws
from joserfc.errors import JoseError, SecurityWarning
from joserfc.jwk import OKPKey

from ispettore.core import errors

ALGORITHM = "EdDSA"
# RFC 9864 renames EdDSA with this curve to "Ed25519"; other people's libraries mostly know the older name, so that is written.
warnings.filterwarnings("ignore", message="EdDSA is deprecated", category=SecurityWarning)


def seal(certificate: dict[str, Any], key: OKPKey) -> dict[str, Any]:
    """Seal a certificate given as JSON values. The header carries the public key and its thumbprint."""
    public = key.as_dict(private=False)
    jwk = {name: public[name] for name in ("kty", "crv", "x")}
    header = {"alg": ALGORITHM, "kid": key.thumbprint(), "jwk": jwk}
    compact = jws.serialize_compact(header, rfc8785.dumps(certificate), key, algorithms=[ALGORITHM])
    return {"certificate": certificate, "seal": jws.detach_content(compact)}


def write(sealed: dict[str, Any], path: Path) -> None:
    """Write a sealed certificate as canonical JSON."""
    temporary = path.with_name(f".{path.name}.part")
    temporary.write_bytes(rfc8785.dumps(sealed) + b"\n")
    temporary.replace(path)


def parse(text: bytes, *, name: str) -> dict[str, Any]:
    """Read a sealed certificate. Raises NotACertificate with the reason."""
    try:
        sealed = json.loads(text)
    except (ValueError, UnicodeDecodeError) as error:
        raise errors.NotACertificate(file=name, reason="it is not JSON") from error
    if not isinstance(sealed, dict) or not isinstance(sealed.get("certificate"), dict) or not isinstance(sealed.get("seal"), str):
        raise errors.NotACertificate(file=name, reason="it has no “certificate” and “seal”")
    if sealed["certificate"].get("format") != "ispettore-certificate":
        raise errors.NotACertificate(file=name, reason="it is some other kind of JSON")
    return sealed


def sealing_key(sealed: dict[str, Any]) -> OKPKey | None:
    """The public key that the seal says it was made with, or None where it names none."""
    try:
        header = json.loads(_unpadded(sealed["seal"].split(".")[0]))
        key = OKPKey.import_key(header["jwk"])
    except (JoseError, ValueError, KeyError, TypeError, IndexError):
        return None
    return key if header.get("kid") == key.thumbprint() else None


def intact(sealed: dict[str, Any], key: OKPKey) -> bool:
    """Whether the certificate is to the letter what this key sealed."""
    try:
        head, _, signature = sealed["seal"].split(".")
        payload = base64.urlsafe_b64encode(rfc8785.dumps(sealed["certificate"])).rstrip(b"=").decode()
        jws.deserialize_compact(f"{head}.{payload}.{signature}", key, algorithms=[ALGORITHM])
    except (JoseError, ValueError, TypeError, rfc8785.CanonicalizationError):
        return False
    return True


def _unpadded(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
