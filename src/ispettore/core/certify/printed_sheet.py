"""The inspection sheet on paper: every recording against the limits, the production as a whole, and what stands apart."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from ispettore.core.audio.facts import FileFacts
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
    upper_is_near,
)
from ispettore.core.figures import clock, number
from ispettore.core.measure.ribbon import Ribbon
from ispettore.core.spec.quantities import quantity
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.spread import Spread
from ispettore.core.spec.standing import asked, bounds, reading, tone, unit
from ispettore.core.spec.verdict import LimitVerdict, Verdict, columns
from ispettore.core.spec.wording import sentence

WIDTH, HEIGHT = 842.0, 595.0
ROW = 27.0
PLACE, NAME, RIBBON, VERDICT = 22.0, 158.0, 84.0, 62.0
NARROWEST = 46.0


@dataclass(frozen=True)
class PrintedRow:
    """One recording. `problem` says why it has no verdict; `delivered` names the file that was made of it and met the limits."""

    name: str
    facts: FileFacts | None
    ribbon: Ribbon | None
    verdict: Verdict | None
    problem: str = ""
    delivered: str = ""


@dataclass(frozen=True)
class PrintedSheet:
    """All that is printed. `whole` judges the limits on the production; outliers in `spreads` count among the measured rows."""

    production: str
    specification: Specification
    issued: datetime
    issuer: str
    rows: Sequence[PrintedRow]
    whole: Sequence[LimitVerdict]
    spreads: Sequence[Spread]


def write(sheet: PrintedSheet, target: Path | Any) -> None:
    """Print a sheet to a path or a binary stream, on as many pages as it takes. The same sheet gives the same file."""
    canvas = canvas_for(target, title=f"Inspection sheet of {sheet.production}", author=sheet.issuer, size=(WIDTH, HEIGHT))
    page = _Sheet(canvas, sheet)
    page.title()
    page.headings()
    for place, row in enumerate(sheet.rows, start=1):
        page.room_for(ROW)
        page.row(place, row)
    page.production()
    page.package()
    page.apart()
    page.asked()
    page.end()
    canvas.save()


class _Sheet(Paper):
    def __init__(self, canvas: Any, sheet: PrintedSheet) -> None:
        super().__init__(canvas, width=WIDTH, height=HEIGHT, of=sheet.production, issuer=sheet.issuer)
        self.sheet = sheet
        judged = [row.verdict for row in sheet.rows if row.verdict]
        shown = {limit.quantity for limit in columns(sheet.specification, (name for verdict in judged for name in verdict.unmet))}
        every = {limit.quantity: limit for verdict in judged for limit in verdict.limits}
        self.columns = [limit for limit in every.values() if limit.severity == "must" or limit.quantity in shown]
        room = WIDTH - 2 * EDGE - PLACE - NAME - VERDICT
        self.ribbon_width = RIBBON if (room - RIBBON) / max(len(self.columns), 1) >= NARROWEST else 0.0
        self.column = min(78.0, (room - self.ribbon_width) / max(len(self.columns), 1))
        self.first = EDGE + PLACE + NAME + self.ribbon_width

    def at(self, column: int) -> float:
        return self.first + column * self.column

    def title(self) -> None:
        sheet, passing = self.sheet, [row.verdict.passes for row in self.sheet.rows if row.verdict]
        self.masthead(f"Inspection sheet: {sheet.production}", sheet.issued)
        count = len(sheet.rows)
        missing = f", {count - len(passing)} not measured" if count > len(passing) else ""
        told = (
            f"{count} recording{'' if count == 1 else 's'}: {sum(passing)} inside, {len(passing) - sum(passing)} outside{missing}"
        )
        self.text(
            EDGE, self.y, f"{told}. Specification: {sheet.specification.name}, version {sheet.specification.version}.", size=10
        )
        self.y -= 26

    def headings(self) -> None:
        self.text(EDGE + PLACE, self.y, "Recording", font=STRONG, size=8)
        for index, limit in enumerate(self.columns):
            self.within(self.at(index), self.y + 9, limit.title, self.column - 4, font=STRONG, size=8)
            self.within(self.at(index), self.y, asked(limit), self.column - 3, size=6.5, colour=SOFT)
        self.text(WIDTH - EDGE, self.y, "Verdict", font=STRONG, size=8, right=True)
        self.y -= 6
        self.line(EDGE, self.y, WIDTH - EDGE, self.y, colour=INK, width=0.8)

    def room_for(self, height: float, *, of_table: bool = True) -> None:
        """Turn to a new page, in the table with its headings, where there is no room for so much."""
        if self.y - height < EDGE + 14:
            self.end()
            self.number += 1
            self.y = HEIGHT - EDGE - 10
            if of_table:
                self.headings()

    def row(self, place: int, row: PrintedRow) -> None:
        base = self.y - 13
        self.text(EDGE + PLACE - 6, base, str(place), font=FIGURES, size=8, colour=SOFT, right=True)
        self.within(EDGE + PLACE, base, row.name, NAME - 8, font=STRONG)
        below = described(row.facts) if row.facts else ""
        self.within(EDGE + PLACE, base - 9.5, below, NAME - 8, size=7, colour=SOFT)
        if row.verdict is None:
            self.within(self.first, base, row.problem or "not measured", WIDTH - EDGE - self.first, size=8)
        else:
            if row.ribbon is not None and self.ribbon_width and row.ribbon.peak_dbfs.size:
                left = EDGE + PLACE + NAME
                self.outline(row.ribbon, left=left, right=left + self.ribbon_width - 14, top=self.y - 4, height=ROW - 9)
            known = {limit.quantity: limit for limit in row.verdict.limits}
            for index, column in enumerate(self.columns):
                if column.quantity in known:
                    self.cell(index, base, known[column.quantity])
            words, colour = ("Inside", "inside") if row.verdict.passes else ("Outside", "over")
            self.text(WIDTH - EDGE, base, words, font=STRONG, size=8.5, colour=COLOURS[colour], right=True)
            if row.delivered:
                self.text(WIDTH - EDGE, base - 9.5, "conformed", size=7, colour=SOFT, right=True)
        self.y -= ROW
        self.line(EDGE, self.y, WIDTH - EDGE, self.y, width=0.4)

    def cell(self, index: int, base: float, limit: LimitVerdict) -> None:
        x = self.at(index)
        self.mark(x - 4, base + 2.6, limit.position, tone=tone(limit), high=upper_is_near(limit), scale=0.85)
        colour = INK if limit.passes else COLOURS[tone(limit)]
        self.within(x + 14, base, reading(limit, more=MORE), self.column - 16, font=FIGURES, size=8, colour=colour)

    def production(self) -> None:
        if not self.sheet.spreads and not self.sheet.whole:
            return
        self.room_for(ROW)
        self.line(EDGE, self.y, WIDTH - EDGE, self.y, colour=INK, width=0.8)
        base = self.y - 13
        self.text(EDGE + PLACE, base, "The whole production", font=STRONG)
        self.text(EDGE + PLACE, base - 9.5, "spread between recordings", size=7, colour=SOFT)
        limits = {limit.quantity: limit for limit in self.sheet.whole}
        spreads = {spread.quantity: spread for spread in self.sheet.spreads}
        for index, column in enumerate(self.columns):
            limit, spread = limits.get(column.quantity), spreads.get(column.quantity)
            if limit is not None:
                self.cell(index, base, limit)
            elif spread is not None:
                about = quantity(column.quantity)
                value = clock(spread.spread) if about.clock else number(spread.spread, spread.decimals)
                self.text(self.at(index) + 14, base, value, font=FIGURES, size=8, colour=SOFT)
        self.y -= ROW

    def apart(self) -> None:
        """The recordings that stand apart from the others, by name."""
        measured = [row for row in self.sheet.rows if row.verdict]
        told = [
            f"{measured[one.index].name}: {spread.title} {number(abs(one.off), spread.decimals)} {spread.difference_unit} "
            f"{'above' if one.off > 0 else 'below'} the median recording"
            for spread in self.sheet.spreads
            for one in spread.outliers
            if not quantity(spread.quantity).clock
        ]
        self.list("Outliers", told)

    def package(self) -> None:
        """What is asked of the production as a whole, with what it reads."""
        self.list("The package", [_of_package(limit) for limit in self.sheet.whole if limit.about.of_package])

    def asked(self) -> None:
        self.list("The limits", [sentence(limit) for limit in self.sheet.specification.limits])

    def list(self, title: str, told: Sequence[str]) -> None:
        if not told:
            return
        self.room_for(34, of_table=False)
        self.y -= 20
        self.text(EDGE, self.y, title, font=STRONG, size=10)
        self.y -= 4
        for words in told:
            self.room_for(12, of_table=False)
            self.y -= 12
            self.within(EDGE, self.y, words, WIDTH - 2 * EDGE, size=8.5)
        self.y -= 4


def _of_package(limit: LimitVerdict) -> str:
    """One limit on the package in words: whether it is met, what it reads, what is asked, and what is meant."""
    read = f"{reading(limit)} {unit(limit)}".strip() if limit.reading is not None else ""
    met = "met" if limit.passes else "advice, not met" if limit.severity == "advice" else "not met"
    said = f"; {limit.note}" if limit.note and not limit.passes else ""
    return f"{limit.title}: {met}{f', {read}' if read else ''} ({bounds(limit)}){said}"
