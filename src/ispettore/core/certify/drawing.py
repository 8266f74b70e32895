"""What printed pages share with the screen: its colours, fonts, bracket marks and ways to write figures, in points of PDF."""

from collections.abc import Sequence
from datetime import datetime
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from ispettore.core.audio.facts import FileFacts
from ispettore.core.figures import clock, exact, number
from ispettore.core.measure.ribbon import LOWEST_DB, Ribbon
from ispettore.core.spec.standing import COARSE, asked, distance, reading, tone, unit
from ispettore.core.spec.verdict import LimitVerdict

INK, SOFT, RULE, PAPER = "#1D2126", "#565B62", "#D8D1C4", "#F5F2EC"
COLOURS = {"inside": "#17614F", "near": "#826200", "over": "#8F1F0C", "under": "#8F1F0C", "unmeasured": "#8E9093"}
CORRIDOR = "#DDE7E2"
EDGE = 46.0
MORE = 1
"""Print shows so many decimals more than the screen."""
WORDS, STRONG, FIGURES = "InstrumentSans", "InstrumentSans-SemiBold", "SplineSansMono"


@cache
def use_fonts() -> None:
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    folder = resources.files("ispettore.core.certify") / "fonts"
    for name, file in ((WORDS, "InstrumentSans-Regular"), (STRONG, "InstrumentSans-SemiBold"), (FIGURES, "SplineSansMono-Regular")):
        pdfmetrics.registerFont(TTFont(name, str(folder / f"{file}.ttf")))


def canvas_for(target: Path | Any, *, title: str, author: str, size: tuple[float, float]) -> Any:
    """What is drawn on: a path or a binary stream as PDF, with its fonts. The same drawing gives the same file."""
    from reportlab.pdfgen.canvas import Canvas

    use_fonts()
    canvas = Canvas(str(target) if isinstance(target, Path) else target, pagesize=size, invariant=1)
    canvas.setTitle(title)
    canvas.setAuthor(author)
    return canvas


def moment(when: datetime) -> str:
    """A moment as print shows it."""
    return f"{when:%d %B %Y, %H:%M} UTC"


class Page:
    """Draws from the top down; `y` is where the next thing goes."""

    def __init__(self, canvas: Any, *, width: float, height: float) -> None:
        self.c = canvas
        self.width, self.height = width, height
        self.y = height - EDGE

    def room_for(self, height: float) -> None:
        """Turn to a new page where there is no room for so much. A paper of one page never turns."""

    def text(
        self, x: float, y: float, words: str, *, font: str = WORDS, size: float = 9, colour: str = INK, right: bool = False
    ) -> None:
        self.c.setFont(font, size)
        self.c.setFillColor(colour)
        (self.c.drawRightString if right else self.c.drawString)(x, y, words)

    def within(
        self, x: float, y: float, words: str, width: float, *, font: str = WORDS, size: float = 9, colour: str = INK
    ) -> None:
        """Text that ends in an ellipsis where it would be wider than that."""
        self.text(x, y, fitted(words, font, size, width), font=font, size=size, colour=colour)

    def line(self, x1: float, y1: float, x2: float, y2: float, *, colour: str = RULE, width: float = 0.6) -> None:
        self.c.setStrokeColor(colour)
        self.c.setLineWidth(width)
        self.c.line(x1, y1, x2, y2)

    def wrapped(self, x: float, words: str, width: float, *, size: float = 9, colour: str = INK, leading: float = 12) -> None:
        from reportlab.lib.utils import simpleSplit

        for row in simpleSplit(words, WORDS, size, width):
            self.room_for(leading)
            self.text(x, self.y, row, size=size, colour=colour)
            self.y -= leading

    def mark(self, x: float, y: float, position: str, *, tone: str = "", high: bool = True, scale: float = 1.0) -> None:
        """A bracket mark with its left edge at x, centred on y: the drawing of the screen, in points."""
        colour = COLOURS[tone or position]
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

    def ribbon(self, ribbon: Ribbon, limits: Sequence[LimitVerdict]) -> None:
        """The level ribbon across the page, with the level limits in it."""
        height, left, right = 92.0, EDGE + 20, self.width - EDGE
        top = self.y
        self.c.setFillColor("#FFFFFF")

        def at(level: float) -> float:
            return top - height * max(level, LOWEST_DB) / LOWEST_DB

        corridors, lines = drawn_limits(limits)
        for _, low, high in corridors:
            self.c.setFillColor(CORRIDOR)
            self.c.rect(left, at(low), right - left, at(high) - at(low), stroke=0, fill=1)
        for level in (0, -20, -40, -60, -80):
            self.line(left, at(level), right, at(level), width=0.3)
            self.text(left - 4, at(level) - 2.5, number(level, 0), font=FIGURES, size=6, colour=SOFT, right=True)
        self.outline(ribbon, left=left, right=right, top=top, height=height)
        for limit, bound in lines:
            self.line(left, at(bound), right, at(bound), colour=COLOURS["inside" if limit.passes else "over"], width=0.8)
        self.y = top - height - 20

    def outline(self, ribbon: Ribbon, *, left: float, right: float, top: float, height: float) -> None:
        """The ribbon's shape in a rectangle: along the peaks, and back along the RMS levels."""
        count = ribbon.peak_dbfs.size
        xs = [left + (right - left) * (index + 0.5) / count for index in range(count)]
        upper, lower = (
            [top - height * float(level) / LOWEST_DB for level in levels] for levels in (ribbon.peak_dbfs, ribbon.rms_dbfs)
        )
        path = self.c.beginPath()
        path.moveTo(xs[0], upper[0])
        for x, y in zip(xs, upper, strict=True):
            path.lineTo(x, y)
        for x, y, above in zip(reversed(xs), reversed(lower), reversed(upper), strict=True):
            path.lineTo(x, min(y, above - 0.4))
        path.close()
        self.c.setFillColor(INK)
        self.c.drawPath(path, stroke=0, fill=1)

    def limits(self, limits: Sequence[LimitVerdict]) -> None:
        """A line for each limit: mark, bounds, rule, reading, distance."""
        for limit in limits:
            self.room_for(20)
            self.line(EDGE, self.y + 14, self.width - EDGE, self.y + 14)
            high = upper_is_near(limit)
            self.mark(EDGE - 4, self.y + 3, limit.position, tone=tone(limit), high=high)
            self.text(EDGE + 20, self.y, limit.title, font=STRONG)
            self.text(EDGE + 118, self.y, asked(limit), size=8.5, colour=SOFT)
            self.rule(limit)
            self.text(self.width - EDGE - 92, self.y, reading(limit, more=MORE), font=FIGURES, size=9, right=True)
            self.text(self.width - EDGE - 88, self.y, unit(limit), size=8, colour=SOFT)
            self.text(self.width - EDGE, self.y, distance(limit), size=8.5, colour=SOFT, right=True)
            self.y -= 20
        self.y += 4

    def rule(self, limit: LimitVerdict) -> None:
        """The tolerance rule: the allowed stretch between brackets, the reading as a wedge."""
        span = rule_span(limit)
        if span is None or not isinstance(limit.reading, float | int):
            return
        first, last = span
        low, high, value = limit.low, limit.high, float(limit.reading)
        left, right, base = EDGE + 236.0, EDGE + 236 + 130.0, self.y + 1.0

        def x(at: float) -> float:
            return left + (right - left) * (at - first) / (last - first)

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
        wedge.moveTo(x(value), base)
        wedge.lineTo(x(value) - 2.6, base + 5.2)
        wedge.lineTo(x(value) + 2.6, base + 5.2)
        wedge.close()
        self.c.setFillColor(COLOURS[tone(limit)])
        self.c.drawPath(wedge, stroke=0, fill=1)


