"""Level and peaks: gain alone where every limit allows one; else a limiter, after compression where that would be too deep."""

from dataclasses import dataclass
from typing import Literal, get_args

from ispettore.core.figures import exact, number, with_unit
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import evening, limiting
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.window import PEAKS, GainWindow, Learned, level_of
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Specification
from ispettore.core.treat import touch
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step

Preference = Literal["light", "balanced", "even"]
PREFERENCES: tuple[Preference, ...] = get_args(Preference)
USUAL_PREFERENCE: Preference = "balanced"
PEAK_RESERVE_DB = max(QUANTITIES[name].reserve for name in PEAKS)
LEVEL_RESERVE_DB = 0.1
EASY_LIMITING_DB = 1.5
MOST_GAIN_DB = 60.0
NO_TOUCH = Touch(voice=0.0, room=0.0)


@dataclass(frozen=True)
class Levelled:
    """The steps that bring level and peaks into their limits, and what is expected of them."""

    steps: tuple[Step, ...]
    window: GainWindow
    gain_db: float = 0.0
    limiting_db: float = 0.0
    loss_db: float = 0.0
    touch: Touch = NO_TOUCH
    obstacles: tuple[Obstacle, ...] = ()


def levelled(
    basis: Basis,
    window: GainWindow,
    shown: GainWindow,
    specification: Specification,
    learned: Learned,
    preference: Preference,
    bounds: Bounds,
    *,
    cleaned: bool,
) -> Levelled:
    """Gain alone where every limit allows one; else a limiter, after compression where it would be too deep alone."""
    inspection = basis.inspection
    if window.open:
        gain = _easiest(window, specification)
        why = "every limit allows it, so nothing else is needed"
        if cleaned:
            why = "every limit allows it now, and the room falls with it" if gain < 0 else "every limit allows it now"
        return Levelled((_gain_step(gain, window, inspection, why),) if gain else (), window, gain)
    steps: list[Step] = []
    obstacles: list[Obstacle] = []
    wide, ceiling = window.without(*PEAKS), ceiling_of(specification, learned)

    def lost(gain_db: float) -> float:
        return limiting.loss(basis, gain_db, ceiling, aimed_level(specification))

    gain = _target(wide, basis, specification, learned, preference, bounds)
    lowest = limiting.compensated((wide.low_db or 0.0) + LEVEL_RESERVE_DB, lost)
    highest = MOST_GAIN_DB if wide.high_db is None else wide.high_db - LEVEL_RESERVE_DB
    if gain:
        gain = _eased(basis, lowest, min(limiting.compensated(gain, lost), max(lowest, highest)), ceiling, bounds)
    loss, depth = lost(gain), limiting.depth(basis, gain, ceiling)
    least = min(depth, limiting.depth(basis, lowest, ceiling))
    why, found = "the level asks for it", None
    if least > bounds.limiting_db:
        found = evened(basis, window, specification, ceiling, bounds)
        if found is None and least > bounds.limiting_db + 1.0:
            reached = limiting.deepest(basis, lowest, ceiling, bounds.limiting_db)
            short = (wide.low_db or 0.0) + LEVEL_RESERVE_DB - reached - lost(reached)
            obstacles.append(too_dense(window, short, bounds))
        elif found is not None:
            steps.append(_compressor_step(found, least, bounds))
            window, gain, depth, loss = found.window, found.gain_db, found.limiting_db, found.limiter_loss_db
            why = "compression took the level down and the specification asks for it"
    if gain:
        steps.append(_gain_step(gain, window, inspection, why))
    steps.append(_limiter_step(gain, ceiling, shown, inspection, depth))
    moved = touch.of(limiting.reduction(basis, gain, ceiling), basis.speech)
    if found is not None:
        moved = found.touch
    return Levelled((*steps,), window, gain, depth, loss, moved, tuple(obstacles))


def predicted(hold: "Levelled", specification: Specification, learned: Learned) -> dict[str, float]:
    """Each bar says what the reading is before the gain; the gain moves it, limiting holds peaks and lowers the level."""
    found = {}
    limited = any(step.kind == "true-peak-limiter" for step in hold.steps)
    for item in hold.window.bars:
        limit, about = specification.limit(item.quantity), QUANTITIES[item.quantity]
        if limit is None:
            continue
        if limit.low is not None and item.low_db is not None:
            reading = limit.low - item.low_db
        elif limit.high is not None and item.high_db is not None:
            reading = limit.high - about.reserve - item.high_db
        else:
            continue
        reading += hold.gain_db + (hold.loss_db if about.is_level else 0.0)
        if limited and about.is_peak:
            reading = min(reading, ceiling_of(specification, learned) + max(0.0, learned.peak_db))
        found[item.quantity] = round(reading, 2)
    return found


def aimed_level(specification: Specification) -> str | None:
    return next((limit.quantity for limit in specification.limits if limit.about.is_level), None)


