"""The seal: a JSON Web Signature (RFC 7515, EdDSA of RFC 8037) over the canonical JSON (RFC 8785) of a certificate.

The signature is detached (RFC 7515, appendix F), so that a sealed certificate stays readable: `{"certificate": …, "seal": "…"}`.
A notice that ends a certificate and the head of an archive are sealed in the same way: `{"notice": …, "seal": "…"}`.
"""

import base64
import json
import math
import warnings
from pathlib import Path
from typing import Any, Literal

import rfc8785
from joserfc import jws
from joserfc.errors import JoseError, SecurityWarning
from joserfc.jwk import OKPKey

from ispettore.core import errors
from ispettore.core.audio.writing import hidden_beside
from ispettore.core.text import TOO_DEEP, wrong_in

Sealed = Literal["certificate", "notice", "archive"]
ALGORITHM = "EdDSA"
LARGEST_BYTES = 2_000_000
DEEPEST = 24
NESTED = "it is nested too deeply"
# RFC 9864 renames EdDSA with this curve to "Ed25519"; other people's libraries mostly know the older name, so that is written.
warnings.filterwarnings("ignore", message="EdDSA is deprecated", category=SecurityWarning)


def seal(content: dict[str, Any], key: OKPKey, *, what: Sealed = "certificate") -> dict[str, Any]:
    """Seal a certificate or a notice given as JSON values. The header carries the public key and its thumbprint."""
    return {what: content, "seal": signature(rfc8785.dumps(content), key)}


def signature(payload: bytes, key: OKPKey) -> str:
    """A detached signature over bytes: a header with the public key and its thumbprint, nothing, and the signature itself."""
    public = key.as_dict(private=False)
    jwk = {name: public[name] for name in ("kty", "crv", "x")}
    header = {"alg": ALGORITHM, "kid": key.thumbprint(), "jwk": jwk}
    return jws.detach_content(jws.serialize_compact(header, payload, key, algorithms=[ALGORITHM]))


def write(sealed: dict[str, Any], path: Path) -> None:
    """Write a sealed certificate as canonical JSON."""
    temporary = hidden_beside(path, "part")
    temporary.write_bytes(rfc8785.dumps(sealed) + b"\n")
    temporary.replace(path)


def parse(text: bytes, *, name: str, what: Sealed = "certificate") -> dict[str, Any]:
    """Read a sealed certificate, or a notice. Raises NotACertificate with the reason.

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
    if not isinstance(sealed, dict) or not isinstance(sealed.get(what), dict) or not isinstance(sealed.get("seal"), str):
        raise errors.NotACertificate(file=name, reason=f"it has no “{what}” and “seal”")
    if beside := sorted(set(sealed) - {what, "seal"}):
        raise errors.NotACertificate(file=name, reason=f"“{beside[0]}” stands beside its seal and is not covered by it")
    if sealed[what].get("format") != f"ispettore-{what}":
        raise errors.NotACertificate(file=name, reason="it is some other kind of JSON")
    if wrong := wrong_in(_without_tags(sealed), deepest=DEEPEST):
        raise errors.NotACertificate(file=name, reason=NESTED if wrong == TOO_DEEP else f"it contains {wrong}")
    return sealed


def _without_tags(sealed: dict[str, Any]) -> dict[str, Any]:
    """Certificates of version 1 hold a file's tags as it had them, null characters and all; these are taken apart when they are
    read."""
    facts = sealed["certificate"].get("facts") if "certificate" in sealed else None
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
    return named_key(sealed["seal"])


def named_key(detached: str) -> OKPKey | None:
    """The public key that a detached signature says it was made with, or None where it names none."""
    try:
        header = json.loads(_unpadded(detached.split(".")[0]))
        key = OKPKey.import_key(header["jwk"])
    except (JoseError, ValueError, KeyError, TypeError, IndexError):
        return None
    public = set(header["jwk"]) == {"kty", "crv", "x"} and header["jwk"]["crv"] == "Ed25519"
    return key if public and set(header) == {"alg", "kid", "jwk"} and header["kid"] == key.thumbprint() else None


def intact(sealed: dict[str, Any], key: OKPKey) -> bool:
    """Whether the certificate, notice or head is to the letter what this key sealed."""
    content = next(part for name, part in sealed.items() if name != "seal")
    try:
        return signed(rfc8785.dumps(content), sealed["seal"], key)
    except rfc8785.CanonicalizationError:
        return False


def signed(payload: bytes, detached: str, key: OKPKey) -> bool:
    """Whether a detached signature is that of this key over these bytes."""
    try:
        head, between, signature = detached.split(".")
        if between:
            return False  # the content is beside the seal, never in it
        encoded = base64.urlsafe_b64encode(payload).rstrip(b"=").decode()
        jws.deserialize_compact(f"{head}.{encoded}.{signature}", key, algorithms=[ALGORITHM])
    except (JoseError, ValueError, TypeError):
        return False
    return True


def _unpadded(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
