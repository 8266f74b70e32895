"""How alike the recordings of a production are, as PDF, as one HTML page that needs nothing else, and as a table (CSV, RFC
4180)."""

import csv
import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from html import escape
from pathlib import Path
from typing import Any

from ispettore.core.certify import web_paper
from ispettore.core.certify.drawing import (
    COLOURS,
    CORRIDOR,
    EDGE,
    FIGURES,
    INK,
    RULE,
    SOFT,
    STRONG,
    Paper,
    canvas_for,
    moment,
)
from ispettore.core.figures import number
from ispettore.core.plan.consistency import Compared, Consistency
from ispettore.core.text import as_cell

WIDTH, HEIGHT = 842.0, 595.0
STRIP, ROW, NAME = 62.0, 14.0, 190.0


@dataclass(frozen=True)
class ConsistencyReport:
    """All that is told. `names` are those of the recordings, in order; `of` says what of them was compared."""

    production: str
    of: str
    names: Sequence[str]
    found: Consistency
    issued: datetime
    issuer: str

    @property
    def told(self) -> list[tuple[str, str]]:
        """The recordings that stand apart, each with its reasons."""
        return [(self.names[one.index], "; ".join(one.reasons)) for one in self.found.apart]


def table(report: ConsistencyReport) -> str:
    """A row a recording, in order: what was compared, how far its tone and the colour of its room are from the others, and why it
    stands apart, if it does."""
    out = io.StringIO()
    rows = csv.writer(out)
    heads = [f"{one.title} ({one.unit})" for one in report.found.measures]
    rows.writerow(["position", "recording", *heads, "voice", "tone difference (dB)", "room tone difference (dB)", "outlier"])
    reasons = {one.index: "; ".join(one.reasons) for one in report.found.apart}
    for place, name in enumerate(report.names):
        values = [_plain(one.values[place]) for one in report.found.measures]
        voice = report.found.voices[place]
        curves = (report.found.tones[place], report.found.rooms[place])
        apart = [curve.apart_db if curve is not None else "" for curve in curves]
        rows.writerow([place + 1, as_cell(name), *values, "" if voice is None else voice + 1, *apart, reasons.get(place, "")])
    return out.getvalue()


def _plain(value: float | None) -> float | str:
    return "" if value is None else round(value, 3)


def html(report: ConsistencyReport) -> str:
    """One HTML page: its style, type and pictures are in it, and nothing is fetched."""
    return web_paper.whole(f"Consistency of {report.production}", _html(report))


def _html(report: ConsistencyReport) -> Iterator[str]:
    yield web_paper.masthead(moment(report.issued))
    yield f"<h1>Consistency: {escape(report.production)}</h1><p>{escape(_summary(report))}</p>"
    if report.told:
        yield "<h2>Outliers</h2><table>"
        for recording, reasons in report.told:
            yield f'<tr><td>{escape(recording)}</td><td class="outside">{escape(reasons)}</td></tr>'
        yield "</table>"
    for one in report.found.measures:
        yield f"<h2>{escape(_headed(one))}</h2>{_strip(one)}"
    yield "<h2>All recordings</h2><table><tr><th>Recording</th>"
    yield "".join(f"<th>{escape(one.title)}, {escape(one.unit)}</th>" for one in report.found.measures) + "</tr>"
    for place, recording in enumerate(report.names):
        cells = "".join(
            f'<td class="figure{" outside" if place in one.apart else ""}">{_figure(one, place)}</td>'
            for one in report.found.measures
        )
        yield f"<tr><td>{escape(recording)}</td>{cells}</tr>"
    yield f"</table><footer>{escape(report.issuer)}</footer>"


def _strip(one: Compared) -> str:
    """A dot for each recording about the middle of all, as SVG."""
    height, points = 60.0, list(_points(one, 60.0))
    dots = "".join(
        f'<circle cx="{x * 800 + 12:.1f}" cy="{height - y:.1f}" r="4" fill="{COLOURS["over"] if apart else INK}"/>'
        for x, y, apart in points
    )
    middle = _height(one, one.middle, height) if one.middle is not None else None
    line = (
        f'<line x1="0" x2="824" y1="{height - middle:.1f}" y2="{height - middle:.1f}" stroke="{RULE}"/>'
        if middle is not None
        else ""
    )
    return f'<svg class="wide" viewBox="0 -6 824 {height + 12:g}" role="img" aria-label="{escape(_headed(one))}">{line}{dots}</svg>'


