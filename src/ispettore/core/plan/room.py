"""The room against the voice: how much cleaning would have to bring, and why nothing conforms where it can't."""

from ispettore.core.figures import number, with_unit
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import ending, levelling, limiting
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.cleaning import Cleaning, Missing, Moved
from ispettore.core.plan.window import PEAKS, GainWindow, Learned, gain_window, level_of, of_bars
from ispettore.core.spec.quantities import CLEANING, QUANTITIES
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import reading_for

NEARER = "Record nearer to the microphone, and switch off or shut out what hums and blows."


def missing(inspection: Inspection, specification: Specification, window: GainWindow, *, raised_db: float) -> Missing:
    """By how much the room is too loud against the voice, in dB, once readings have moved so; negative with room to spare.

    `raised_db` is how much louder the room becomes by what holds the peaks: a limiter takes from the voice alone, and the gain that
    makes up for it raises both.
    """
    room = of_bars([item for item in window.bars if QUANTITIES[item.quantity].is_room])
    others = window.without(*PEAKS, *(item.quantity for item in room.bars))
    ratios = [
        (limit.quantity, limit.low - value)
        for limit in specification.limits
        if limit.severity == "must" and limit.low is not None and limit.about.moved_by == CLEANING
        if isinstance(value := reading_for(limit.quantity, inspection, specification), float)
    ]

    def left(moved: Moved) -> float:
        by = {name: change for name, change in moved.items() if QUANTITIES[name].moves_with_gain}
        low, high = others.moved(**by).low_db, room.moved(**by).high_db
        gaps = [short - moved.get(name, 0.0) for name, short in ratios]
        if low is not None and high is not None:
            gaps.append(low - high + raised_db)
        return max(gaps, default=-levelling.MOST_GAIN_DB)

    return left


def short_of_quiet(basis: Basis, specification: Specification, learned: Learned, bounds: Bounds) -> Missing | None:
    """What cleaning would have to bring; None where nothing of that kind stands in the way."""
    inspection = basis.inspection
    ends, _ = ending.proposed(inspection, specification, learned)
    window = gain_window(inspection, specification, learned, longer_s=ending.added(inspection, ends))
    left = missing(inspection, specification, window, raised_db=_raised(basis, window, specification, learned, bounds))
    return left if left({}) > 0 else None


def _raised(basis: Basis, window: GainWindow, specification: Specification, learned: Learned, bounds: Bounds) -> float:
    """How much louder than the level alone asks for the room becomes by limiting, and by compression where that has to help."""
    voice = window.without(*(item.quantity for item in window.bars if QUANTITIES[item.quantity].is_room))
    if voice.open or voice.low_db is None or not voice.without(*PEAKS).open:  # it is not the peaks that stand in the way
        return 0.0
    ceiling = levelling.ceiling_of(specification, learned)
    lowest = limiting.compensated(
        voice.low_db + levelling.LEVEL_RESERVE_DB,
        lambda gain: limiting.loss(basis, gain, ceiling, levelling.aimed_level(specification)),
    )
    if limiting.depth(basis, lowest, ceiling) > bounds.limiting_db:
        found = levelling.evened(basis, voice, specification, ceiling, bounds)
        if found is not None:
            return found.gain_db + found.room_db - voice.low_db
    return lowest - voice.low_db


def excluded(
    window: GainWindow, inspection: Inspection, specification: Specification, cleaning: Cleaning | None
) -> Obstacle | None:
    """Level against noise, where not even all the cleaning that the bounds allow brings the room down far enough."""
    wide = window.without(*PEAKS)
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
            f"{number(wide.shortfall_db, 1)} dB too loud against the voice. "
        ) + (_too_loud(tried) if tried is not None else NEARER)
    else:
        advice = (
            f"{level} and {QUANTITIES[wide.held_by].title} exclude one another; one specification can't ask for both of this voice."
        )
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
    told = f"Cleaning gives {tried.told()} at the most; " if tried.given else "No cleaning helps here; "
    return f"{told}{number(tried.missing_db, 1)} dB are missing still. {NEARER}"
