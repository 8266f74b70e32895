"""Checking a sealed certificate against a file: the seal, the key, the file's hash, and every figure in it measured again."""

import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Literal

from joserfc.jwk import OKPKey
from pydantic import BaseModel, ConfigDict
from rfc8785 import CanonicalizationError

from ispettore.core.audio.facts import FileFacts, sha256_of
from ispettore.core.certify import forms, seal
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.forms import CertificateForm, CertificateForm2
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.figures import clock, number
from ispettore.core.measure import methods_history
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.kept import current_name
from ispettore.core.measure.reading import Reading
from ispettore.core.progress import Progress, no_progress
from ispettore.core.spec import kept
from ispettore.core.spec.builtin import impostor
from ispettore.core.spec.quantities import quantity as about
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Verdict, judge, place
from ispettore.core.text import shown_name

ROUNDED = 2e-4
"""How far a verdict's figure may lie from the reading it is of, which is certified to four decimals."""

_TITLES = {"bit_rate_constant": "Bit rate kind", "frames": "Length in samples", "size_bytes": "Size in bytes", "tags": "Tags"}
KeyStanding = Literal["known", "given", "unknown", "other"]


class Compared(BaseModel):
    """How much of a certificate was held against the file: readings measured again, facts, and limits judged again."""

    model_config = ConfigDict(frozen=True)

    readings: int = 0
    facts: int = 0
    limits: int = 0


class Differing(BaseModel):
    """A reading or fact that older methods gave another figure for."""

    model_config = ConfigDict(frozen=True)

    title: str
    certified: str
    measured: str


class Verification(BaseModel):
    """`intact`: seal, file and every figure agree. `genuine`: intact, and sealed with a key to trust.

    `problems` names each thing that is wrong. `older` are figures that differ only because the methods changed since; `methods`
    says so. `notes` are about the folder of keys and do not touch the certificate.
    """

    model_config = ConfigDict(frozen=True)

    genuine: bool
    intact: bool
    key: KeyStanding
    key_id: str | None
    problems: tuple[str, ...]
    older: tuple[Differing, ...] = ()
    methods: str = ""
    compared: Compared = Compared()
    notes: tuple[str, ...] = ()
    certificate: CertificateForm | CertificateForm2 | None
    measured: Inspection | None = None
    limits: tuple[LimitVerdict, ...] = ()
    """The certified figures, judged again."""

    @property
    def said(self) -> str:
        """What was compared, in a sentence."""
        compared = self.compared
        agree = "all agree" if not self.older else f"all agree but {len(self.older)} that older methods read differently"
        told = f"{compared.readings} readings, {compared.facts} facts of the file, {compared.limits} limits"
        return f"Measured again and compared: {told}; {agree}."

    @property
    def exit_code(self) -> int:
        """0 genuine, 1 not intact, 3 intact but by an unknown key."""
        return 0 if self.genuine else 3 if self.intact else 1


def verify(
    sealed: dict[str, Any],
    path: Path,
    *,
    name: str | None = None,
    keys: KeyFolder,
    given: OKPKey | None = None,
    progress: Progress = no_progress,
) -> Verification:
    """Check everything that can be checked offline. `given` is a public key to trust, and then the only one.

    Raises FileMissing and what reading the file raises.
    """
    problems: list[str] = []
    known = keys.known()
    standing, key = _standing(sealed, known.keys, given)
    if standing == "other":
        problems.append("It was sealed with another key than the one given.")
    if key is None:
        problems.append("The seal names no key it could be checked with.")
    elif not seal.intact(sealed, key):
        problems.append("The certificate was changed after it was sealed: seal and content don't belong together.")
    certificate, comparison, measured = None, None, None
    try:
        certificate = forms.read(sealed["certificate"])
    except forms.Unreadable as error:
        problems.append(str(error))
    if certificate is not None:
        problems += _of_itself(certificate, sealed["certificate"])
        before, sha256 = _state(path), sha256_of(path)
        if sha256 != certificate.file.sha256:
            problems.append(f"“{name or shown_name(path)}” is not the certified file, or it was changed: its SHA-256 differs.")
        else:
            measured = inspect(path, name=name, sha256=sha256, progress=progress).inspection
            comparison = _Comparison(certificate, measured)
            problems += comparison.problems
            if _state(path) != before:
                problems.append(f"“{name or shown_name(path)}” was changed while it was being measured.")
    intact = not problems
    return Verification(
        genuine=intact and standing in ("known", "given"),
        intact=intact,
        key=standing,
        key_id=key.thumbprint() if key is not None else None,
        problems=tuple(problems),
        older=tuple(comparison.older) if comparison else (),
        methods=_methods(certificate) if certificate else "",
        compared=comparison.compared if comparison else Compared(),
        notes=known.problems,
        certificate=certificate,
        measured=measured,
        limits=comparison.limits if comparison else (),
    )


