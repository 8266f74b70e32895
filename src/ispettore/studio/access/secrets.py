"""Secrets that are shown once and kept only as a hash (cookies, tokens, links: each has 256 bits, so a fast hash is enough), and
those that are kept in a file."""

import hashlib
import os
import secrets
from pathlib import Path


def fresh() -> str:
    """A new secret of 43 letters, digits, - and _."""
    return secrets.token_urlsafe(32)


def hashed(secret: str) -> str:
    """What is kept of it (SHA-256, hexadecimal)."""
    return hashlib.sha256(secret.encode("utf-8", "surrogatepass")).hexdigest()


def put(path: Path, content: bytes) -> None:
    """Write a file for its owner's eyes alone, whole or not at all."""
    hidden = path.with_name(f".{path.name}.{os.getpid()}")
    with os.fdopen(os.open(hidden, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    hidden.replace(path)
