"""Where in time a limit is passed: the places behind a verdict, found without measuring again."""

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.grid import runs
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import TRACK_STEP_S
from ispettore.core.measure.tracks import Tracks
from ispettore.core.spec.quantities import Run, Spans
from ispettore.core.spec.specification import Severity
from ispettore.core.spec.verdict import LimitVerdict, Verdict

JOIN_S = 0.5
MOST = 100
"""No more places are told for one limit, the worst ones: past that, the file as a whole is what is wrong."""

Place = tuple[float, float, float]
"""Start and end in seconds, and the reading there."""


class Breach(BaseModel):
    """One place at which a limit is not met: the reading there, the bound, and by how much it is passed (positive)."""

    model_config = ConfigDict(frozen=True)

    quantity: str
    title: str
    start_s: float
    end_s: float
    reading: float
    bound: float
    excess: float
    unit: str
    difference_unit: str
    decimals: int
    severity: Severity


def breaches(verdict: Verdict, inspection: Inspection, tracks: Tracks | None) -> list[Breach]:
    """The places of every limit that is not met, in time; `verdict` is that of this inspection.

    Peaks, loudest moments, pauses and the noise in them are placed wherever they pass their bound; any other limit where its
    reading was taken, if that is less than the whole file.
    """
    found: list[Breach] = []
    for limit in verdict.limits:
        if limit.position not in ("over", "under") or not isinstance(limit.reading, float):
            continue
        places = _places(limit, inspection, tracks) if limit.position == "over" else []
        places = places or _where_taken(limit, inspection)
        worst = sorted(places, key=lambda place: -abs(place[2] - _bound(limit)))[:MOST]
        found += [_breach(limit, place) for place in worst]
    return sorted(found, key=lambda breach: (breach.start_s, breach.quantity))


def _bound(limit: LimitVerdict) -> float:
    bound = limit.high if limit.position == "over" else limit.low
    return bound if bound is not None else 0.0


def _breach(limit: LimitVerdict, place: Place) -> Breach:
    start, end, reading = place
    return Breach(
        quantity=limit.quantity,
        title=limit.title,
        start_s=start,
        end_s=end,
        reading=reading,
        bound=_bound(limit),
        excess=abs(reading - _bound(limit)),
        unit=limit.unit,
        difference_unit=limit.difference_unit,
        decimals=limit.decimals,
        severity=limit.severity,
    )


def _places(limit: LimitVerdict, inspection: Inspection, tracks: Tracks | None) -> list[Place]:
    match limit.about.taken:
        case Spans(of):
            return _above(_bound(limit), of(inspection))
        case Run(track, window_s) if tracks is not None:
            # A specification that plays mono on two loudspeakers reads it louder than the file was measured.
            measured = inspection.value(limit.quantity)
            raised = float(limit.reading) - measured if isinstance(limit.reading, float) and measured is not None else 0.0
            return _stretches(getattr(tracks, track) + raised, _bound(limit), window_s)
    return []


def _above(bound: float, spans: Iterable[tuple[float, float, float | None]]) -> list[Place]:
    return [(start, end, value) for start, end, value in spans if value is not None and value > bound]


def _stretches(values: NDArray[np.float64], bound: float, window_s: float) -> list[Place]:
    """Stretches above the bound with the highest value in each; those less than half a second apart are one."""
    found: list[Place] = []
    for first, last in runs(values > bound).tolist():
        start, end, highest = first * TRACK_STEP_S, (last - 1) * TRACK_STEP_S + window_s, float(values[first:last].max())
        if found and start - found[-1][1] < JOIN_S:
            start, highest = found[-1][0], max(found.pop()[2], highest)
        found.append((start, end, highest))
    return found


def _where_taken(limit: LimitVerdict, inspection: Inspection) -> list[Place]:
    reading = inspection.readings.get(limit.quantity)
    if reading is None or not isinstance(limit.reading, float):
        return []
    whole = reading.end_s - reading.start_s >= inspection.facts.duration_s - 0.01
    return [] if whole else [(reading.start_s, reading.end_s, limit.reading)]