def evened(
    basis: Basis, window: GainWindow, specification: Specification, ceiling: float, bounds: Bounds
) -> evening.Evening | None:
    level = level_of(window)
    if level is None:
        return None
    guard = _guard(specification, level)
    return evening.search(basis, window, ceiling_dbtp=ceiling, level=level, guard_db=guard, bounds=bounds, peaks=PEAKS)


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
    return _round(min(max(middle, low + guard_low), high - guard_high))


def _guard(specification: Specification, quantity: str | None) -> float:
    limit = specification.limit(quantity) if quantity else None
    if limit is None:
        return 0.0
    bound = limit.low if limit.low is not None else limit.high
    return limit.guard_at(bound or 0.0)


def _target(
    wide: GainWindow,
    basis: Basis,
    specification: Specification,
    learned: Learned,
    preference: Preference,
    bounds: Bounds,
) -> float:
    """Where in the window that the peaks do not bound: nowhere else than it is where that will do; else low for light, as high as
    limiting is easy for balanced. For even always the middle, so that chapters come out alike."""
    if preference != "even" and wide.allows(0.0, reserve_db=LEVEL_RESERVE_DB):
        return 0.0
    low = wide.low_db if wide.low_db is not None else 0.0
    high = wide.high_db if wide.high_db is not None else low
    guard = min(_guard(specification, wide.raised_by), (high - low) / 2)
    lowest, middle = low + guard, (low + high) / 2
    if preference == "light" or lowest >= middle:
        return _round(min(lowest, middle))
    if preference == "even":
        return _round(middle)
    depth = limiting.depth(basis, middle, ceiling_of(specification, learned))
    return _round(max(lowest, middle - max(0.0, depth - min(EASY_LIMITING_DB, bounds.limiting_db))))


def ceiling_of(specification: Specification, learned: Learned) -> float:
    """The limiter's ceiling in dBTP: inside every peak limit by the reserve, lower still by what the encoder adds."""
    highs = [li.high for li in specification.limits if li.about.is_peak and li.high is not None and li.severity == "must"]
    return _round(min(highs) - PEAK_RESERVE_DB - max(0.0, learned.peak_db))


def _eased(basis: Basis, lowest: float, wanted: float, ceiling: float, bounds: Bounds) -> float:
    """The wanted gain, or as much of the way to it from the lowest that will do as the bound on limiting leaves."""
    for part in (1.0, 0.75, 0.5, 0.25):
        gain = lowest + part * (wanted - lowest)
        if wanted <= lowest or limiting.depth(basis, gain, ceiling) <= bounds.limiting_db - LEVEL_RESERVE_DB:
            return _round(max(gain, min(wanted, lowest)))
    return _round(lowest)


def _round(value: float) -> float:
    return round(value, 2)


def _gain_step(gain: float, window: GainWindow, inspection: Inspection, why: str) -> Step:
    level = level_of(window)
    reading = inspection.value(level) if level else None
    at = f"{QUANTITIES[level].title} reads {with_unit(reading, QUANTITIES[level].unit)}; " if level and reading is not None else ""
    direction = "raise" if gain > 0 else "lower"
    return Step(kind="gain", settings={"gain_db": gain}, reason=f"{at}{direction} by {number(abs(gain), 1)} dB: {why}.")


def _limiter_step(gain: float, ceiling: float, window: GainWindow, inspection: Inspection, limiting: float) -> Step:
    return Step(
        kind="true-peak-limiter",
        settings={"ceiling_dbtp": ceiling},
        reason=f"Gain alone misses by {number(window.shortfall_db, 1)} dB; peaks are held under {with_unit(ceiling, 'dBTP')}, "
        f"which takes about {number(limiting, 1)} dB from the loudest hundredth of the speech.",
    )


def _compressor_step(found: evening.Evening, least: float, bounds: Bounds) -> Step:
    settings = found.settings
    return Step(
        kind="compressor",
        settings={"threshold_dbfs": settings.threshold_dbfs, "ratio": settings.ratio},
        reason=f"Limiting alone would take {number(least, 1)} dB from the loudest hundredth of speech, "
        f"over {exact(bounds.limiting_db)} dB; {exact(settings.ratio)}:1 above {with_unit(settings.threshold_dbfs, 'dBFS')} "
        f"evens it by {number(found.compression_db, 1)} dB first.",
    )


def too_dense(window: GainWindow, short_db: float, bounds: Bounds) -> Obstacle:
    """Level against peaks: held to the bound on limiting, the level stays so far under its limit."""
    return Obstacle(
        limits=(window.raised_by or level_of(window) or PEAKS[0], window.held_by or PEAKS[0]),
        shortfall_db=short_db,
        advice=f"More than {exact(bounds.limiting_db)} dB of limiting in the loudest hundredth of the speech is heard. "
        f"Held to that, the level stays {number(short_db, 1)} dB short. "
        "Speak more evenly or further from the microphone on loud words, or lower those words one by one.",
    )
