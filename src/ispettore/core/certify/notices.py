"""A notice: the sealed word that a certificate is withdrawn, or that another has taken its place.

A certificate is never changed. What ends it is a document of its own, which can be handed to whoever holds the certificate.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from joserfc.jwk import OKPKey
from pydantic import BaseModel, ConfigDict, ValidationError

from ispettore.core import errors
from ispettore.core.certify import seal
from ispettore.core.certify.certificate import hash_of

Ending = Literal["superseded", "withdrawn"]


class Notice(BaseModel):
    """`certificate` is the SHA-256 of the certificate's content as canonical JSON, `successor` that of the one in its place."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    format: Literal["ispettore-notice"] = "ispettore-notice"
    version: Literal[1] = 1
    certificate: str
    ending: Ending
    when: datetime
    reason: str
    by: str = ""
    successor: str | None = None
    issuer: str

    @property
    def withdraws(self) -> bool:
        return self.ending == "withdrawn"

    @property
    def told(self) -> str:
        """In a sentence.

        >>> Notice(certificate="a", ending="withdrawn", when=datetime(2026, 3, 1), reason="The take was wrong.", issuer="").told
        'It was withdrawn on 1 March 2026: The take was wrong.'
        """
        by = f" by {self.by}" if self.by else ""
        instead = f" Its replacement is {self.successor[:16]}…." if self.successor else ""
        return f"It was {self.ending} on {self.when.day} {self.when:%B %Y}{by}: {self.reason.rstrip('.')}.{instead}"


@dataclass(frozen=True)
class Told:
    """What notices say of one certificate: the gravest of those that are to be trusted, and what else is to be said of them."""

    notice: Notice | None
    remarks: tuple[str, ...]


def parse(text: bytes, *, name: str) -> dict[str, Any]:
    """A sealed notice. Raises NotACertificate."""
    sealed = seal.parse(text, name=name, what="notice")
    try:
        Notice.model_validate(sealed["notice"])
    except ValidationError as error:
        raise errors.NotACertificate(file=name, reason="it does not hold what a notice must") from error
    return sealed


def of(
    certificate: dict[str, Any], notices: Iterable[dict[str, Any]], *, trusted: Mapping[str, OKPKey], own: OKPKey | None
) -> Told:
    """What sealed notices say of a certificate's content. One counts where its seal is whole and made by a trusted key or by the
    very key of the certificate; another's is only mentioned, since anybody could write it."""
    try:
        meant = hash_of(certificate)
    except ValueError:
        return Told(None, ())
    counting: list[Notice] = []
    remarks = []
    for sealed in notices:
        notice = Notice.model_validate(sealed["notice"])
        if notice.certificate != meant:
            continue
        key = seal.sealing_key(sealed)
        if key is None or not seal.intact(sealed, key):
            remarks.append(f"A notice that it was {notice.ending} was changed after it was sealed. It does not count.")
        elif key.thumbprint() in trusted or (own is not None and key.thumbprint() == own.thumbprint()):
            counting.append(notice)
        else:
            remarks.append(
                f"A notice says that it was {notice.ending}, but it is sealed with a key that is not known here. It does not count."
            )
    return Told(_gravest(counting), tuple(remarks))


def _gravest(notices: Sequence[Notice]) -> Notice | None:
    ordered = sorted(notices, key=lambda notice: (not notice.withdraws, notice.when))
    return ordered[0] if ordered else None
