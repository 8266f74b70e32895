"""Gain, and a limiter where gain alone does not do: the two that come last and are solved together, as each moves the other."""

import functools
import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.basis import Basis
from ispettore.core.plan import foretelling, limiting
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.limiting import Limited
from ispettore.core.plan.preferences import Preference
from ispettore.core.plan.window import PEAKS, GainWindow, Learned, Readings, limits, missed, window_of
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Limit, Specification

PEAK_RESERVE_DB = max(QUANTITIES[name].reserve for name in PEAKS)
LEVEL_RESERVE_DB = 0.1
EVENING_RESERVE_DB = 0.2
"""What cells foretell of loudness range, crest and the loudest moments is so far inside the limit."""

EASY_LIMITING_DB = 1.5
MOST_GAIN_DB = 60.0
LOWEST_CEILING_DBTP = -40.0
MET_DB, NOTHING_DB = 0.02, 1e-6
MOST_TURNS = 12


@dataclass(frozen=True)
class Asked:
    """What a treatment is planned for."""

    specification: Specification
    learned: Learned
    preference: Preference
    bounds: Bounds

    @property
    def most_limiting_db(self) -> float:
        """The bound on limiting, as cells have to tell it."""
        return max(0.0, self.bounds.limiting_db - self.learned.depth_db)


@dataclass(frozen=True)
class Held:
    """A gain, a limiter's ceiling (None without one), and what is expected of both: `depth_db` of limiting at the 99th percentile
    over speech, `loss_db` that limiting takes from the level aimed for, each cell's `reduction_db`, the readings, and by how much
    the limit that is missed most is missed still (0 or below: none), with the limits that exclude one another."""

    gain_db: float
    ceiling_dbtp: float | None
    depth_db: float
    loss_db: float
    reduction_db: NDArray[np.float32]
    readings: Readings
    missing_db: float
    limits: tuple[str, str]

    @property
    def enough(self) -> bool:
        return self.missing_db <= NOTHING_DB


def held(basis: Basis, readings: Readings, asked: Asked, *, inside_db: float = 0.0) -> Held:
    """Gain alone where every limit allows one; else with a limiter, no deeper than the bound. `readings` are those of the file
    without either; what evening moves has to lie `inside_db` within its limits."""
    case = _Case(basis, readings, asked, window_of(readings, asked.specification), inside_db)
    too_wide = any(readings[limit.quantity] > (limit.high or 0.0) - inside_db for limit in case.spreads)
    if case.window.open and not too_wide:
        return _expected(case, _easiest(case.window, asked.specification), None)
    if not case.wide.open:
        found = _expected(case, _round((case.wide.low_db or 0.0) + LEVEL_RESERVE_DB), None)
        apart = (case.wide.raised_by or "", case.wide.held_by or "")
        return replace(found, missing_db=case.wide.shortfall_db, limits=apart)
    highest = ceiling = ceiling_of(asked.specification, asked.learned)
    found = first = _expected(case, _gain(case, ceiling), ceiling)
    for _ in range(MOST_TURNS if too_wide or case.spreads else 0):
        over = max(found.readings[limit.quantity] - (limit.high or 0.0) for limit in case.spreads) + EVENING_RESERVE_DB
        if over <= MET_DB or ceiling <= LOWEST_CEILING_DBTP:
            break
        ceiling = max(_round(ceiling - over), LOWEST_CEILING_DBTP)
        lost = first.gain_db + first.loss_db - found.gain_db - found.loss_db if case.wide.low_db is not None else 0.0
        found = _expected(case, _round(found.gain_db + lost), ceiling)
    if found.depth_db <= asked.most_limiting_db + MET_DB:
        return found
    return _within(case, ceiling, highest)


@dataclass(frozen=True)
class _Case:
    basis: Basis
    readings: Readings
    asked: Asked
    window: GainWindow
    inside_db: float

    @functools.cached_property
    def wide(self) -> GainWindow:
        """What the limits but those on peaks leave."""
        return self.window.without(*PEAKS)

    @functools.cached_property
    def limited(self) -> Limited:
        return Limited(self.basis, aimed_level(self.asked.specification))

    @functools.cached_property
    def spreads(self) -> list[Limit]:
        """Limits on how far peaks stand over a level."""
        return [
            each for each in limits(self.asked.specification) if _bounds_peaks_over_level(each) and each.quantity in self.readings
        ]


