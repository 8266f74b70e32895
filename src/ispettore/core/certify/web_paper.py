"""What reports as web pages share with print: the house's type, cut to the letters that are used; marks, rules and the ribbon with
its axes as SVG. A page holds all of it, and fetches nothing."""

import base64
import io
from collections.abc import Iterable, Sequence
from html import escape
from importlib import resources

from ispettore.core.certify.drawing import COLOURS, CORRIDOR, INK, PAPER, RULE, SOFT, drawn_limits, rule_span
from ispettore.core.figures import clock, exact, number
from ispettore.core.measure.ribbon import LOWEST_DB, Ribbon
from ispettore.core.spec.standing import tone
from ispettore.core.spec.verdict import LimitVerdict

FACES = (
    ("Words", 400, "InstrumentSans-Regular"),
    ("Words", 600, "InstrumentSans-SemiBold"),
    ("Figures", 400, "SplineSansMono-Regular"),
)
STYLE = (
    f"body{{font:15px/1.5 Words,sans-serif;color:{INK};background:{PAPER};max-width:860px;margin:32px auto;padding:0 16px}}"
    "header{display:flex;justify-content:space-between;align-items:center}header b{display:flex;gap:8px;align-items:center}"
    "h1{font-size:24px;font-weight:600;margin:20px 0 2px}h2{font-size:17px;font-weight:600;margin:24px 0 6px}"
    "h3{font-size:15px;font-weight:600}b{font-weight:600}h3,p{margin:6px 0}"
    f"table{{border-collapse:collapse;width:100%}}td,th{{text-align:left;font-weight:400;padding:5px 10px 5px 0;"
    f"border-bottom:1px solid {RULE}}}th{{color:{SOFT};font-size:13px}}"
    "td:has(svg){width:1px}.figure{font-family:Figures,monospace;text-align:right;white-space:nowrap}"
    f".inside{{color:{COLOURS['inside']}}}.outside{{color:{COLOURS['over']}}}.near{{color:{COLOURS['near']}}}"
    f"small,footer,.soft{{color:{SOFT};font-size:13px}}footer{{margin-top:20px}}code{{font:12px Figures,monospace}}"
    f"svg{{vertical-align:middle}}svg.wide{{width:100%;height:auto;display:block;background:#FFFDF8;border:1px solid {RULE}}}"
    f"svg text{{font:11px Figures,monospace;fill:{SOFT}}}svg .name{{font-family:Words,sans-serif;fill:{COLOURS['inside']}}}"
    f"svg .missed{{fill:{COLOURS['over']}}}"
    "@media print{body{margin:0;max-width:none;background:none}tr,svg{break-inside:avoid}h2,h3{break-after:avoid}}"
)


def whole(title: str, parts: Iterable[str]) -> str:
    """The page: its head, what it says, and the type for exactly that."""
    body = "\n".join(parts)
    head = f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(title)}</title>'
    return f"{head}<style>{_faces(frozenset(body + title))}{STYLE}</style></head><body>{body}</body></html>"


def masthead(issued: str) -> str:
    return f"<header><b>{mark('inside', alone=False)} Ispettore</b><span>{issued}</span></header>"


def _faces(letters: frozenset[str]) -> str:
    return "".join(
        f"@font-face{{font-family:{family};font-weight:{weight};src:url(data:font/woff;base64,{_cut(file, letters)})}}"
        for family, weight, file in FACES
    )


def _cut(file: str, letters: frozenset[str]) -> str:
    """A face with these letters alone, as WOFF (W3C, 1.0) in base64."""
    from fontTools import subset  # loaded by reports alone

    options = subset.Options(layout_features=["kern", "liga", "mark"], notdef_outline=True)
    options.flavor = "woff"
    with (resources.files("ispettore.core.certify") / "fonts" / f"{file}.ttf").open("rb") as source:
        font = subset.load_font(io.BytesIO(source.read()), options)
    cutter = subset.Subsetter(options)
    cutter.populate(unicodes=[ord(letter) for letter in letters])
    cutter.subset(font)
    out = io.BytesIO()
    subset.save_font(font, out, options)
    return base64.b64encode(out.getvalue()).decode()


def mark(position: str, *, toned: str = "", high: bool = False, alone: bool = True) -> str:
    """The bracket mark: where a reading stands. Where no word says so beside it, it says so itself."""
    colour = COLOURS[toned or position]
    sides = ["M11 2H7v12h4"] * (position != "near" or not high) + ["M21 2h4v12h-4"] * (position != "near" or high)
    at = {"inside": 16, "near": 19 if high else 13, "over": 29, "under": 3}.get(position)
    dot = f'<circle cx="{at}" cy="8" r="2.8" fill="{colour}"/>' if at is not None else ""
    hatch = '<path d="M12 12l4-8M15 12l4-8" opacity="0.45"/>' if position == "unmeasured" else ""
    said = f'role="img" aria-label="{position}"' if alone else 'aria-hidden="true"'
    path = f'<path d="{"".join(sides)}"/>{hatch}'
    return f'<svg width="32" height="16" {said}><g fill="none" stroke="{colour}" stroke-width="1.6">{path}</g>{dot}</svg>'


