"""Checking a sealed certificate: the seal, the key, notices that end it, the file's hash, and every figure in it measured again."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from joserfc.jwk import OKPKey
from pydantic import BaseModel, ConfigDict
from rfc8785 import CanonicalizationError

from ispettore.core import errors
from ispettore.core.audio.facts import FileFacts, sha256_of
from ispettore.core.audio.sound_hash import sound_sha256
from ispettore.core.certify import forms, notices, pdf, seal
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.comparison import Compared, Comparison, Differing, title_of, told
from ispettore.core.certify.forms import AnyCertificate, CertificateForm3, FileCertificate, ProductionForm3
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.notices import Notice
from ispettore.core.measure import methods_history
from ispettore.core.measure.inspecting import inspect
from ispettore.core.measure.inspection import Inspection
from ispettore.core.progress import Progress, no_progress
from ispettore.core.spec import kept
from ispettore.core.spec.builtin import impostor
from ispettore.core.spec.verdict import LimitVerdict
from ispettore.core.text import shown_name

KeyStanding = Literal["known", "given", "unknown", "other"]
ANOTHER = ("container", "codec", "sample_rate_hz", "channels", "bit_depth", "frames")
"""Facts in which one file differs from another; where they are alike, the sound of the same file was changed."""


@dataclass(frozen=True)
class Paper:
    """A sealed certificate as it was handed over. Of one that came in a PDF, what is wrong with the pages around it (`problems`)
    and what is to be said of them (`remarks`)."""

    sealed: dict[str, Any]
    problems: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()

    @property
    def content(self) -> dict[str, Any]:
        found: dict[str, Any] = self.sealed["certificate"]
        return found

    @property
    def of_production(self) -> bool:
        return self.content.get("subject") == "production"


def read(text: bytes, *, name: str) -> Paper:
    """A sealed certificate from its JSON, or from the PDF that carries it. Raises NotACertificate."""
    return Paper(*pdf.detach(text, name=name)) if pdf.is_pdf(text) else Paper(seal.parse(text, name=name))


class PartChecked(BaseModel):
    """A file of a production: what is wrong with it, empty where nothing is."""

    model_config = ConfigDict(frozen=True)

    name: str
    problems: tuple[str, ...]


class Verification(BaseModel):
    """`intact`: seal, file and every figure agree. `genuine`: intact, sealed with a key to trust, and not withdrawn.

    `problems` names each thing that is wrong. `notice` is what ended the certificate, if anything did. `older` are figures that
    differ only because the methods changed since; `methods` says so. `notes` are about keys, pages and notices, and do not touch
    the certificate. `given` says whether there was a file to measure; `parts` are those of a production.
    """

    model_config = ConfigDict(frozen=True)

    genuine: bool
    intact: bool
    key: KeyStanding
    key_id: str | None
    problems: tuple[str, ...]
    notice: Notice | None = None
    older: tuple[Differing, ...] = ()
    methods: str = ""
    compared: Compared = Compared()
    notes: tuple[str, ...] = ()
    given: bool = True
    certificate: AnyCertificate | None
    measured: Inspection | None = None
    limits: tuple[LimitVerdict, ...] = ()
    """The certified figures, judged again."""
    parts: tuple[PartChecked, ...] = ()

    @property
    def said(self) -> str:
        """What was compared, in a sentence."""
        if not self.given:
            return "Only the certificate was checked: its seal and its verdict. Add the file it certifies to have that measured."
        compared = self.compared
        agree = "all match" if not self.older else f"all match except {len(self.older)} that older methods measured differently"
        of = f"{compared.files} files" if compared.files else "the file"
        counts = f"{compared.readings} readings, {compared.facts} facts of {of}, {compared.limits} limits"
        return f"Re-measured: {counts}; {agree}."

    @property
    def of_production(self) -> bool:
        return isinstance(self.certificate, ProductionForm3)

    @property
    def withdrawn(self) -> bool:
        return self.notice is not None and self.notice.withdraws

    @property
    def exit_code(self) -> int:
        """0 genuine, 1 not intact or withdrawn, 3 intact but by an unknown key."""
        return 0 if self.genuine else 3 if self.intact and not self.withdrawn else 1


class Checked:
    """What every certificate is checked for, whatever it is of: seal, key, notices, its form, and that it does not contradict
    itself."""

    def __init__(self, paper: Paper, keys: KeyFolder, given: OKPKey | None, told: Iterable[dict[str, Any]]) -> None:
        self.problems, self.remarks = list(paper.problems), list(paper.remarks)
        known = keys.known()
        self.standing, self.key = _standing(paper.sealed, known.keys, given)
        trusted: Mapping[str, OKPKey] = {given.thumbprint(): given} if given is not None else known.keys
        if self.standing == "other":
            self.problems.append("It was sealed with a different key from the one given.")
        if self.key is None:
            self.problems.append("The seal names no key it could be checked with.")
        elif not seal.intact(paper.sealed, self.key):
            self.problems.append("The certificate was changed after it was sealed: the seal doesn't match the contents.")
        ended = notices.of(paper.content, told, trusted=trusted, own=self.key)
        self.notice = ended.notice
        self.remarks += [*ended.remarks, *known.problems]
        self.certificate: AnyCertificate | None = None
        try:
            self.certificate = forms.read(paper.content)
        except forms.Unreadable as error:
            self.problems.append(str(error))
        if self.certificate is not None:
            self.problems += _of_itself(self.certificate, paper.content)

    def verification(self, **more: Any) -> Verification:
        """What came of it, with what else was compared."""
        intact = not self.problems
        withdrawn = self.notice is not None and self.notice.withdraws
        return Verification(
            genuine=intact and not withdrawn and self.standing in ("known", "given"),
            intact=intact,
            key=self.standing,
            key_id=self.key.thumbprint() if self.key is not None else None,
            problems=tuple(self.problems),
            notice=self.notice,
            methods=_methods(self.certificate) if self.certificate else "",
            notes=tuple(self.remarks),
            certificate=self.certificate,
            **more,
        )


def verify(
    paper: Paper,
    path: Path | None,
    *,
    name: str | None = None,
    keys: KeyFolder,
    given: OKPKey | None = None,
    told: Iterable[dict[str, Any]] = (),
    progress: Progress = no_progress,
) -> Verification:
    """Check everything that can be checked offline of the certificate of a file; without the file (`path` None) only the
    certificate itself. `given` is a public key to trust, and then the only one; `told` are sealed notices.

    Raises FileMissing and what reading the file raises.
    """
    checked = Checked(paper, keys, given, told)
    certificate, comparison, measured = checked.certificate, None, None
    if isinstance(certificate, ProductionForm3):
        if path is not None:
            checked.problems.append("It is the certificate of a production. Give it with the package: the folder or the ZIP file.")
    elif certificate is not None and path is not None:
        name = name or shown_name(path)
        before, sha256 = _state(path), sha256_of(path)
        if sha256 != certificate.file.sha256:
            found, measured = _another(certificate, path, name, progress)
            checked.problems += found
        else:
            measured = inspect(path, name=name, sha256=sha256, progress=progress).inspection
            comparison = Comparison(certificate, measured)
            checked.problems += comparison.problems
            if _state(path) != before:
                checked.problems.append(f"“{name}” was changed while it was being measured.")
    return checked.verification(
        older=tuple(comparison.older) if comparison else (),
        compared=comparison.compared if comparison else Compared(),
        given=path is not None,
        measured=measured,
        limits=comparison.limits if comparison else (),
    )


def _another(certificate: FileCertificate, path: Path, name: str, progress: Progress) -> tuple[list[str], Inspection | None]:
    """What a file with another hash than the certified one is, as nearly as can be told: the same sound with other tags, the same
    file with its sound changed, or another file."""
    differs = f"“{name}” is not the certified file, or it was changed: its SHA-256 differs."
    try:
        measured = inspect(path, name=name, progress=progress).inspection
    except errors.Cancelled:
        raise
    except errors.IspettoreError as error:
        return [differs, error.sentence], None
    certified, facts = FileFacts.model_validate(certificate.facts.model_dump()), measured.facts
    sound = certificate.file.sound_sha256 if isinstance(certificate, CertificateForm3) else None
    if sound is not None and sound == sound_sha256(path):
        retagged = f"“{name}” was only re-tagged: its SHA-256 differs, but its sound is the certified one to the bit."
        return [retagged, *_tags(certified, facts)], measured
    apart = [fact for fact in ANOTHER if getattr(certified, fact) != getattr(facts, fact)]
    if apart:
        pairs = ((fact, told(fact, getattr(certified, fact)), told(fact, getattr(facts, fact))) for fact in apart)
        listed = [f"{title_of(fact)} is certified as {one} but measures {other}." for fact, one, other in pairs]
        return [differs, "It is another file.", *listed], measured
    comparison = Comparison(certificate, measured)
    readings = [problem for problem in comparison.problems if not problem.startswith("Tags ")]
    if sound is None:
        return [differs, *readings], measured
    changed = "Its sound was changed, in places or as a whole; format and length are the certified ones."
    return [differs, changed, *(readings or ["No reading differs by it."])], measured


def _tags(certified: FileFacts, found: FileFacts) -> Iterator[str]:
    """Which tags differ; none are named where the difference is in what is not read, such as a cover."""
    for name in sorted(certified.tags.keys() | found.tags.keys()):
        one, other = certified.tag(name), found.tag(name)
        if one != other:
            certified_as, says = (f"“{text}”" if text else "nothing" for text in (one, other))
            yield f"The tag “{name}” is certified as {certified_as} but says {says}."


def _state(path: Path) -> tuple[int, ...] | None:
    """What changes with a file's content: which file it is, its size and when it was written to; None where it is gone."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns


