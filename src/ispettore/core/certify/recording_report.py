"""The report of one recording, as PDF and as one HTML page that needs nothing else: verdict, ribbon, readings, findings."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from html import escape
from itertools import groupby
from pathlib import Path
from typing import Any

from ispettore.core.certify import web_paper
from ispettore.core.certify.drawing import (
    COLOURS,
    EDGE,
    FIGURES,
    INK,
    MORE,
    SOFT,
    STRONG,
    Paper,
    canvas_for,
    described,
    moment,
    upper_is_near,
)
from ispettore.core.figures import clock, exact, number
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Finding, Reading
from ispettore.core.measure.ribbon import Ribbon
from ispettore.core.plan.remedies import advice
from ispettore.core.spec.breaches import Breach
from ispettore.core.spec.methods import methods, title_of_finding
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.standing import asked, distance, reading, tone, unit
from ispettore.core.spec.verdict import LimitVerdict, Verdict

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
    """The report as one HTML page: its style, type and pictures are in it, and nothing is fetched."""
    return web_paper.whole(f"Report of {report.inspection.name}", _html(report))


def _html(report: RecordingReport) -> Iterator[str]:
    facts = report.inspection.facts
    yield web_paper.masthead(moment(report.issued))
    yield f"<h1>Report: {escape(report.inspection.name)}</h1>"
    yield f"<p>{escape(report.production)}. {escape(described(facts))}</p>"
    stands = "inside" if report.verdict.passes else "outside"
    yield f'<p class="{stands}"><b>{escape(verdict_of(report))}</b></p>'
    yield f"<p><code>SHA-256 {report.inspection.sha256}</code></p>"
    yield web_paper.ribbon(report.ribbon, report.verdict.limits, duration_s=facts.duration_s)
    yield "<h2>Limits</h2><table>"
    for limit in report.verdict.limits:
        yield _limit(limit)
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
        for title, value, in_unit, how in rows:
            figure = f'<td class="figure">{escape(value)}</td><td class="soft">{escape(in_unit)}</td>'
            yield f'<tr><td>{escape(title)}</td>{figure}<td class="soft">{escape(how)}</td></tr>'
    yield f"</table><footer>{escape(report.issuer)}</footer>"


def _limit(limit: LimitVerdict) -> str:
    """A row as on the page: mark, name and bounds, rule, reading, distance."""
    told = web_paper.mark(limit.position, toned=tone(limit), high=upper_is_near(limit))
    figure = f'<td class="figure">{escape(reading(limit, more=MORE))}</td><td class="soft">{escape(unit(limit))}</td>'
    return (
        f'<tr><td>{told}</td><td><b>{escape(limit.title)}</b></td><td class="soft">{escape(asked(limit))}</td>'
        f'<td>{web_paper.rule(limit)}</td>{figure}<td class="{_tone_class(limit)}">{escape(distance(limit))}</td></tr>'
    )


def _tone_class(limit: LimitVerdict) -> str:
    shown = tone(limit)
    return "outside" if shown in ("over", "under") else "near" if shown == "near" else "soft"


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
