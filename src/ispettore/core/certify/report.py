"""The printed proof: a sealed certificate as one page of PDF, with the same marks, rules and ribbon as on the screen."""

from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from ispettore.core.certify.certificate import Certificate
from ispettore.core.measure.ribbon import LOWEST_DB, Ribbon
from ispettore.core.spec.verdict import LimitVerdict

INK, SOFT, RULE, PAPER = "#1D2126", "#565B62", "#D8D1C4", "#F5F2EC"
COLOURS = {"inside": "#17614F", "near": "#8A5A00", "over": "#B3361B", "under": "#B3361B", "unmeasured": "#8E9093"}
WIDTH, HEIGHT, EDGE = 595.0, 842.0, 46.0
WORDS, STRONG, FIGURES = "InstrumentSans", "InstrumentSans-SemiBold", "SplineSansMono"


@cache
def _fonts() -> None:
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    folder = resources.files("ispettore.core.certify") / "fonts"
    for name, file in ((WORDS, "InstrumentSans-Regular"), (STRONG, "InstrumentSans-SemiBold"), (FIGURES, "SplineSansMono-Regular")):
        pdfmetrics.registerFont(TTFont(name, str(folder / f"{file}.ttf")))


def write(sealed: dict[str, Any], ribbon: Ribbon | None, target: Path | Any) -> None:
    """Print a sealed certificate to a path or a binary stream. The page is the same for the same certificate."""
    from reportlab.pdfgen.canvas import Canvas

    _fonts()
    certificate = Certificate.model_validate(sealed["certificate"])
    canvas = Canvas(str(target) if isinstance(target, Path) else target, pagesize=(WIDTH, HEIGHT), invariant=1)
    canvas.setTitle(f"Certificate of {certificate.file.name}")
    canvas.setAuthor(certificate.issuer)
    page = _Page(canvas)
    page.head(certificate)
    page.facts(certificate, sealed)
    if ribbon is not None and ribbon.peak_dbfs.size:
        page.ribbon(ribbon, certificate)
    page.limits(certificate)
    page.treatment(certificate)
    page.foot(sealed)
    canvas.showPage()
    canvas.save()