def _points(one: Compared, height: float) -> Iterator[tuple[float, float, bool]]:
    """For each recording with a value: how far along (0 to 1), how high, and whether it stands apart."""
    count = max(len(one.values) - 1, 1)
    for place, value in enumerate(one.values):
        if value is not None:
            yield place / count, _height(one, value, height), place in one.apart


def _height(one: Compared, value: float, height: float) -> float:
    known = [each for each in one.values if each is not None]
    low, high = min(known), max(known)
    return height * (value - low) / (high - low) if high > low else height / 2


def _headed(one: Compared) -> str:
    if one.middle is None:
        return f"{one.title}: not measured"
    spread = f", {number(one.spread, one.decimals)} {one.difference_unit} from lowest to highest" if one.spread is not None else ""
    return f"{one.title}: {number(one.middle, one.decimals)} {one.unit} median{spread}"


def _figure(one: Compared, place: int) -> str:
    value = one.values[place]
    return "–" if value is None else number(value, one.decimals)


def _summary(report: ConsistencyReport) -> str:
    count, apart = len(report.names), len(report.told)
    stands = "No outliers." if not apart else f"{apart} outlier{'' if apart == 1 else 's'}."
    voices = len({voice for voice in report.found.voices if voice is not None})
    heard = f" by {voices} voices" if voices > 1 else ""
    return f"{count} recording{'' if count == 1 else 's'}{heard}. Compared: {report.of}. {stands}"


def pdf(report: ConsistencyReport, target: Path | Any) -> None:
    """Print it to a path or a binary stream. The same report gives the same file."""
    canvas = canvas_for(target, title=f"Consistency of {report.production}", author=report.issuer, size=(WIDTH, HEIGHT))
    page = _Printed(canvas, report)
    page.head()
    page.apart()
    page.strips()
    page.table()
    page.end()
    canvas.save()


class _Printed(Paper):
    def __init__(self, canvas: Any, report: ConsistencyReport) -> None:
        super().__init__(canvas, width=WIDTH, height=HEIGHT, of=report.production, issuer=report.issuer)
        self.report = report

    def head(self) -> None:
        self.masthead(f"Consistency: {self.report.production}", self.report.issued)
        self.text(EDGE, self.y, _summary(self.report), size=10)
        self.y -= 20

    def apart(self) -> None:
        for name, reasons in self.report.told:
            self.room_for(14)
            self.within(EDGE, self.y, name, NAME - 10, font=STRONG)
            self.wrapped(EDGE + NAME, reasons, WIDTH - 2 * EDGE - NAME)
            self.y -= 3
        self.y -= 8

    def strips(self) -> None:
        """The measures, two beside one another."""
        wide = (WIDTH - 2 * EDGE - 24) / 2
        measures = self.report.found.measures
        for first in range(0, len(measures), 2):
            self.room_for(STRIP)
            for column, one in enumerate(measures[first : first + 2]):
                self.strip(EDGE + column * (wide + 24), wide, one)
            self.y -= STRIP

    def strip(self, left: float, wide: float, one: Compared) -> None:
        self.within(left, self.y - 8, _headed(one), wide, size=8, colour=SOFT)
        base, height = self.y - STRIP + 14, STRIP - 32
        self.c.setFillColor(CORRIDOR)
        self.c.rect(left, base - 4, wide, height + 8, stroke=0, fill=1)
        if one.middle is not None:
            self.line(left, base + _height(one, one.middle, height), left + wide, base + _height(one, one.middle, height))
        for x, y, apart in _points(one, height):
            self.c.setFillColor(COLOURS["over"] if apart else INK)
            self.c.circle(left + 6 + x * (wide - 12), base + y, 1.9, stroke=0, fill=1)

    def table(self) -> None:
        measures = self.report.found.measures
        wide = (WIDTH - 2 * EDGE - NAME) / len(measures)
        self.room_for(3 * ROW)
        self.y -= ROW
        for column, one in enumerate(measures):
            self.within(EDGE + NAME + column * wide, self.y, f"{one.title}, {one.unit}", wide - 6, size=7.5, colour=SOFT)
        self.y -= 4
        self.line(EDGE, self.y, WIDTH - EDGE, self.y, colour=INK, width=0.8)
        for place, name in enumerate(self.report.names):
            self.room_for(ROW)
            self.y -= ROW
            self.within(EDGE, self.y + 4, name, NAME - 10, size=8.5)
            for column, one in enumerate(measures):
                colour = COLOURS["over"] if place in one.apart else INK
                self.text(EDGE + NAME + column * wide, self.y + 4, _figure(one, place), font=FIGURES, size=8.5, colour=colour)
            self.line(EDGE, self.y, WIDTH - EDGE, self.y, width=0.3)
