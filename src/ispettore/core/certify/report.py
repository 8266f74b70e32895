"""The printed proof: a sealed certificate as PDF, with the same marks, rules and ribbon as on the screen, and the certificate
itself inside (`pdf.py`), so that the paper can be checked."""

import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from joserfc.jwk import OKPKey

from ispettore.core.audio.facts import LOSSY_CODECS
from ispettore.core.certify import drawing, forms, pdf
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.drawing import EDGE, FIGURES, SOFT, STRONG, WORDS, Paper, moment
from ispettore.core.certify.forms import AnyCertificate, CertificateForm3, FactsForm, FileCertificate, ProductionForm3
from ispettore.core.certify.notices import Notice
from ispettore.core.certify.seal import sealing_key
from ispettore.core.figures import clock, number
from ispettore.core.measure.ribbon import Ribbon
from ispettore.core.spec import kept

WIDTH, HEIGHT = 595.0, 842.0
BROAD = WIDTH - 2 * EDGE
LABEL = 74.0
SHORT = 16
"""So much of a hash names a certificate where there is no room for all of it."""


@dataclass(frozen=True)
class Beside:
    """What stands beside a certificate and is not sealed in it: how far its file was listened to by now, in words, and what ended
    it."""

    listened: str = ""
    notice: Notice | None = None


def write(
    sealed: dict[str, Any],
    ribbon: Ribbon | None,
    target: Path | BinaryIO,
    *,
    beside: Beside | None = None,
    key: OKPKey | None = None,
) -> None:
    """Print a sealed certificate to a path or a binary stream. `key` seals the pages as well. The same certificate gives the same
    file."""
    certificate, printed = forms.read(sealed["certificate"]), io.BytesIO()
    title = f"Certificate of {_subject(certificate)}"
    canvas = drawing.canvas_for(printed, title=title, author=certificate.issuer, size=(WIDTH, HEIGHT))
    sheet = _Sheet(canvas, sealed, certificate, beside or Beside())
    sheet.head()
    if isinstance(certificate, ProductionForm3):
        sheet.production(certificate)
    else:
        sheet.file(certificate, ribbon)
    sheet.end()
    canvas.save()
    content = pdf.attach(printed.getvalue(), sealed, key)
    if isinstance(target, Path):
        target.write_bytes(content)
    else:
        target.write(content)


def _subject(certificate: AnyCertificate) -> str:
    return certificate.production if isinstance(certificate, ProductionForm3) else certificate.file.name


def format_of(facts: FactsForm) -> str:
    """A certified file's format, in a line."""
    count = f"{facts.channels} channel{'s' if facts.channels > 1 else ''}"
    lossy = facts.codec in LOSSY_CODECS and facts.bit_rate_kbps
    rate = f"{number(facts.bit_rate_kbps or 0, 0)} kbit/s" if lossy else f"{facts.bit_depth} bit"
    return f"{facts.container.upper()}, {number(facts.sample_rate_hz, 0)} Hz, {count}, {rate}"