def rule(limit: LimitVerdict) -> str:
    """The tolerance rule: the allowed stretch between brackets, the reading as a wedge. Nothing where a rule would say nothing."""
    span = rule_span(limit)
    if span is None:
        return ""
    first, last = span
    width, base = 170.0, 15.0

    def x(at: float) -> float:
        return 4 + (width - 8) * (at - first) / (last - first)

    bounds = [(bound, inward) for bound, inward in ((limit.low, 4), (limit.high, -4)) if bound is not None]
    brackets = "".join(f"M{x(bound) + inward:.1f} 4H{x(bound):.1f}V18h{inward}" for bound, inward in bounds)
    assert isinstance(limit.reading, float | int)
    at = x(float(limit.reading))
    wedge = f'<path d="M{at:.1f} {base}l-4-8h8z" fill="{COLOURS[tone(limit)]}"/>'
    axis = f'<path d="M0 {base}H{width:g}" stroke="{SOFT}" stroke-width="0.8"/>'
    allowed = f'<path d="{brackets}" fill="none" stroke="{INK}" stroke-width="1.4"/>'
    return f'<svg width="{width:g}" height="20" aria-hidden="true">{axis}{allowed}{wedge}</svg>'


LEFT, RIGHT, TOP, FLOOR, WIDE, HIGH = 44.0, 700.0, 8.0, 178.0, 828.0, 200.0
STEPS_S = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1_800, 3_600)
MOST_STEPS = 9
NAME_HEIGHT = 13.0


def ribbon(of: Ribbon, limits: Sequence[LimitVerdict], *, duration_s: float) -> str:
    """The level ribbon: decibels up, time across, and every limit on a level with its name. Nothing of a file without sound."""
    count = of.peak_dbfs.size
    if not count:
        return ""

    def y(level: float) -> float:
        return TOP + (FLOOR - TOP) * max(level, LOWEST_DB) / LOWEST_DB

    def x(place: float) -> float:
        return LEFT + (RIGHT - LEFT) * place

    corridors, lines = drawn_limits(limits)
    drawn = [
        f'<rect x="{LEFT:g}" width="{RIGHT - LEFT:g}" y="{y(high):.1f}" height="{y(low) - y(high):.1f}" fill="{CORRIDOR}"/>'
        for _, low, high in corridors
    ]
    for level in range(0, int(LOWEST_DB) - 1, -20):
        drawn.append(_across(y(level), RULE, 0.6))
        drawn.append(f'<text x="{LEFT - 8:g}" y="{y(level) + 4:.1f}" text-anchor="end">{number(level, 0)}</text>')
    tops = [(x((place + 0.5) / count), y(float(peak))) for place, peak in enumerate(of.peak_dbfs)]
    feet = [(at, max(y(float(level)), top + 0.5)) for (at, top), level in zip(tops, of.rms_dbfs, strict=True)]
    shape = " ".join(f"{at:.1f},{level:.1f}" for at, level in [*tops, *reversed(feet)])
    drawn.append(f'<polygon points="{shape}" fill="{INK}"/>')
    drawn += [_across(y(bound), COLOURS["inside" if limit.passes else "over"], 1.4) for limit, bound in lines]
    drawn += _names(
        [(limit, (y(low) + y(high)) / 2, f"{exact(low)} to {exact(high)}") for limit, low, high in corridors]
        + [(limit, y(bound), exact(bound)) for limit, bound in lines]
    )
    step = next((step for step in STEPS_S if duration_s / step <= MOST_STEPS), STEPS_S[-1])
    for second in range(0, int(duration_s) + 1, step):
        at = x(second / duration_s)
        drawn.append(f'<path d="M{at:.1f} {FLOOR + 2:g}v4" stroke="{SOFT}"/>')
        drawn.append(f'<text x="{at:.1f}" y="{HIGH - 5:g}" text-anchor="middle">{clock(second)}</text>')
    said = escape(f"Level over {clock(duration_s)}, from 0 to {-LOWEST_DB:.0f} dB below full scale")
    return f'<svg class="wide" viewBox="0 0 {WIDE:g} {HIGH:g}" role="img" aria-label="{said}">{"".join(drawn)}</svg>'


def _across(at: float, colour: str, width: float) -> str:
    return f'<path d="M{LEFT:g} {at:.1f}H{RIGHT:g}" stroke="{colour}" stroke-width="{width:g}"/>'


def _names(limits: list[tuple[LimitVerdict, float, str]]) -> list[str]:
    """Names beside the ribbon, moved down where they would touch."""
    free, written = 0.0, []
    for limit, wanted, bounds in sorted(limits, key=lambda one: one[1]):
        at = max(wanted + 4, free)
        free = at + NAME_HEIGHT
        kind = "name" if limit.passes else "name missed"
        written.append(f'<text class="{kind}" x="{RIGHT + 8:g}" y="{at:.1f}">{escape(limit.title)} {bounds}</text>')
    return written