def _standing(sealed: dict[str, Any], known: Mapping[str, OKPKey], given: OKPKey | None) -> tuple[KeyStanding, OKPKey | None]:
    named = seal.sealing_key(sealed)
    if given is not None:
        same = named is not None and named.thumbprint() == given.thumbprint()
        return ("given" if same else "other"), named
    if named is not None and named.thumbprint() in known:
        return "known", named
    return "unknown", named


def _methods(certificate: AnyCertificate) -> str:
    """What is to be said of the methods its readings were taken by; nothing where they are those of now."""
    then, now = certificate.methods_version, methods_history.current()
    if then == now:
        return ""
    versions = f"(version {then}; this program has version {now})"
    if then < now:
        return f"The readings were taken by older methods {versions}."
    newer = "The readings were taken by newer methods than this program has"
    return f"{newer} {versions}: what differs can only be checked by a newer one."


def _of_itself(certificate: AnyCertificate, content: dict[str, Any]) -> Iterator[str]:
    """What in a certificate contradicts itself, without any file."""
    stated = certificate.specification
    if "specification_sha256" in content and content["specification_sha256"] != _hash(content["specification"]):
        yield "The specification in the certificate is not the one it was made by: its SHA-256 differs."
    specification = kept.specification(stated.model_dump())
    if against := impostor(stated.id, stated.name, specification):
        yield f"The specification in the certificate is not what it calls itself: {against}."
    verdict = certificate.verdict
    if (verdict.specification, verdict.version) != (stated.id, stated.version):
        yield "The verdict is that of another specification than the one in the certificate."
    of_production = isinstance(certificate, ProductionForm3)
    if verdict.role != ("production" if of_production else "deliverable"):
        yield f"The verdict is not that of a {'production' if of_production else 'deliverable'}."
    if not verdict.passes:
        yield f"By its own verdict the {'production' if of_production else 'file'} does not meet {stated.name}."
    if not isinstance(certificate, ProductionForm3) and certificate.file.size_bytes != certificate.facts.size_bytes:
        yield "The certificate states two sizes of the file."


def _hash(specification: dict[str, Any]) -> str | None:
    try:
        return hash_of(specification)
    except CanonicalizationError:
        return None  # a number that has no canonical form
