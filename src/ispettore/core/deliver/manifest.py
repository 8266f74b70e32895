"""The list of what a package holds, as `sha256sum -c` checks it: the hash of each file, two spaces, its name."""

from collections.abc import Iterable

NAME = "SHA256SUMS"
CERTIFICATES, OF_PRODUCTION = "certificates", "production.certificate.json"
"""The folder of certificates in a package, and what that of the production is called in it."""


def text(files: Iterable[tuple[str, str]]) -> str:
    """Of (SHA-256 in hexadecimal, name) pairs, one per line. Names hold no line break and no backslash: `naming` refuses both.

    >>> text([("ab" * 32, "01 January.mp3")])[-17:]
    '  01 January.mp3\\n'
    """
    return "".join(f"{sha256}  {name}\n" for sha256, name in files)


def read(content: str) -> dict[str, str]:
    """Names with their hashes, from such a list; what is no line of one is left out.

    >>> read(text([("ab" * 32, "01 January.mp3")])) == {"01 January.mp3": "ab" * 32}
    True
    """
    lines = (line.partition("  ") for line in content.splitlines())
    return {name: sha256 for sha256, between, name in lines if between and len(sha256) == 64}
