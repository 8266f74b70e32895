"""The printed proof: a sealed certificate as PDF, with the same marks, rules and ribbon as on the screen, and the certificate
itself inside (`pdf.py`), so that the paper can be checked."""

import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from joserfc.jwk import OKPKey

from ispettore.core.certify import drawing, forms, pdf
from ispettore.core.certify.drawing import EDGE, FIGURES, SOFT, STRONG, WORDS, Paper, moment
from ispettore.core.certify.forms import AnyCertificate, ProductionForm3
from ispettore.core.certify.notices import Notice
from ispettore.core.certify.wording import subject, tell
from ispettore.core.figures import number
from ispettore.core.measure.ribbon import Ribbon

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
    title = f"Certificate of {subject(certificate)}"
    canvas = drawing.canvas_for(printed, title=title, author=certificate.issuer, size=(WIDTH, HEIGHT))
    _Sheet(canvas, sealed, certificate, beside or Beside()).draw(ribbon)
    canvas.save()
    content = pdf.attach(printed.getvalue(), sealed, key)
    if isinstance(target, Path):
        target.write_bytes(content)
    else:
        target.write(content)


class _Sheet(Paper):
    """A certificate on paper, part by part."""

    def __init__(self, canvas: Any, sealed: dict[str, Any], certificate: AnyCertificate, beside: Beside) -> None:
        super().__init__(canvas, width=WIDTH, height=HEIGHT, of=subject(certificate), issuer=certificate.issuer)
        self._sealed, self._certificate, self._beside = sealed, certificate, beside
        self._told = tell(sealed, certificate, listened=beside.listened)

    def draw(self, ribbon: Ribbon | None) -> None:
        certificate, told = self._certificate, self._told
        self._head()
        for line in told.lines:
            self.text(EDGE, self.y, line.name, size=8.5, colour=SOFT)
            font, size = (FIGURES, 8.2) if line.exact else (WORDS, 8.5)
            self.within(EDGE + LABEL, self.y, line.text, BROAD - LABEL, font=font, size=size)
            self.y -= 12.5
        self.y -= 4
        if ribbon is not None and ribbon.peak_dbfs.size:
            self.ribbon(ribbon, told.limits)
        self.limits(told.limits)
        if isinstance(certificate, ProductionForm3):
            self._files(certificate)
        self._listed("What was done", told.steps or ())
        self._listed("Findings in the recording that were accepted", told.accepted)
        self.end()

    def _head(self) -> None:
        certificate = self._certificate
        self.mark(EDGE - 5, self.y - 2, "inside", scale=1.5)
        self.text(EDGE + 24, self.y - 6, "Ispettore", font=STRONG, size=12)
        self.text(WIDTH - EDGE, self.y - 6, moment(certificate.issued), size=9, colour=SOFT, right=True)
        self.y -= 42
        self.text(EDGE, self.y, self._told.title, font=STRONG, size=21)
        self.y -= 19
        self.wrapped(EDGE, self._told.met, BROAD, size=11, leading=13)
        self.y -= 5
        if self._beside.notice is not None:
            self.wrapped(EDGE, self._beside.notice.told, BROAD, size=10, colour=drawing.COLOURS["over"], leading=12)
            self.y -= 3
        self.wrapped(EDGE, certificate.statement, BROAD, size=8.5, colour=SOFT, leading=11)
        self.y -= 6

    def _files(self, certificate: ProductionForm3) -> None:
        self._titled("Files")
        for part in certificate.files:
            self.room_for(38)
            self.within(EDGE, self.y, part.name, 300, font=STRONG, size=9)
            self.text(WIDTH - EDGE, self.y, f"{number(part.size_bytes, 0)} bytes", size=8.5, colour=SOFT, right=True)
            self.text(EDGE, self.y - 11, part.sha256, font=FIGURES, size=7.5)
            told = [f"certificate {part.certificate[:SHORT]}…", part.listening]
            self.within(EDGE, self.y - 21.5, ", ".join(filter(None, told)), BROAD, size=8, colour=SOFT)
            self.y -= 35

    def _listed(self, title: str, lines: Sequence[str]) -> None:
        if lines:
            self._titled(title)
        for line in lines:
            self.wrapped(EDGE, line, BROAD, size=8.5, leading=11)

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