def as_set(basis: Basis, readings: Readings, asked: Asked, gain_db: float, ceiling_dbtp: float | None) -> Held:
    """What this gain and this limiter do."""
    return _expected(_Case(basis, readings, asked, window_of(readings, asked.specification), 0.0), gain_db, ceiling_dbtp)


def _within(case: _Case, ceiling: float, highest: float) -> Held:
    """As near as the bound on limiting lets it come: by a higher ceiling where peaks allow one, else by less gain."""
    most = case.asked.most_limiting_db
    least = lowest(case.wide, case.limited, highest)
    if case.limited.depth(least, highest) > most:
        return _expected(case, _round(case.limited.deepest(least, highest, most)), highest)
    low, high, gain = ceiling, highest, least
    while high - low > MET_DB:
        middle = (low + high) / 2
        more = lowest(case.wide, case.limited, middle)
        if case.limited.depth(more, middle) <= most:
            high, gain = middle, more
        else:
            low = middle
    return _expected(case, gain, math.ceil(high * 100) / 100)


def _expected(case: _Case, gain: float, ceiling: float | None) -> Held:
    """What is read after this gain and limiter."""
    basis, readings, asked = case.basis, case.readings, case.asked
    after = {name: value + (gain if QUANTITIES[name].moves_with_gain else 0.0) for name, value in readings.items()}
    depth, reduction = 0.0, np.broadcast_to(np.float32(0.0), basis.counts.size)
    aimed = aimed_level(asked.specification)
    if ceiling is not None:
        reduction = limiting.reduction(basis, gain, ceiling)
        if reduction.min(initial=0.0) < 0:
            changed = foretelling.changes(basis, basis.times(10 ** (reduction / 20)), list(readings))
            after = {name: value + changed.get(name, 0.0) for name, value in after.items()}
            depth = limiting.depth_of(reduction, basis.speech)
        top = ceiling + max(0.0, asked.learned.peak_db)
        for name in PEAKS:
            if name in after:
                after[name] = min(readings[name] + gain, top)
        for name in after:
            first, second = QUANTITIES[name].difference or (name, name)
            if first != second and QUANTITIES[first].is_peak:
                after[name] = readings[name] + (after[first] - readings[first]) - (after[second] - readings[second])
    left = missed(after, asked.specification, inside_db=case.inside_db)
    worst = max(left, key=lambda name: left[name], default=PEAKS[0])
    too_deep = depth - asked.most_limiting_db
    apart = (worst, worst)
    if not case.window.open and QUANTITIES[worst].moves_with_gain:
        apart = (case.window.raised_by or worst, case.window.held_by or worst)
    return Held(
        gain_db=gain,
        ceiling_dbtp=ceiling,
        depth_db=depth,
        loss_db=after[aimed] - readings[aimed] - gain if aimed in after else 0.0,
        reduction_db=reduction,
        readings=after,
        missing_db=max([*left.values(), too_deep if too_deep > 2 * MET_DB else 0.0]),
        limits=apart,
    )


def _gain(case: _Case, ceiling: float) -> float:
    """Where in the window that peaks don't bound, once what the limiter takes is made up for."""
    wide, limited, asked = case.wide, case.limited, case.asked
    wanted = _target(wide, limited, ceiling, asked)
    if wide.low_db is None:
        return wanted
    least = lowest(wide, limited, ceiling)
    if not wanted:
        return max(wanted, least)
    highest = MOST_GAIN_DB if wide.high_db is None else wide.high_db - LEVEL_RESERVE_DB
    most = min(limiting.compensated(wanted, lambda gain: limited.loss(gain, ceiling)), max(least, highest))
    return _eased(limited, least, most, ceiling, asked.most_limiting_db)


