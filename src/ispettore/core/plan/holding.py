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
"""What cells foretell of loudness range, crest and the loudest moments is so far inside the limit; and the depth of limiting after
evening, which comes out deeper than foretold by up to so much, inside its bound."""

EASY_LIMITING_DB = 1.5
MOST_GAIN_DB = 60.0
LOWEST_CEILING_DBTP = -40.0
MET_DB, NOTHING_DB = 0.02, 1e-6
MOST_TURNS, LEAST_SLOPE = 12, 0.2


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
    highest = ceiling_of(asked.specification, asked.learned)
    first = _expected(case, _gain(case, highest), highest)
    found = _narrowed(case, first, highest)
    return found if found.depth_db <= case.most_limiting_db + MET_DB else _within(case, first, found, highest)


@dataclass(frozen=True)
class _Case:
    basis: Basis
    readings: Readings
    asked: Asked
    window: GainWindow
    inside_db: float

    @property
    def most_limiting_db(self) -> float:
        return max(0.0, self.asked.most_limiting_db - self.inside_db)

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


def _narrowed(case: _Case, first: Held, highest: float) -> Held:
    """As loud as `first`, and so deep in the limiter that peaks stand no further over a level than they may; or just too deep,
    where that is more than the bound allows. What a limiter does depends on how far the gain goes over the ceiling alone: that is
    sought, and both are moved together by what is lost of the level."""
    found, before = first, None
    peaks = (first.readings[limit.about.difference[0]] for limit in case.spreads if limit.about.difference)
    over = first.gain_db - min([highest, *peaks])
    for _ in range(MOST_TURNS if case.spreads else 0):
        excess = max(found.readings[limit.quantity] - (limit.high or 0.0) for limit in case.spreads) + EVENING_RESERVE_DB
        too_deep = found.depth_db > case.most_limiting_db + MET_DB
        if excess <= 0 or too_deep or (found.ceiling_dbtp or 0.0) <= LOWEST_CEILING_DBTP:
            break
        slope = 1.0 if before is None else min(max((before[1] - excess) / (over - before[0]), LEAST_SLOPE), 1.0)
        before, over = (over, excess), over + (excess + MET_DB) / slope
        found = _as_loud(case, first, found, over, highest)
    if found is not first and abs(first.gain_db + first.loss_db - found.gain_db - found.loss_db) > MET_DB:
        found = _as_loud(case, first, found, over, highest)
    return found


def _as_loud(case: _Case, first: Held, found: Held, over: float, highest: float) -> Held:
    """With the gain so far over the ceiling, and what `found` loses of the level made up for, where its lower limit asks for it."""
    lost = first.loss_db - found.loss_db if case.wide.low_db is not None else 0.0
    gain = _round(first.gain_db + lost)
    return _expected(case, gain, max(min(math.floor((gain - over) * 100) / 100, highest), LOWEST_CEILING_DBTP))


def _within(case: _Case, first: Held, found: Held, highest: float) -> Held:
    """No deeper in the limiter than the bound allows, and as loud as `first` all the same, or as near to that as the highest
    ceiling lets it come."""
    ceiling = found.ceiling_dbtp if found.ceiling_dbtp is not None else highest
    over = case.limited.deepest(found.gain_db - ceiling, 0.0, case.most_limiting_db)
    lost = first.loss_db - case.limited.loss(over, 0.0) if case.wide.low_db is not None else 0.0
    gain = _round(min(first.gain_db + lost, highest + over))
    return _expected(case, gain, min(math.ceil((gain - over) * 100) / 100, highest))


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
    too_deep = depth - case.most_limiting_db
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
    wide, limited = case.wide, case.limited
    wanted = _target(case, ceiling)
    if wide.low_db is None:
        return wanted
    least = lowest(wide, limited, ceiling)
    if not wanted:
        return max(wanted, least)
    highest = MOST_GAIN_DB if wide.high_db is None else wide.high_db - LEVEL_RESERVE_DB
    most = min(limiting.compensated(wanted, lambda gain: limited.loss(gain, ceiling)), max(least, highest))
    return _eased(limited, least, most, ceiling, case.most_limiting_db)


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


def _target(case: _Case, ceiling: float) -> float:
    """Where in the window that the peaks do not bound: nowhere else than it is where that will do; else low for light, as high as
    limiting is easy for balanced. For even always the middle, so that chapters come out alike."""
    wide, asked = case.wide, case.asked
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
    depth = case.limited.depth(middle, ceiling)
    return _round(max(lowest, middle - max(0.0, depth - min(EASY_LIMITING_DB, case.most_limiting_db))))


def _eased(limited: Limited, lowest: float, wanted: float, ceiling: float, most_db: float) -> float:
    """The wanted gain, or as much of the way to it from the lowest that will do as the bound on limiting leaves."""
    for part in (1.0, 0.75, 0.5, 0.25):
        gain = lowest + part * (wanted - lowest)
        if wanted <= lowest or limited.depth(gain, ceiling) <= most_db - LEVEL_RESERVE_DB:
            return _round(max(gain, min(wanted, lowest)))
    return _round(lowest)


def _round(value: float) -> float:
    return round(value, 2)
