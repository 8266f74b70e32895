"""The report of one recording, as PDF and as one HTML page that needs nothing else: verdict, ribbon, readings, findings."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from html import escape
from itertools import groupby
from pathlib import Path
from typing import Any

from ispettore.core.certify.drawing import (
    COLOURS,
    CORRIDOR,
    EDGE,
    FIGURES,
    HTML_STYLE,
    INK,
    MORE,
    SOFT,
    STRONG,
    Paper,
    canvas_for,
    described,
    drawn_limits,
    moment,
)
from ispettore.core.figures import clock, exact, number
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Finding, Reading
from ispettore.core.measure.ribbon import LOWEST_DB, Ribbon
from ispettore.core.plan.remedies import advice
from ispettore.core.spec.breaches import Breach
from ispettore.core.spec.methods import methods, title_of_finding
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.standing import asked, distance, reading, tone, unit
from ispettore.core.spec.verdict import Verdict

WIDTH, HEIGHT = 595.0, 842.0
GROUPS = {"level": "Level", "between": "Between the words", "health": "Recording faults"}
MOST_PLACES = 12


@dataclass(frozen=True)
class RecordingReport:
    """All that is told of one recording. `accepted` says of each of its findings why it may stand, or is empty."""

    inspection: Inspection
    verdict: Verdict
    specification: Specification
    ribbon: Ribbon
    breaches: Sequence[Breach]
    accepted: Sequence[str]
    production: str
    issued: datetime
    issuer: str


@dataclass(frozen=True)
class _Told:
    """One kind of place in time: what it is, where, and what to do."""

    title: str
    places: list[str]
    advice: str
    outside: bool


def pdf(report: RecordingReport, target: Path | Any) -> None:
    """Print the report to a path or a binary stream. The same report gives the same file."""
    canvas = canvas_for(target, title=f"Report of {report.inspection.name}", author=report.issuer, size=(WIDTH, HEIGHT))
    page = _Report(canvas, report)
    page.head()
    if report.ribbon.peak_dbfs.size:
        page.ribbon(report.ribbon, report.verdict.limits)
    page.limits(report.verdict.limits)
    page.findings()
    page.readings()
    page.end()
    canvas.save()


class _Report(Paper):
    def __init__(self, canvas: Any, report: RecordingReport) -> None:
        super().__init__(canvas, width=WIDTH, height=HEIGHT, of=report.inspection.name, issuer=report.issuer)
        self.report = report

    def head(self) -> None:
        report = self.report
        self.masthead(f"Report: {report.inspection.name}", report.issued)
        self.within(
            EDGE, self.y, f"{report.production}. {described(report.inspection.facts)}", WIDTH - 2 * EDGE, size=9, colour=SOFT
        )
        self.y -= 17
        position = "inside" if report.verdict.passes else "over"
        self.mark(EDGE - 4, self.y + 3, position)
        self.text(EDGE + 20, self.y, verdict_of(report), font=STRONG, size=10.5, colour=COLOURS[position])
        self.y -= 11
        self.within(EDGE, self.y, f"SHA-256 {report.inspection.sha256}", WIDTH - 2 * EDGE, font=FIGURES, size=7, colour=SOFT)
        self.y -= 16

    def title(self, words: str) -> None:
        self.room_for(40)
        self.y -= 18
        self.text(EDGE, self.y, words, font=STRONG, size=11)
        self.y -= 5
        self.line(EDGE, self.y, WIDTH - EDGE, self.y)

    def findings(self) -> None:
        told = list(told_of(self.report))
        if not told:
            return
        self.title("Findings")
        for kind in told:
            self.room_for(36)
            self.y -= 13
            self.text(EDGE, self.y, kind.title, font=STRONG, colour=COLOURS["over"] if kind.outside else INK)
            self.y -= 11
            self.wrapped(EDGE, "; ".join(kind.places), WIDTH - 2 * EDGE, size=8.5, leading=11)
            if kind.advice:
                self.wrapped(EDGE, kind.advice, WIDTH - 2 * EDGE, size=8, colour=SOFT, leading=10)

    def readings(self) -> None:
        self.title("All readings")
        for group, rows in readings_of(self.report.inspection):
            self.room_for(30)
            self.y -= 14
            self.text(EDGE, self.y, group, size=8, colour=SOFT)
            for title, value, in_unit, how in rows:
                self.room_for(12)
                self.y -= 12
                self.text(EDGE, self.y, title, size=8.5)
                self.text(EDGE + 180, self.y, value, font=FIGURES, size=8.5, right=True)
                self.text(EDGE + 184, self.y, in_unit, size=8, colour=SOFT)
                self.within(EDGE + 226, self.y, how, WIDTH - 2 * EDGE - 226, size=8, colour=SOFT)


def html(report: RecordingReport) -> str:
    """The report as one HTML page: its style and its picture are in it, and nothing is fetched."""
    return "\n".join(_html(report))


def _html(report: RecordingReport) -> Iterator[str]:
    name = escape(report.inspection.name)
    yield f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Report of {name}</title>'
    yield f"<style>{HTML_STYLE}</style></head>"
    yield f"<body><header><b>Ispettore</b><span>{moment(report.issued)}</span></header><h1>Report: {name}</h1>"
    yield f"<p>{escape(report.production)}. {escape(described(report.inspection.facts))}</p>"
    yield f'<p class="{"inside" if report.verdict.passes else "outside"}"><b>{escape(verdict_of(report))}</b></p>'
    yield f"<p><code>SHA-256 {report.inspection.sha256}</code></p>{_drawn(report)}"
    yield "<h2>Limits</h2><table><tr><th>Limit</th><th>Allowed</th><th>Reading</th><th>Distance</th><th>Status</th></tr>"
    for limit in report.verdict.limits:
        stands = "close to the limit" if limit.position == "near" else limit.position
        cells = (limit.title, asked(limit), f"{reading(limit, more=MORE)} {unit(limit)}", distance(limit), stands)
        row = "".join(f"<td>{escape(cell)}</td>" for cell in cells)
        yield f'<tr class="{"outside" if tone(limit) in ("over", "under") else "inside"}">{row}</tr>'
    yield "</table>"
    told = list(told_of(report))
    if told:
        yield "<h2>Findings</h2>"
    for kind in told:
        yield f'<h3 class="{"outside" if kind.outside else ""}">{escape(kind.title)}</h3><p>{escape("; ".join(kind.places))}</p>'
        yield f"<p><small>{escape(kind.advice)}</small></p>" if kind.advice else ""
    yield "<h2>All readings</h2><table>"
    for group, rows in readings_of(report.inspection):
        yield f'<tr><th colspan="4">{group}</th></tr>'
        for told_reading in rows:
            yield "<tr>" + "".join(f"<td>{escape(cell)}</td>" for cell in told_reading) + "</tr>"
    yield f"</table><footer>{escape(report.issuer)}</footer></body></html>"


def _drawn(report: RecordingReport) -> str:
    """The level ribbon as SVG: decibels up, limits as lines."""
    count = report.ribbon.peak_dbfs.size
    if not count:
        return ""
    levels = list(zip(report.ribbon.peak_dbfs.tolist(), report.ribbon.rms_dbfs.tolist(), strict=True))
    high = [f"{index},{-peak * 2:.1f}" for index, (peak, _) in enumerate(levels)]
    low = [f"{index},{max(-level, -peak + 0.5) * 2:.1f}" for index, (peak, level) in enumerate(levels)]
    corridors, levels_at = drawn_limits(report.verdict.limits)
    behind = "".join(
        f'<rect x="0" y="{-high * 2:g}" width="{count}" height="{(high - low) * 2:g}" fill="{CORRIDOR}"/>'
        for _, low, high in corridors
    )
    lines = "".join(
        f'<line x1="0" x2="{count}" y1="{-bound * 2:g}" y2="{-bound * 2:g}" '
        f'stroke="{COLOURS["inside" if limit.passes else "over"]}"/>'
        for limit, bound in levels_at
    )
    said = escape(f"Level over {clock(report.inspection.facts.duration_s)}, from 0 to {-LOWEST_DB:.0f} dB below full scale")
    shape = f'<polygon points="{" ".join([*high, *reversed(low)])}" fill="{INK}"/>'
    return f'<svg viewBox="0 -4 {count} {-LOWEST_DB * 2 + 8:.0f}" role="img" aria-label="{said}">{behind}{shape}{lines}</svg>'


def verdict_of(report: RecordingReport) -> str:
    """Whether it is inside, of what, and how many limits are missed."""
    against, missed = f"{report.specification.name}, version {report.specification.version}", len(report.verdict.missed)
    if report.verdict.passes:
        return f"Inside {against}"
    return f"Outside {against}: {missed} limit{'' if missed == 1 else 's'} not met"


def readings_of(inspection: Inspection) -> Iterator[tuple[str, list[tuple[str, str, str, str]]]]:
    """Every reading by group: title, figure, unit, and how and where it was taken."""
    for group, title in GROUPS.items():
        rows = []
        for name, quantity in QUANTITIES.items():
            found = inspection.readings.get(name)
            if quantity.group == group and found is not None:
                value = number(found.value, quantity.decimals) if found.value is not None else "silence" if found.silence else "–"
                rows.append((quantity.title, value, quantity.unit if found.value is not None else "", _how(found, inspection)))
        yield title, rows


def _how(found: Reading, inspection: Inspection) -> str:
    whole = found.end_s - found.start_s >= inspection.facts.duration_s - 0.02 or found.end_s == 0
    where = "" if whole else f", at {clock(found.start_s)}"
    return f"{found.method}{where}{f'; {found.note}' if found.note else ''}"


def told_of(report: RecordingReport) -> Iterator[_Told]:
    """Limits that are passed and where, then findings kind by kind, the gravest first."""

    def kind_of(breach: Breach) -> str:
        return breach.quantity

    for _, group in groupby(sorted(report.breaches, key=kind_of), key=kind_of):
        breaches = list(group)
        first = breaches[0]
        side = "above" if first.reading > first.bound else "below"
        places = [f"{clock(one.start_s)} by {number(one.excess, one.decimals)} {one.difference_unit}" for one in breaches]
        yield _Told(f"{first.title} {side} {exact(first.bound)} {first.unit}", _few(places), "", True)
    rank = {"serious": 0, "warning": 1, "note": 2}
    known = list(methods()["findings"])

    def weight(told: tuple[Finding, str]) -> tuple[int, int, str]:
        kind = told[0].kind
        return rank[told[0].severity], known.index(kind) if kind in known else len(known), kind

    findings = zip(report.inspection.findings, report.accepted, strict=True)
    for (_, _, kind), group_of in groupby(sorted(findings, key=weight), key=weight):
        places = [f"{_place(finding)}{f' (accepted: {reason})' if reason else ''}" for finding, reason in group_of]
        yield _Told(title_of_finding(kind), _few(places), advice(kind), False)


def _place(finding: Finding) -> str:
    measure = f" {number(finding.measure, 1)} {finding.unit}" if finding.measure is not None else ""
    many = f" {finding.count} ×" if finding.count > 1 else ""
    detail = f" {finding.detail}" if finding.detail else ""
    return f"{clock(finding.start_s)}{many}{measure}{detail}".rstrip()


def _few(places: list[str]) -> list[str]:
    more = len(places) - MOST_PLACES
    return places if more <= 0 else [*places[:MOST_PLACES], f"and {more} more"]