class Paper(Page):
    """A report on as many pages as it takes: its masthead, and at the foot of each page what it is of, who issued it, its
    number."""

    def __init__(self, canvas: Any, *, width: float, height: float, of: str, issuer: str) -> None:
        super().__init__(canvas, width=width, height=height)
        self.of, self.issuer, self.number = of, issuer, 1

    def masthead(self, title: str, issued: datetime) -> None:
        self.mark(EDGE - 5, self.y - 2, "inside", scale=1.5)
        self.text(EDGE + 24, self.y - 6, "Ispettore", font=STRONG, size=12)
        self.text(self.width - EDGE, self.y - 6, moment(issued), colour=SOFT, right=True)
        self.y -= 38
        self.within(EDGE, self.y, title, self.width - 2 * EDGE, font=STRONG, size=19)
        self.y -= 17

    def room_for(self, height: float) -> None:
        if self.y - height < EDGE + 10:
            self.end()
            self.number += 1
            self.y = self.height - EDGE

    def end(self) -> None:
        self.within(EDGE, EDGE - 14, self.of, 380, size=8, colour=SOFT)
        self.text(self.width - EDGE, EDGE - 14, f"{self.issuer}, page {self.number}", size=8, colour=SOFT, right=True)
        self.c.showPage()


def drawn_limits(
    limits: Sequence[LimitVerdict],
) -> tuple[list[tuple[LimitVerdict, float, float]], list[tuple[LimitVerdict, float]]]:
    """The limits that stand in a picture of level: those with two bounds as corridors, the others as lines, as on the page."""
    corridors: list[tuple[LimitVerdict, float, float]] = []
    lines: list[tuple[LimitVerdict, float]] = []
    for limit in limits:
        bound = limit.high if limit.high is not None else limit.low
        if not limit.about.on_ribbon or bound is None:
            continue
        if limit.low is not None and limit.low < bound:
            corridors.append((limit, limit.low, bound))
        else:
            lines.append((limit, bound))
    return corridors, lines


def rule_span(limit: LimitVerdict) -> tuple[float, float] | None:
    """From where to where a tolerance rule runs: both bounds and the reading, with room beside. None where it would say nothing."""
    if not isinstance(limit.reading, float | int) or limit.difference_unit in COARSE or not (limit.unit or limit.decimals):
        return None
    known = [each for each in (limit.low, limit.high, float(limit.reading)) if each is not None]
    span = max(max(known) - min(known), 1.0)
    first = min(known) - span * (0.15 if limit.low is not None else 0.35)
    return first, max(known) + span * (0.15 if limit.high is not None else 0.35)


def fitted(words: str, font: str, size: float, width: float) -> str:
    from reportlab.pdfbase.pdfmetrics import stringWidth

    if stringWidth(words, font, size) <= width:
        return words
    while words and stringWidth(words + "…", font, size) > width:
        words = words[:-1]
    return words + "…"


def described(facts: FileFacts) -> str:
    """A file's facts in a line."""
    depth = f"{number(facts.bit_rate_kbps, 0)} kbit/s" if facts.lossy and facts.bit_rate_kbps else f"{facts.bit_depth} bit"
    channels = {1: "mono", 2: "stereo"}.get(facts.channels, f"{facts.channels} channels")
    return f"{facts.container.upper()} {exact(facts.sample_rate_hz / 1000)} kHz, {depth}, {channels}, {clock(facts.duration_s)}"


def upper_is_near(limit: LimitVerdict) -> bool:
    if limit.high is None or not isinstance(limit.reading, float | int):
        return False
    return limit.low is None or limit.high - limit.reading < limit.reading - limit.low