def _state(path: Path) -> tuple[int, ...] | None:
    """What changes with a file's content: which file it is, its size and when it was written to; None where it is gone."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns


def _standing(sealed: dict[str, Any], known: dict[str, OKPKey], given: OKPKey | None) -> tuple[KeyStanding, OKPKey | None]:
    named = seal.sealing_key(sealed)
    if given is not None:
        same = named is not None and named.thumbprint() == given.thumbprint()
        return ("given" if same else "other"), named
    if named is not None and named.thumbprint() in known:
        return "known", named
    return "unknown", named


def _methods(certificate: CertificateForm) -> str:
    """What is to be said of the methods its readings were taken by; nothing where they are those of now."""
    then, now = certificate.methods_version, methods_history.current()
    if then == now:
        return ""
    versions = f"(version {then}; this program has version {now})"
    if then < now:
        return f"The readings were taken by older methods {versions}."
    newer = "The readings were taken by newer methods than this program has"
    return f"{newer} {versions}: what differs can only be checked by a newer one."


def _of_itself(certificate: CertificateForm, content: dict[str, Any]) -> Iterator[str]:
    """What in a certificate contradicts itself, without any file."""
    stated = certificate.specification
    if isinstance(certificate, CertificateForm2) and certificate.specification_sha256 != _hash(content["specification"]):
        yield "The specification in the certificate is not the one it was made by: its SHA-256 differs."
    specification = kept.specification(stated.model_dump())
    if against := impostor(stated.id, stated.name, specification):
        yield f"The specification in the certificate is not what it calls itself: {against}."
    verdict = certificate.verdict
    if (verdict.specification, verdict.version) != (stated.id, stated.version):
        yield "The verdict is that of another specification than the one in the certificate."
    if verdict.role != "deliverable":
        yield "The verdict is not that of a deliverable."
    if not verdict.passes:
        yield f"By its own verdict the file does not meet {stated.name}."
    if certificate.file.size_bytes != certificate.facts.size_bytes:
        yield "The certificate states two sizes of the file."


def _hash(specification: dict[str, Any]) -> str | None:
    try:
        return hash_of(specification)
    except CanonicalizationError:
        return None  # a number that has no canonical form


class _Comparison:
    """A certificate held against its file, figure by figure."""

    def __init__(self, certificate: CertificateForm, measured: Inspection) -> None:
        self.problems: list[str] = []
        self.older: list[Differing] = []
        self._certificate, self._measured = certificate, measured
        self._since = certificate.methods_version
        self._certified = {current_name(name): reading for name, reading in certificate.readings.items()}
        self._facts()
        self._readings()
        specification = kept.specification(certificate.specification.model_dump())
        self.limits = self._limits(specification)
        self.compared = Compared(
            readings=len(self._certified), facts=len(certificate.facts.model_fields_set), limits=len(self.limits)
        )

    def _differs(self, name: str, title: str, certified: str, measured: str) -> None:
        """Note a difference: as one of methods where these changed since, else as a problem."""
        if methods_history.may_differ(name, since=self._since):
            self.older.append(Differing(title=title, certified=certified, measured=measured))
        else:
            self.problems.append(f"{title} is certified as {certified} but measures {measured}.")

    def _facts(self) -> None:
        certified, measured = FileFacts.model_validate(self._certificate.facts.model_dump()), self._measured.facts
        for name in forms.FactsForm.model_fields:
            if name not in self._certificate.facts.model_fields_set:
                continue
            one, other = getattr(certified, name), getattr(measured, name)
            alike = math.isclose(one, other, rel_tol=1e-9) if isinstance(one, float) and isinstance(other, float) else one == other
            if not alike:
                self._differs(name, _TITLES.get(name) or about(name).title, _told(name, one), _told(name, other))

    def _readings(self) -> None:
        again = self._measured.readings
        for name, certified in self._certified.items():
            title, measured = about(name).title, again.get(name)
            if measured is None:
                self._differs(name, title, _figure(certified.value, certified.unit), "nothing")
                continue
            near = about(name).remeasured + 1e-4  # certified to four decimals
            one, other = certified.value, measured.value
            alike = one is other is None or (one is not None and other is not None and abs(one - other) <= near)
            if not alike or certified.unit != measured.unit:
                self._differs(name, title, _figure(one, certified.unit), _figure(other, measured.unit))
        for name in again.keys() - self._certified.keys():
            if not methods_history.may_differ(name, since=self._since):
                self.problems.append(f"{about(name).title} is missing from the certificate.")

    def _silent(self, name: str) -> bool:
        """Whether a reading has no value because nothing sounds: the file says so, a certificate doesn't."""
        measured = self._measured.readings.get(name)
        return measured is not None and measured.silence

    def _limits(self, specification: Specification) -> tuple[LimitVerdict, ...]:
        """Every limit judged again: by the certified figures, from which the verdict has to follow, and by the measured ones."""
        readings = {name: Reading(quantity=name, silence=self._silent(name), **dict(one)) for name, one in self._certified.items()}
        facts = FileFacts.model_validate(self._certificate.facts.model_dump())
        stated = self._measured.model_copy(update={"readings": readings, "facts": facts})
        own = judge(stated, specification, role="deliverable")
        self.problems += _unlike(self._certificate.verdict, own, specification)
        self.problems += [
            f"By its own readings the file does not meet {specification.name}: {limit.title}."
            for limit in own.missed
            if limit.margin is None or limit.margin < -ROUNDED
        ]
        now = judge(self._measured, specification, role="deliverable")
        for limit in now.missed:
            if not methods_history.may_differ(limit.quantity, since=self._since):
                self.problems.append(f"The file does not meet {specification.name}: {limit.title}.")
        return own.limits