class _Page:
    """Draws from the top down; `y` is where the next thing goes."""

    def __init__(self, canvas: Any) -> None:
        self.c = canvas
        self.y = HEIGHT - EDGE

    def text(
        self, x: float, y: float, words: str, *, font: str = WORDS, size: float = 9, colour: str = INK, right: bool = False
    ) -> None:
        self.c.setFont(font, size)
        self.c.setFillColor(colour)
        (self.c.drawRightString if right else self.c.drawString)(x, y, words)

    def line(self, x1: float, y1: float, x2: float, y2: float, *, colour: str = RULE, width: float = 0.6) -> None:
        self.c.setStrokeColor(colour)
        self.c.setLineWidth(width)
        self.c.line(x1, y1, x2, y2)

    def wrapped(self, x: float, words: str, width: float, *, size: float = 9, colour: str = INK, leading: float = 12) -> None:
        from reportlab.lib.utils import simpleSplit

        for row in simpleSplit(words, WORDS, size, width):
            self.text(x, self.y, row, size=size, colour=colour)
            self.y -= leading

    def mark(self, x: float, y: float, position: str, *, high: bool = True, scale: float = 1.0) -> None:
        """A bracket mark with its left edge at x, centred on y: the drawing of the screen, in points."""
        colour = COLOURS[position]
        self.c.setStrokeColor(colour)
        self.c.setFillColor(colour)
        self.c.setLineWidth(0.9 * scale)
        left, right = position != "near" or not high, position != "near" or high
        for shown, edge, inward in ((left, 5.0, 1.7), (right, 13.0, -1.7)):
            if shown:
                path = self.c.beginPath()
                path.moveTo(x + (edge + inward) * scale, y + 3.4 * scale)
                path.lineTo(x + edge * scale, y + 3.4 * scale)
                path.lineTo(x + edge * scale, y - 3.4 * scale)
                path.lineTo(x + (edge + inward) * scale, y - 3.4 * scale)
                self.c.drawPath(path)
        at = {"inside": 9.0, "near": 10.6 if high else 7.4, "over": 16.0, "under": 2.0}.get(position)
        if at is not None:
            self.c.circle(x + at * scale, y, 1.5 * scale, stroke=0, fill=1)

    def head(self, certificate: Certificate) -> None:
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

    def facts(self, certificate: Certificate, sealed: dict[str, Any]) -> None:
        facts = certificate.facts
        form = (
            f"{facts.container.upper()}, {facts.sample_rate_hz:,} Hz, {facts.channels} channel{'s' if facts.channels > 1 else ''}"
        )
        rate = f", {facts.bit_rate_kbps:.0f} kbit/s" if facts.lossy and facts.bit_rate_kbps else f", {facts.bit_depth} bit"
        rows = [
            ("File", certificate.file.name, WORDS),
            ("", f"{form}{rate}, {facts.duration_s:.2f} s, {certificate.file.size_bytes:,} bytes", WORDS),
            ("SHA-256", certificate.file.sha256, FIGURES),
        ]
        if certificate.origin is not None:
            rows.append(("Made from", certificate.origin.name, WORDS))
            rows.append(("SHA-256", certificate.origin.sha256, FIGURES))
        listened = "listened through by a person" if certificate.listened else "not recorded"
        rows += [("Listening", listened, WORDS), ("Sealed by", f"{certificate.issuer}, key {_key(sealed)}", WORDS)]
        for name, value, font in rows:
            self.text(EDGE, self.y, name, size=8.5, colour=SOFT)
            self.text(EDGE + 64, self.y, _fitted(value, font, 8.5, WIDTH - 2 * EDGE - 64), font=font, size=8.5)
            self.y -= 12.5
        self.y -= 4

    def ribbon(self, ribbon: Ribbon, certificate: Certificate) -> None:
        height, left, right = 92.0, EDGE + 20, WIDTH - EDGE
        top = self.y
        self.c.setFillColor("#FFFFFF")

        def at(level: float) -> float:
            return top - height * max(level, LOWEST_DB) / LOWEST_DB

        for limit in certificate.verdict.limits:
            if limit.quantity in ("rms_dbfs", "integrated_loudness_lufs") and limit.low is not None and limit.high is not None:
                self.c.setFillColor("#DDE7E2")
                self.c.rect(left, at(limit.low), right - left, at(limit.high) - at(limit.low), stroke=0, fill=1)
        for level in (0, -20, -40, -60, -80):
            self.line(left, at(level), right, at(level), width=0.3)
            self.text(left - 4, at(level) - 2.5, str(level).replace("-", "−"), font=FIGURES, size=6, colour=SOFT, right=True)
        count = ribbon.peak_dbfs.size
        path = self.c.beginPath()
        xs = [left + (right - left) * (index + 0.5) / count for index in range(count)]
        path.moveTo(xs[0], at(float(ribbon.peak_dbfs[0])))
        for x, level in zip(xs, ribbon.peak_dbfs, strict=True):
            path.lineTo(x, at(float(level)))
        for x, level, peak in zip(reversed(xs), ribbon.rms_dbfs[::-1], ribbon.peak_dbfs[::-1], strict=True):
            path.lineTo(x, min(at(float(level)), at(float(peak)) - 0.4))
        path.close()
        self.c.setFillColor(INK)
        self.c.drawPath(path, stroke=0, fill=1)
        for limit in certificate.verdict.limits:
            if limit.quantity in ("sample_peak_dbfs", "true_peak_dbtp", "noise_floor_dbfs") and limit.high is not None:
                self.line(left, at(limit.high), right, at(limit.high), colour=COLOURS["inside"], width=0.8)
        self.y = top - height - 20

    def limits(self, certificate: Certificate) -> None:
        for limit in certificate.verdict.limits:
            self.line(EDGE, self.y + 14, WIDTH - EDGE, self.y + 14)
            high = _upper_is_near(limit)
            self.mark(EDGE - 4, self.y + 3, limit.position, high=high)
            self.text(EDGE + 20, self.y, limit.title, font=STRONG)
            self.text(EDGE + 118, self.y, _bounds(limit), size=8.5, colour=SOFT)
            self.rule(limit)
            self.text(WIDTH - EDGE - 92, self.y, _reading(limit), font=FIGURES, size=9, right=True)
            self.text(WIDTH - EDGE - 88, self.y, _unit(limit), size=8, colour=SOFT)
            self.text(WIDTH - EDGE, self.y, _margin(limit), size=8.5, colour=SOFT, right=True)
            self.y -= 20
        self.y += 4

    def rule(self, limit: LimitVerdict) -> None:
        """The tolerance rule: the allowed stretch between brackets, the reading as a wedge."""
        if not isinstance(limit.reading, float | int) or limit.difference_unit in ("", "Hz", "kbit/s"):
            return
        low, high, reading = limit.low, limit.high, float(limit.reading)
        known = [value for value in (low, high, reading) if value is not None]
        span = max(max(known) - min(known), 1.0)
        first = min(known) - span * (0.15 if low is not None else 0.35)
        last = max(known) + span * (0.15 if high is not None else 0.35)
        left, right, base = EDGE + 236.0, EDGE + 236 + 130.0, self.y + 1.0

        def x(value: float) -> float:
            return left + (right - left) * (value - first) / (last - first)

        self.line(left, base, right, base, colour=SOFT, width=0.5)
        self.c.setStrokeColor(INK)
        self.c.setLineWidth(1.0)
        for bound, inward in ((low, 2.5), (high, -2.5)):
            if bound is not None:
                path = self.c.beginPath()
                path.moveTo(x(bound) + inward, base + 7)
                path.lineTo(x(bound), base + 7)
                path.lineTo(x(bound), base - 2)
                path.lineTo(x(bound) + inward, base - 2)
                self.c.drawPath(path)
        wedge = self.c.beginPath()
        wedge.moveTo(x(reading), base)
        wedge.lineTo(x(reading) - 2.6, base + 5.2)
        wedge.lineTo(x(reading) + 2.6, base + 5.2)
        wedge.close()
        self.c.setFillColor(COLOURS[limit.position])
        self.c.drawPath(wedge, stroke=0, fill=1)

    def treatment(self, certificate: Certificate) -> None:
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
        for number, step in enumerate(steps, 1):
            name = step.kind.replace("-", " ").capitalize()
            self.wrapped(EDGE, f"{number}. {name}. {step.reason}", WIDTH - 2 * EDGE, size=8.5, leading=11)
        if origin.touch is not None:
            self.text(EDGE, self.y, f"Touch {origin.touch:.0f} of 100.", size=8.5, colour=SOFT)

    def foot(self, sealed: dict[str, Any]) -> None:
        self.line(EDGE, EDGE + 16, WIDTH - EDGE, EDGE + 16)
        words = "This page can be copied; the sealed certificate can't be changed. Check it: ispettore verify CERTIFICATE FILE"
        self.text(EDGE, EDGE + 4, words, size=8, colour=SOFT)
        self.text(EDGE, EDGE - 7, f"Seal …{sealed['seal'][-60:]}", font=FIGURES, size=7, colour=SOFT)


