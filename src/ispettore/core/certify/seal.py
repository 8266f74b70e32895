"""The seal: a JSON Web Signature (RFC 7515, EdDSA of RFC 8037) over the canonical JSON (RFC 8785) of a certificate.

The signature is detached (RFC 7515, appendix F), so that a sealed certificate stays readable: `{"certificate": …, "seal": "…"}`.
"""

import base64
import json
import math
import warnings
from pathlib import Path
from typing import Any

import rfc8785
from joserfc import jws
from joserfc.errors import JoseError, SecurityWarning
from joserfc.jwk import OKPKey

from ispettore.core import errors
from ispettore.core.audio.writing import hidden_beside
from ispettore.core.text import TOO_DEEP, wrong_in

ALGORITHM = "EdDSA"
LARGEST_BYTES = 2_000_000
DEEPEST = 24
NESTED = "it is nested too deeply"
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
    temporary = hidden_beside(path, "part")
    temporary.write_bytes(rfc8785.dumps(sealed) + b"\n")
    temporary.replace(path)


def parse(text: bytes, *, name: str) -> dict[str, Any]:
    """Read a sealed certificate. Raises NotACertificate with the reason.

    What two readers could take for two different things is refused: a member that stands twice, numbers that are none, text that
    can't be shown, anything beside certificate and seal that the seal does not cover.
    """
    if len(text) > LARGEST_BYTES:
        raise errors.NotACertificate(file=name, reason="it is larger than 2 MB, which no certificate is")
    try:
        sealed = json.loads(text, object_pairs_hook=_once, parse_constant=_no_number, parse_float=_finite)
    except _Refused as error:
        raise errors.NotACertificate(file=name, reason=str(error)) from error
    except RecursionError as error:
        raise errors.NotACertificate(file=name, reason=NESTED) from error
    except (ValueError, UnicodeDecodeError) as error:
        raise errors.NotACertificate(file=name, reason="it is not JSON") from error
    if not isinstance(sealed, dict) or not isinstance(sealed.get("certificate"), dict) or not isinstance(sealed.get("seal"), str):
        raise errors.NotACertificate(file=name, reason="it has no “certificate” and “seal”")
    if beside := sorted(set(sealed) - {"certificate", "seal"}):
        raise errors.NotACertificate(file=name, reason=f"“{beside[0]}” stands beside its seal and is not covered by it")
    if sealed["certificate"].get("format") != "ispettore-certificate":
        raise errors.NotACertificate(file=name, reason="it is some other kind of JSON")
    if wrong := wrong_in(_without_tags(sealed), deepest=DEEPEST):
        raise errors.NotACertificate(file=name, reason=NESTED if wrong == TOO_DEEP else f"it contains {wrong}")
    return sealed


def _without_tags(sealed: dict[str, Any]) -> dict[str, Any]:
    """Certificates of version 1 hold a file's tags as it had them, null characters and all; these are taken apart when they are
    read."""
    facts = sealed["certificate"].get("facts")
    if not isinstance(facts, dict):
        return sealed
    plain = {name: value for name, value in facts.items() if name != "tags"}
    return {**sealed, "certificate": {**sealed["certificate"], "facts": plain}}


class _Refused(ValueError):
    pass


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        names = [key for key, _ in pairs]
        twice = next(key for key in names if names.count(key) > 1)
        raise _Refused(f"“{twice}” stands in it twice")
    return found


def _finite(text: str) -> float:
    return float(text) if math.isfinite(float(text)) else _no_number(text)


def _no_number(text: str) -> Any:
    raise _Refused(f"it holds {text}, which is no number")


def sealing_key(sealed: dict[str, Any]) -> OKPKey | None:
    """The public key that the seal says it was made with, or None where it names none."""
    try:
        header = json.loads(_unpadded(sealed["seal"].split(".")[0]))
        key = OKPKey.import_key(header["jwk"])
    except (JoseError, ValueError, KeyError, TypeError, IndexError):
        return None
    public = set(header["jwk"]) == {"kty", "crv", "x"} and header["jwk"]["crv"] == "Ed25519"
    return key if public and set(header) == {"alg", "kid", "jwk"} and header["kid"] == key.thumbprint() else None


def intact(sealed: dict[str, Any], key: OKPKey) -> bool:
    """Whether the certificate is to the letter what this key sealed."""
    try:
        head, between, signature = sealed["seal"].split(".")
        if between:
            return False  # the content is beside the seal, never in it
        payload = base64.urlsafe_b64encode(rfc8785.dumps(sealed["certificate"])).rstrip(b"=").decode()
        jws.deserialize_compact(f"{head}.{payload}.{signature}", key, algorithms=[ALGORITHM])
    except (JoseError, ValueError, TypeError, rfc8785.CanonicalizationError):
        return False
    return True


def _unpadded(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