class _Sheet(Paper):
    """A certificate on paper, part by part."""

    def __init__(self, canvas: Any, sealed: dict[str, Any], certificate: AnyCertificate, beside: Beside) -> None:
        super().__init__(canvas, width=WIDTH, height=HEIGHT, of=_subject(certificate), issuer=certificate.issuer)
        self._sealed, self._certificate, self._beside = sealed, certificate, beside

    def head(self) -> None:
        certificate, specification = self._certificate, self._certificate.specification
        of_production = isinstance(certificate, ProductionForm3)
        self.mark(EDGE - 5, self.y - 2, "inside", scale=1.5)
        self.text(EDGE + 24, self.y - 6, "Ispettore", font=STRONG, size=12)
        self.text(WIDTH - EDGE, self.y - 6, moment(certificate.issued), size=9, colour=SOFT, right=True)
        self.y -= 42
        self.text(EDGE, self.y, f"Certificate of {'a production' if of_production else 'measurement'}", font=STRONG, size=21)
        self.y -= 19
        met = "every required limit on the production is met" if of_production else "every required limit is met"
        self.wrapped(EDGE, f"{specification.name}, version {specification.version}: {met}.", BROAD, size=11, leading=13)
        self.y -= 5
        if self._beside.notice is not None:
            self.wrapped(EDGE, self._beside.notice.told, BROAD, size=10, colour=drawing.COLOURS["over"], leading=12)
            self.y -= 3
        self.wrapped(EDGE, certificate.statement, BROAD, size=8.5, colour=SOFT, leading=11)
        self.y -= 6

    def file(self, certificate: FileCertificate, ribbon: Ribbon | None) -> None:
        limits = kept.verdict(certificate.verdict.model_dump()).limits
        facts = certificate.facts
        rows = [
            ("File", certificate.file.name, WORDS),
            ("", f"{format_of(facts)}, {clock(facts.duration_s, 2)}, {number(certificate.file.size_bytes, 0)} bytes", WORDS),
            ("SHA-256", certificate.file.sha256, FIGURES),
        ]
        if isinstance(certificate, CertificateForm3) and certificate.file.sound_sha256:
            rows.append(("of its sound", certificate.file.sound_sha256, FIGURES))
        if certificate.origin is not None:
            rows += [("Made from", certificate.origin.name, WORDS), ("SHA-256", certificate.origin.sha256, FIGURES)]
        self._rows([*rows, ("Listening", self._heard(certificate), WORDS), *self._issued()])
        if ribbon is not None and ribbon.peak_dbfs.size:
            self.ribbon(ribbon, limits)
        self.limits(limits)
        self._treatment(certificate)
        if isinstance(certificate, CertificateForm3):
            self._accepted(certificate)

    def production(self, certificate: ProductionForm3) -> None:
        size = sum(part.size_bytes for part in certificate.files)
        count = len(certificate.files)
        rows = [
            ("Production", certificate.production, WORDS),
            ("", f"{count} file{'s' if count > 1 else ''}, {number(size, 0)} bytes", WORDS),
        ]
        self._rows([*rows, *self._issued()])
        self.limits(kept.verdict(certificate.verdict.model_dump()).limits)
        self.y -= 8
        self.text(EDGE, self.y, "Files", font=STRONG, size=10)
        self.y -= 15
        for part in certificate.files:
            self.room_for(38)
            self.within(EDGE, self.y, part.name, 300, font=STRONG, size=9)
            self.text(WIDTH - EDGE, self.y, f"{number(part.size_bytes, 0)} bytes", size=8.5, colour=SOFT, right=True)
            self.text(EDGE, self.y - 11, part.sha256, font=FIGURES, size=7.5)
            told = [f"certificate {part.certificate[:SHORT]}…", part.listening]
            self.within(EDGE, self.y - 21.5, ", ".join(filter(None, told)), BROAD, size=8, colour=SOFT)
            self.y -= 35

    def _issued(self) -> list[tuple[str, str, str]]:
        """Who stands for it, and by which number it is known."""
        certificate, key = self._certificate, sealing_key(self._sealed)
        rows = [("Sealed by", f"{certificate.issuer}, key {key.thumbprint() if key is not None else 'unknown'}", WORDS)]
        by = getattr(certificate, "certified_by", "")
        if by:
            rows.insert(0, ("Certified by", by, WORDS))
        rows.append(("Methods", f"version {certificate.methods_version}", WORDS))
        rows.append(("Certificate", hash_of(self._sealed["certificate"]), FIGURES))
        if replaced := getattr(certificate, "supersedes", None):
            rows.append(("In place of", replaced, FIGURES))
        return rows

    def _heard(self, certificate: FileCertificate) -> str:
        """How far the file was listened to: as it is sealed, and as is known now."""
        now = self._beside.listened
        if isinstance(certificate, CertificateForm3):
            sealed = certificate.listening
            later = f"{now} since (not part of the seal)" if now and now != sealed else ""
            told = ", ".join(filter(None, (sealed, later)))
        else:
            told = "listened through by a person" if certificate.listened else f"{now} (not part of the seal)" if now else ""
        return f"{told[:1].upper()}{told[1:]}" if told else "not recorded"

    def _rows(self, rows: Sequence[tuple[str, str, str]]) -> None:
        for name, value, font in rows:
            self.text(EDGE, self.y, name, size=8.5, colour=SOFT)
            size = 8.5 if font == WORDS else 8.2
            self.within(EDGE + LABEL, self.y, value, BROAD - LABEL, font=font, size=size)
            self.y -= 12.5
        self.y -= 4

    def _treatment(self, certificate: FileCertificate) -> None:
        origin = certificate.origin
        if origin is None:
            return
        self._titled("What was done")
        steps = [step for step in origin.treatment.steps if step.on] if origin.treatment else []
        if not steps:
            self.text(EDGE, self.y, "Nothing but encoding.", size=8.5)
            self.y -= 12
        for place, step in enumerate(steps, 1):
            name = step.kind.replace("-", " ").capitalize()
            self.wrapped(EDGE, f"{place}. {name}. {step.reason}", BROAD, size=8.5, leading=11)
        if origin.touch is not None:
            self.wrapped(EDGE, f"Touch {number(origin.touch, 0)} of 100.", BROAD, size=8.5, colour=SOFT)

    def _accepted(self, certificate: CertificateForm3) -> None:
        if not certificate.accepted:
            return
        self._titled("Findings in the recording that were accepted")
        for one in certificate.accepted:
            self.wrapped(EDGE, f"{clock(one.start_s, 1)} {one.title}: {one.reason}", BROAD, size=8.5, leading=11)

    def _titled(self, words: str) -> None:
        self.y -= 6
        self.room_for(32)
        self.text(EDGE, self.y, words, font=STRONG, size=10)
        self.y -= 13

    def end(self) -> None:
        self.line(EDGE, EDGE + 4, WIDTH - EDGE, EDGE + 4)
        words = "The sealed certificate is attached to this page. Check it: ispettore verify THIS.pdf FILE"
        self.text(EDGE, EDGE - 8, words, size=8, colour=SOFT)
        self.text(WIDTH - EDGE, EDGE - 8, f"page {self.number}", size=8, colour=SOFT, right=True)
        self.text(EDGE, EDGE - 19, f"Seal …{self._sealed['seal'][-60:]}", font=FIGURES, size=7, colour=SOFT)
        self.c.showPage()