def _key(sealed: dict[str, Any]) -> str:
    from ispettore.core.certify.seal import sealing_key

    key = sealing_key(sealed)
    return key.thumbprint() if key is not None else "unknown"


def _fitted(words: str, font: str, size: float, width: float) -> str:
    from reportlab.pdfbase.pdfmetrics import stringWidth

    if stringWidth(words, font, size) <= width:
        return words
    while words and stringWidth(words + "…", font, size) > width:
        words = words[:-1]
    return words + "…"


def _upper_is_near(limit: LimitVerdict) -> bool:
    if limit.high is None or not isinstance(limit.reading, float | int):
        return False
    return limit.low is None or limit.high - limit.reading < limit.reading - limit.low


def _number(value: float, decimals: int) -> str:
    return f"{value:.{decimals}f}".replace("-", "−")


def _figure(limit: LimitVerdict, value: float, decimals: int) -> str:
    """A figure of a limit; lengths of files as hours, minutes and seconds."""
    if limit.quantity != "duration_s":
        return _number(value, decimals)
    whole = round(value)
    return f"{whole // 3600}:{whole // 60 % 60:02}:{whole % 60:02}"


def _unit(limit: LimitVerdict) -> str:
    return "" if limit.quantity == "duration_s" else limit.unit


def _reading(limit: LimitVerdict) -> str:
    if limit.reading is None:
        return "silence"
    if isinstance(limit.reading, str):
        return limit.reading
    return _figure(limit, limit.reading, limit.decimals and 2)


def _bounds(limit: LimitVerdict) -> str:
    if limit.one_of:
        return " or ".join(limit.one_of)
    bounds = (limit.low, limit.high)
    low, high = (None if bound is None else _figure(limit, bound, 0 if bound == int(bound) else 1) for bound in bounds)
    if low is not None and high is not None:
        return low if low == high else f"{low} to {high}"
    return f"at least {low}" if low is not None else f"at most {high}"


def _margin(limit: LimitVerdict) -> str:
    if limit.margin is None or limit.difference_unit in ("", "Hz", "kbit/s"):
        return ""
    unit = "" if limit.quantity == "duration_s" else f" {limit.difference_unit}"
    return f"{_figure(limit, abs(limit.margin), limit.decimals)}{unit} inside"
