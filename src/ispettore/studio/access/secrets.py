"""Secrets that are shown once and kept only as a hash: cookies, tokens, links. Each has 256 bits, so a fast hash is enough."""

import hashlib
import secrets


def fresh() -> str:
    """A new secret of 43 letters, digits, - and _."""
    return secrets.token_urlsafe(32)


def hashed(secret: str) -> str:
    """What is kept of it (SHA-256, hexadecimal)."""
    return hashlib.sha256(secret.encode("utf-8", "surrogatepass")).hexdigest()
