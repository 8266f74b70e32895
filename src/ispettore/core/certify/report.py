"""The printed proof: a sealed certificate as one page of PDF, with the same marks, rules and ribbon as on the screen."""

from pathlib import Path
from typing import Any

from ispettore.core.audio.facts import LOSSY_CODECS
from ispettore.core.certify import drawing, forms
from ispettore.core.certify.drawing import EDGE, FIGURES, SOFT, STRONG, WORDS, Page
from ispettore.core.certify.forms import CertificateForm
from ispettore.core.figures import clock, number
from ispettore.core.measure.ribbon import Ribbon
from ispettore.core.spec import kept

WIDTH, HEIGHT = 595.0, 842.0


def write(sealed: dict[str, Any], ribbon: Ribbon | None, target: Path | Any, *, listened: str = "") -> None:
    """Print a sealed certificate to a path or a binary stream; `listened` says how far its file was listened to, as it is known
    now: that stands beside the certificate and is not sealed. The page is the same for the same certificate."""
    certificate = forms.read(sealed["certificate"])
    limits = kept.verdict(certificate.verdict.model_dump()).limits
    title = f"Certificate of {certificate.file.name}"
    canvas = drawing.canvas_for(target, title=title, author=certificate.issuer, size=(WIDTH, HEIGHT))
    page = _Sheet(canvas, width=WIDTH, height=HEIGHT)
    page.head(certificate)
    page.facts(certificate, sealed, listened)
    if ribbon is not None and ribbon.peak_dbfs.size:
        page.ribbon(ribbon, limits)
    page.limits(limits)
    page.treatment(certificate)
    page.foot(sealed)
    canvas.showPage()
    canvas.save()


class _Sheet(Page):
    """A certificate's page, part by part."""

    def head(self, certificate: CertificateForm) -> None:
        self.mark(EDGE - 5, self.y - 2, "inside", scale=1.5)
        self.text(EDGE + 24, self.y - 6, "Ispettore", font=STRONG, size=12)
        self.text(WIDTH - EDGE, self.y - 6, f"{certificate.issued:%d %B %Y, %H:%M} UTC", size=9, colour=SOFT, right=True)
        self.y -= 42
        self.text(EDGE, self.y, "Certificate of measurement", font=STRONG, size=21)
        self.y -= 19
        specification = certificate.specification
        self.text(EDGE, self.y, f"{specification.name}, version {specification.version}: every required limit is met.", size=11)
        self.y -= 18
        self.wrapped(EDGE, certificate.statement, WIDTH - 2 * EDGE, size=8.5, colour=SOFT, leading=11)
        self.y -= 6

    def facts(self, certificate: CertificateForm, sealed: dict[str, Any], heard: str) -> None:
        facts = certificate.facts
        count = f"{facts.channels} channel{'s' if facts.channels > 1 else ''}"
        rate = (
            f"{number(facts.bit_rate_kbps, 0)} kbit/s"
            if facts.codec in LOSSY_CODECS and facts.bit_rate_kbps
            else f"{facts.bit_depth} bit"
        )
        form = f"{facts.container.upper()}, {number(facts.sample_rate_hz, 0)} Hz, {count}, {rate}"
        rows = [
            ("File", certificate.file.name, WORDS),
            ("", f"{form}, {clock(facts.duration_s, 2)}, {number(certificate.file.size_bytes, 0)} bytes", WORDS),
            ("SHA-256", certificate.file.sha256, FIGURES),
        ]
        if certificate.origin is not None:
            rows.append(("Made from", certificate.origin.name, WORDS))
            rows.append(("SHA-256", certificate.origin.sha256, FIGURES))
        listened = f"{heard[:1].upper()}{heard[1:]} (not part of the seal)" if heard else "not recorded"
        listened = "listened through by a person" if certificate.listened else listened
        rows += [("Listening", listened, WORDS), ("Sealed by", f"{certificate.issuer}, key {_key(sealed)}", WORDS)]
        for name, value, font in rows:
            self.text(EDGE, self.y, name, size=8.5, colour=SOFT)
            self.text(EDGE + 64, self.y, drawing.fitted(value, font, 8.5, WIDTH - 2 * EDGE - 64), font=font, size=8.5)
            self.y -= 12.5
        self.y -= 4

    def treatment(self, certificate: CertificateForm) -> None:
        origin = certificate.origin
        if origin is None:
            return
        self.y -= 6
        self.text(EDGE, self.y, "What was done", font=STRONG, size=10)
        self.y -= 13
        steps = [step for step in origin.treatment.steps if step.on] if origin.treatment else []
        if not steps:
            self.text(EDGE, self.y, "Nothing but encoding.", size=8.5)
            self.y -= 12
        for place, step in enumerate(steps, 1):
            name = step.kind.replace("-", " ").capitalize()
            self.wrapped(EDGE, f"{place}. {name}. {step.reason}", WIDTH - 2 * EDGE, size=8.5, leading=11)
        if origin.touch is not None:
            self.text(EDGE, self.y, f"Touch {number(origin.touch, 0)} of 100.", size=8.5, colour=SOFT)

    def foot(self, sealed: dict[str, Any]) -> None:
        self.line(EDGE, EDGE + 16, WIDTH - EDGE, EDGE + 16)
        words = "This page can be copied; the sealed certificate can't be changed. Check it: ispettore verify CERTIFICATE FILE"
        self.text(EDGE, EDGE + 4, words, size=8, colour=SOFT)
        self.text(EDGE, EDGE - 7, f"Seal …{sealed['seal'][-60:]}", font=FIGURES, size=7, colour=SOFT)


def _key(sealed: dict[str, Any]) -> str:
    from ispettore.core.certify.seal import sealing_key

    key = sealing_key(sealed)
    return key.thumbprint() if key is not None else "unknown"
