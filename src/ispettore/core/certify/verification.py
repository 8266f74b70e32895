"""Checking a sealed certificate against a file: the seal, the key, the file's hash, and every reading measured again."""

from pathlib import Path
from typing import Any, Literal

from joserfc.jwk import OKPKey
from pydantic import BaseModel, ConfigDict, ValidationError

from ispettore.core.audio.facts import sha256_of
from ispettore.core.certify import seal
from ispettore.core.certify.certificate import Certificate
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.measure.inspection import Inspection, Progress, inspect, no_progress
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.verdict import judge

TOLERANCE, NOISE_TOLERANCE = 0.05, 0.3

KeyStanding = Literal["known", "given", "unknown", "other"]


class Verification(BaseModel):
    """`genuine`: nothing is wrong. `problems` names each thing that is; `key` says whether the sealing key is one to trust."""

    model_config = ConfigDict(frozen=True)

    genuine: bool
    key: KeyStanding
    key_id: str | None
    problems: tuple[str, ...]
    certificate: Certificate | None
    measured: Inspection | None = None

    @property
    def exit_code(self) -> int:
        """0 genuine by a known or given key, 1 not genuine, 3 intact but by an unknown key."""
        if not self.genuine:
            return 1
        return 3 if self.key == "unknown" else 0


def verify(
    sealed: dict[str, Any],
    path: Path,
    *,
    name: str | None = None,
    keys: KeyFolder,
    given: OKPKey | None = None,
    progress: Progress = no_progress,
) -> Verification:
    """Check everything that can be checked offline. `given` is a public key to trust, and then the only one."""
    problems: list[str] = []
    standing, key = _standing(sealed, keys, given)
    if standing == "other":
        problems.append("It was sealed with another key than the one given.")
    if key is None:
        problems.append("The seal names no key it could be checked with.")
    elif not seal.intact(sealed, key):
        problems.append("The certificate was changed after it was sealed: seal and content don't belong together.")
    certificate = _read(sealed, problems)
    measured = None
    if certificate is not None:
        shown = name or path.name
        if sha256_of(path) != certificate.file.sha256:
            problems.append(f"“{shown}” is not the certified file, or it was changed: its SHA-256 differs.")
        else:
            measured = inspect(path, name=name, progress=progress).inspection
            problems += _differences(certificate, measured)
    return Verification(
        genuine=not problems,
        key=standing,
        key_id=key.thumbprint() if key is not None else None,
        problems=tuple(problems),
        certificate=certificate,
        measured=measured,
    )


def _standing(sealed: dict[str, Any], keys: KeyFolder, given: OKPKey | None) -> tuple[KeyStanding, OKPKey | None]:
    named = seal.sealing_key(sealed)
    if given is not None:
        same = named is not None and named.thumbprint() == given.thumbprint()
        return ("given" if same else "other"), named
    if named is not None and named.thumbprint() in keys.known():
        return "known", named
    return "unknown", named


def _read(sealed: dict[str, Any], problems: list[str]) -> Certificate | None:
    try:
        return Certificate.model_validate(sealed["certificate"])
    except ValidationError as error:
        first = error.errors()[0]
        where = " → ".join(str(part) for part in first["loc"])
        problems.append(f"The certificate does not hold what a certificate must: {where}: {first['msg']}.")
        return None


def _differences(certificate: Certificate, measured: Inspection) -> list[str]:
    """Readings that differ by more than meters may, facts that differ at all, and a verdict that no longer stands."""
    found = []
    for quantity, certified in certificate.readings.items():
        again = measured.value(quantity)
        title = QUANTITIES[quantity].title if quantity in QUANTITIES else quantity
        if (again is None) != (certified.value is None):
            found.append(f"{title} has a value in only one of certificate and file.")
        elif again is not None and certified.value is not None:
            tolerance = NOISE_TOLERANCE if quantity == "noise_floor_dbfs" else TOLERANCE
            if abs(again - certified.value) > tolerance + 1e-4:
                found.append(f"{title} is certified as {certified.value:.2f} {certified.unit} but measures {again:.2f}.")
    if not judge(measured, certificate.specification, role="deliverable").passes:
        found.append(f"The file does not meet {certificate.specification.name}.")
    return found