def _unlike(stated: forms.VerdictForm, own: Verdict, specification: Specification) -> Iterator[str]:
    """Where a stated verdict does not follow from the readings beside it."""
    said, wanted = {current_name(one.quantity): one for one in stated.limits}, {one.quantity: one for one in own.limits}
    if len(said) != len(stated.limits) or said.keys() != wanted.keys():
        yield "The verdict does not judge just the limits of the specification."
    for name in said.keys() & wanted.keys():
        one, other = said[name], wanted[name]
        bounds_alike = all(
            getattr(one, key) == getattr(other, key) for key in ("low", "high", "one_of", "severity", "applies_to", "unit", "guard")
        )
        figures_alike = _close(one.reading, other.reading) and _close(one.margin, other.margin)
        if not (bounds_alike and figures_alike and (one.passes, one.position) in _sides(other, specification)):
            yield f"What the verdict says of {other.title} does not follow from the certificate's own readings."


def _sides(judged: LimitVerdict, specification: Specification) -> set[tuple[bool, str]]:
    """Where a reading may be said to stand: at a bound, and where near begins, the decimals that were rounded off decide."""
    limit = specification.limit(judged.quantity)
    found: set[tuple[bool, str]] = {(judged.passes, judged.position)}
    if limit is not None and isinstance(judged.reading, float):
        found |= {(at.passes, at.position) for at in (place(limit, judged.reading + by) for by in (-ROUNDED, ROUNDED))}
    return found


def _close(one: float | str | None, other: float | str | None) -> bool:
    if isinstance(one, int | float) and isinstance(other, int | float):
        return abs(one - other) <= ROUNDED
    return one == other


def _figure(value: float | None, unit: str) -> str:
    return "nothing" if value is None else f"{number(value, 2)} {unit}".strip()


def _told(name: str, value: Any) -> str:
    """A fact as a person reads it."""
    match value:
        case None:
            return "nothing"
        case bool():
            return "constant" if value else "variable"
        case float() if about(name).clock:
            return clock(value, 2)
        case int() | float():
            return f"{number(value, 2 if isinstance(value, float) else 0)} {about(name).unit}".strip()
        case dict():
            return "; ".join(f"{key} {', '.join(texts)}" for key, texts in value.items()) or "nothing"
    return str(value)
