"""The room against the voice: how much cleaning would have to bring, and why nothing conforms where it can't."""

from ispettore.core.figures import number, with_unit
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import evening, foretelling, holding, levelling
from ispettore.core.plan.bounds import Obstacle, told
from ispettore.core.plan.cleaning import Cleaning, Missing
from ispettore.core.plan.foretelling import Moved
from ispettore.core.plan.holding import MOST_GAIN_DB, Asked
from ispettore.core.plan.limiting import Limited
from ispettore.core.plan.shaping import Cells
from ispettore.core.plan.window import PEAKS, GainWindow, Readings, level_of, limits, of_bars, window_of
from ispettore.core.spec.quantities import CLEANING, QUANTITIES, moved_by
from ispettore.core.spec.specification import Specification

EVENED_LEVELS = tuple(name for name in moved_by("evening") if QUANTITIES[name].moves_with_gain)
NEARER = "Record closer to the microphone, and turn off fans and whatever hums."


def missing(readings: Readings, specification: Specification, *, evened: Moved) -> Missing:
    """By how much the room is too loud against the voice, in dB, once readings have moved so; negative with room to spare.

    `evened` is what evening and holding the peaks do to the room and to its distance from the voice: a limiter takes from the voice
    alone, and the gain that makes up for it raises both.
    """
    window = window_of(readings, specification)
    room = of_bars([item for item in window.bars if QUANTITIES[item.quantity].is_room])
    others = window.without(*PEAKS, *(item.quantity for item in room.bars))
    ratios = [
        (limit.quantity, limit.low - readings[limit.quantity])
        for limit in limits(specification)
        if limit.low is not None and limit.about.moved_by == CLEANING and limit.quantity in readings
    ]

    def left(moved: Moved) -> float:
        by = {name: change for name, change in moved.items() if QUANTITIES[name].moves_with_gain}
        low, high = others.moved(**by).low_db, room.moved(**by).high_db
        gaps = [short - moved.get(name, 0.0) - evened.get(name, 0.0) for name, short in ratios]
        if low is not None and high is not None:
            gaps.append(low - high + max((evened.get(item.quantity, 0.0) for item in room.bars), default=0.0))
        return max(gaps, default=-MOST_GAIN_DB)

    return left


def short_of_quiet(cells: Cells, readings: Readings, asked: Asked) -> Missing | None:
    """What cleaning would have to bring; None where nothing of that kind stands in the way."""
    names = [name for name in readings if QUANTITIES[name].is_room or QUANTITIES[name].moved_by == CLEANING]
    if not names:
        return None
    left = missing(readings, asked.specification, evened=_evened(cells, readings, names, asked))
    return left if left({}) > 0 else None


def _evened(cells: Cells, readings: Readings, names: list[str], asked: Asked) -> Moved:
    """How the room moves beyond what the level alone asks for, by limiting, and by evening where that has to help."""
    voice = {name: value for name, value in readings.items() if name not in names}
    simple = evening.plain(cells, voice, asked)
    if simple.held.ceiling_dbtp is None and simple.held.enough:
        return {}
    found = levelling.solved(cells, voice, asked, simple)
    shaped = cells.basis.times(10 ** (found.gain_db / 20))
    changed = foretelling.changes(cells.basis, shaped.times(10 ** (found.held.reduction_db / 20)), names)
    wide, was = (window_of(each, asked.specification).without(*PEAKS) for each in (found.shaped, voice))
    if was.low_db is None or found.held.ceiling_dbtp is None:
        return changed
    limited = Limited(shaped, holding.aimed_level(asked.specification))
    more = holding.lowest(wide, limited, found.held.ceiling_dbtp) - was.low_db
    return {name: by + (more if QUANTITIES[name].is_room else 0.0) for name, by in changed.items()}


def excluded(
    window: GainWindow, inspection: Inspection, specification: Specification, cleaning: Cleaning | None
) -> Obstacle | None:
    """Level against noise, where not even all the cleaning that the bounds allow brings the room down far enough; or two levels
    that nothing brings together."""
    wide = window.without(*PEAKS, *EVENED_LEVELS)
    tried = cleaning if cleaning is not None and not cleaning.closes else None
    if wide.open or wide.raised_by is None or wide.held_by is None:
        return _still_too_loud(tried, window, specification) if tried is not None else None
    level = QUANTITIES[wide.raised_by].title
    short = tried.missing_db if tried is not None else wide.shortfall_db
    if QUANTITIES[wide.held_by].is_room:
        noise = inspection.value(wide.held_by)
        low, high = wide.low_db or 0.0, wide.high_db or 0.0
        asks = f"must rise by at least {number(low, 1)} dB" if low > 0 else f"may fall by at most {number(-low, 1)} dB"
        allows = f"allows a rise of at most {number(high, 1)} dB" if high > 0 else f"must fall by at least {number(-high, 1)} dB"
        advice = (
            f"{level} {asks}, but the room between the words ({with_unit(noise, 'dBFS')}) {allows}: it is "
            f"{number(wide.shortfall_db, 1)} dB too loud relative to the voice. "
        ) + (_too_loud(tried) if tried is not None else NEARER)
    else:
        advice = f"{level} and {QUANTITIES[wide.held_by].title} conflict: this recording can't meet both."
    could = tried.given if tried is not None else ()
    return Obstacle(limits=(wide.raised_by, wide.held_by), shortfall_db=short, advice=advice, could_give=could)


def _still_too_loud(tried: Cleaning, window: GainWindow, specification: Specification) -> Obstacle:
    """Where the window itself is open: too little signal to noise, or a room that rises with what makes up for limiting."""
    room = next((item.quantity for item in window.bars if QUANTITIES[item.quantity].is_room), None)
    ratio = next(
        (each.quantity for each in specification.limits if each.severity == "must" and each.about.moved_by == CLEANING), None
    )
    held = ratio or room or ""
    limits = (held if ratio else level_of(window) or held, held)
    return Obstacle(limits=limits, shortfall_db=tried.missing_db, advice=_too_loud(tried), could_give=tried.given)


def _too_loud(tried: Cleaning) -> str:
    gives = f"Cleaning gives at most {told(tried.given)}; " if tried.given else "No cleaning helps here; "
    return f"{gives}{number(tried.missing_db, 1)} dB are still missing. {NEARER}"
