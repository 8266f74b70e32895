"""What can be done to a single spot of a recording, a finding or a selection. Each offer is an entry of a step's list."""

from typing import Any

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Finding, Span
from ispettore.core.treat import room_tone
from ispettore.core.treat.order import place_for
from ispettore.core.treat.treatment import STEPS

LOWER_DB, BREATH_DB, FADE_S = 3.0, 6.0, 0.02
BESIDE_S = 0.005
"""So much around a click is looked at."""

LONGEST_CLICK_S, LONGEST_FILL_S = 0.5, 30.0
CLICKS = frozenset({"click", "mouth-noise"})
CUT_OFF = frozenset({"clipping", "clipping-suspected"})


class SpotOffer(BaseModel):
    """One thing to do, by its `title`: an `entry` for the `list` of a step of this `kind`, and the steps it may follow."""

    model_config = ConfigDict(frozen=True)

    title: str
    kind: str
    list: str
    entry: dict[str, Any]
    behind: tuple[str, ...]


def offers(inspection: Inspection, span: Span) -> list[SpotOffer]:
    """What can be done to a span, what mends a finding in it first."""
    here = [found for found in inspection.findings if found.start_s < span.end_s and found.end_s > span.start_s]
    kinds = {found.kind for found in here}
    found = [
        _offer(f"Soften this breath by {BREATH_DB:.0f} dB", "spot-gain", _of(breath), gain_db=-BREATH_DB, fade_s=_fade(_of(breath)))
        for breath in here
        if breath.kind == "breath"
    ]
    if kinds & CLICKS or span.length_s <= LONGEST_CLICK_S:
        found.append(_offer("Rebuild the clicks", "click-repair", _around(here, span)))
    if kinds & CUT_OFF:
        found.append(_offer("Rebuild the clipped peaks", "clip-repair", span))
    found.append(_offer(f"Lower by {LOWER_DB:.0f} dB", "spot-gain", span, gain_db=-LOWER_DB, fade_s=_fade(span)))
    found.append(_offer(f"Raise by {LOWER_DB:.0f} dB", "spot-gain", span, gain_db=LOWER_DB, fade_s=_fade(span)))
    if span.length_s <= LONGEST_FILL_S and not room_tone.lacking(inspection.room_tone):
        found.append(_offer("Lay room tone over it", "room-tone-fill", span))
    return found


def _of(finding: Finding) -> Span:
    return Span(start_s=finding.start_s, end_s=finding.end_s)


def _around(here: list[Finding], span: Span) -> Span:
    """The clicks that were found in a span, and a little around them; all of it where none was."""
    clicks = [found for found in here if found.kind in CLICKS]
    if not clicks:
        return span
    start, end = min(one.start_s for one in clicks), max(one.end_s for one in clicks)
    return Span(start_s=max(0.0, start - BESIDE_S), end_s=end + BESIDE_S)


def _fade(span: Span) -> float:
    """Both fades lie inside the spot, and leave something between them."""
    return round(max(0.001, min(FADE_S, span.length_s / 4)), 3)


def _offer(title: str, kind: str, span: Span, **more: Any) -> SpotOffer:
    entry = {"start_s": round(span.start_s, 4), "end_s": round(span.end_s, 4), **more}
    behind = tuple(other for other in STEPS if place_for(kind, [other]) == 1)
    made = STEPS[kind].each
    assert made is not None
    return SpotOffer(title=title, kind=kind, list=made[0], entry=entry, behind=behind)