def lowest(wide: GainWindow, limited: Limited, ceiling: float) -> float:
    """The lowest gain that will do."""
    if wide.low_db is None:
        return min(0.0, MOST_GAIN_DB if wide.high_db is None else wide.high_db)
    return _round(limiting.compensated(wide.low_db + LEVEL_RESERVE_DB, lambda gain: limited.loss(gain, ceiling)))


def _bounds_peaks_over_level(limit: Limit) -> bool:
    difference = limit.about.difference
    return difference is not None and QUANTITIES[difference[0]].is_peak and limit.high is not None


def aimed_level(specification: Specification) -> str | None:
    return next((limit.quantity for limit in specification.limits if limit.about.is_level), None)


def ceiling_of(specification: Specification, learned: Learned) -> float:
    """The limiter's ceiling in dBTP: inside every peak limit by the reserve, lower still by what the encoder adds."""
    highest = min(limit.high for limit in limits(specification) if limit.about.is_peak and limit.high is not None)
    return math.floor((highest - PEAK_RESERVE_DB - max(0.0, learned.peak_db)) * 100 + NOTHING_DB) / 100


def _easiest(window: GainWindow, specification: Specification) -> float:
    """0 where nothing needs to move. Else, as a constant gain is no touch, as near to the middle of the level's own corridor as
    every limit's guard allows, so that chapters come out alike; else the window's middle."""
    if window.allows(0.0):
        return 0.0
    low = -MOST_GAIN_DB if window.low_db is None else window.low_db
    high = MOST_GAIN_DB if window.high_db is None else window.high_db
    guard_low = _guard(specification, window.raised_by)
    guard_high = _guard(specification, window.held_by)
    if low + guard_low > high - guard_high:
        return _round((low + high) / 2)
    level = next((item for item in window.bars if QUANTITIES[item.quantity].is_level), None)
    middle = 0.0
    if level is not None and level.low_db is not None and level.high_db is not None:
        middle = (level.low_db + level.high_db) / 2
    gain = _round(min(max(middle, low + guard_low), high - guard_high))
    return math.floor(high * 100) / 100 if gain > high else math.ceil(low * 100) / 100 if gain < low else gain


def _guard(specification: Specification, quantity: str | None) -> float:
    limit = specification.limit(quantity) if quantity else None
    if limit is None:
        return 0.0
    bound = limit.low if limit.low is not None else limit.high
    return limit.guard_at(bound or 0.0)


def _target(wide: GainWindow, limited: Limited, ceiling: float, asked: Asked) -> float:
    """Where in the window that the peaks do not bound: nowhere else than it is where that will do; else low for light, as high as
    limiting is easy for balanced. For even always the middle, so that chapters come out alike."""
    preference = asked.preference
    if preference != "even" and wide.allows(0.0, reserve_db=LEVEL_RESERVE_DB):
        return 0.0
    low = wide.low_db if wide.low_db is not None else min(0.0, wide.high_db or 0.0)
    high = wide.high_db if wide.high_db is not None else low
    guard = min(max(_guard(asked.specification, wide.raised_by), LEVEL_RESERVE_DB), (high - low) / 2)
    lowest, middle = low + guard, (low + high) / 2
    if preference == "light" or lowest >= middle:
        return _round(min(lowest, middle))
    if preference == "even":
        return _round(middle)
    depth = limited.depth(middle, ceiling)
    return _round(max(lowest, middle - max(0.0, depth - min(EASY_LIMITING_DB, asked.most_limiting_db))))


def _eased(limited: Limited, lowest: float, wanted: float, ceiling: float, most_db: float) -> float:
    """The wanted gain, or as much of the way to it from the lowest that will do as the bound on limiting leaves."""
    for part in (1.0, 0.75, 0.5, 0.25):
        gain = lowest + part * (wanted - lowest)
        if wanted <= lowest or limited.depth(gain, ceiling) <= most_db - LEVEL_RESERVE_DB:
            return _round(max(gain, min(wanted, lowest)))
    return _round(lowest)


def _round(value: float) -> float:
    return round(value, 2)
