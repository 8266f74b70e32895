"""The planner: the gentlest treatment that should pass, with its reasons in figures, or the limits that exclude one another.

A pure function of readings. What an encoder, a limiter or a longer tail does to the level is learned by running and measuring
(`Learned`), and planning again: nothing here guesses twice.
"""

from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.facts import FileFacts
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.figures import clock, exact, number, with_unit
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import evening, limiting, mending
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.cleaning import Cleaning, Missing, Moved
from ispettore.core.plan.window import GainWindow, bar, of_bars
from ispettore.core.spec import standing
from ispettore.core.spec.quantities import CLEANING, QUANTITIES, moved_by
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.verdict import Role, judge, reading_for
from ispettore.core.treat import channels, touch
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step, Treatment

Preference = Literal["light", "balanced", "even"]
PREFERENCES: tuple[Preference, ...] = get_args(Preference)
USUAL_PREFERENCE: Preference = "balanced"
PEAKS, ENDS = moved_by("limiter"), moved_by("ends")
PEAK_RESERVE_DB = max(QUANTITIES[name].reserve for name in PEAKS)
LEVEL_RESERVE_DB = 0.1
EASY_LIMITING_DB = 1.5
MOST_GAIN_DB = 60.0
NO_TOUCH = Touch(voice=0.0, room=0.0)
MOST_MONO_LOSS_DB = 6.0
"""Of what is delivered; twice what is lost of two channels that have nothing in common."""


class Learned(BaseModel):
    """What running and encoding did beyond what was asked: dB added to level, peak and noise, seconds to the ends."""

    model_config = ConfigDict(frozen=True)

    level_db: float = 0.0
    peak_db: float = 0.0
    noise_db: float = 0.0
    ends_s: dict[str, float] = {}
    """By quantity."""


class Plan(BaseModel):
    """A treatment proposed, with the window it was read from; or the obstacles that leave none.

    `after_window` is the window that cleaning and compression are expected to leave: the one the gain was chosen in.
    """

    model_config = ConfigDict(frozen=True)

    treatment: Treatment
    window: GainWindow
    after_window: GainWindow
    target_gain_db: float = 0.0
    expected_limiting_db: float = 0.0
    expected_loss_db: float = 0.0
    predicted: dict[str, float] = {}
    """What the written file is expected to read, by quantity: those that a bar of the window stands for."""
    touch: Touch = Touch()
    """As far as it can be told before anything runs."""
    obstacles: tuple[Obstacle, ...] = ()


def preparation(inspection: Inspection, specification: Specification, *, role: Role, form: OutputFormat) -> Treatment:
    """The conversions of channels and sample rate that the specification, the output format and the channels themselves ask for."""
    steps, facts = [], inspection.facts
    wanted = _wanted_channels(inspection, specification, form)
    if wanted is not None:
        mix = channels.decided(inspection, wanted)
        first = channels.told(mix, facts.channels)
        asked = f"The recording has {_count(facts.channels)}; {specification.name} asks for {_count(wanted)}"
        reason = first[:1].upper() + first[1:] if wanted == facts.channels else f"{asked}: {first}" if first else asked
        steps.append(Step(kind="channels", settings=mix.model_dump(mode="json"), reason=f"{reason}."))
    rate = _wanted_rate(facts, specification, role, form)
    if rate is not None:
        steps.append(
            Step(
                kind="sample-rate",
                settings={"sample_rate_hz": rate},
                reason=f"The recording is at {exact(facts.sample_rate_hz / 1000)} kHz; "
                f"the deliverable is to be at {exact(rate / 1000)} kHz.",
            )
        )
    return Treatment(steps=tuple(steps))


def _wanted_channels(inspection: Inspection, specification: Specification, form: OutputFormat) -> int | None:
    """The number to bring the channels to; None where they stay as they are. A dead or inverted side is mended at their number."""
    have = inspection.facts.channels
    limit = specification.limit("channels")
    most = int(limit.high) if limit and limit.high is not None else 6
    least = int(limit.low) if limit and limit.low is not None else 1
    most = min(most, form.written.most_channels)
    wanted = min(max(have, least), most)
    if wanted == have:
        return have if channels.needed(inspection) else None
    return min(wanted, 2)


def _wanted_rate(facts: FileFacts, specification: Specification, role: Role, form: OutputFormat) -> int | None:
    rate = facts.sample_rate_hz
    limit = specification.limit("sample_rate_hz")
    if limit is not None and (role == "deliverable" or limit.applies_to == "recording"):
        if limit.low is not None and rate < limit.low:
            return int(limit.low)
        if limit.high is not None and rate > limit.high:
            return int(limit.high)
    fitting = form.rate_for(rate)
    return fitting if fitting != rate else None


def _count(number_of: int) -> str:
    return {1: "one channel", 2: "two channels"}.get(number_of, f"{number_of} channels")


def cancelling(recording: Inspection, prepared: Inspection, treatment: Treatment) -> Obstacle | None:
    """What would cancel where it is mixed to mono, by the recording or by a listener, and no conversion mends."""
    mix = treatment.find("channels")
    mended = mix is not None and bool(mix.settings["turned"] or len(mix.settings["live"]) == 1)
    read = prepared if mended or prepared.facts.channels > 1 else recording
    loss = read.readings.get("mono_loss_db")
    if loss is None or loss.value is None or loss.value <= MOST_MONO_LOSS_DB:
        return None
    return Obstacle(
        limits=("mono_loss_db", "mono_loss_db"),
        shortfall_db=loss.value - MOST_MONO_LOSS_DB,
        advice=f"Left and right cancel one another from {clock(loss.start_s)} to {clock(loss.end_s)}: mixed to mono, the voice "
        f"loses {number(loss.value, 1)} dB there, and on one loudspeaker it vanishes. Turn the polarity of one channel over in "
        "that part, or bring in the channel that holds the voice as a mono file.",
    )


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
        return max(gaps, default=-MOST_GAIN_DB)

    return left


def short_of_quiet(basis: Basis, specification: Specification, learned: Learned, bounds: Bounds) -> Missing | None:
    """What cleaning would have to bring; None where nothing of that kind stands in the way."""
    inspection = basis.inspection
    ends, _ = _ends(inspection, specification, learned)
    window = gain_window(inspection, specification, learned, longer_s=_added(inspection, ends))
    left = missing(inspection, specification, window, raised_db=_raised(basis, window, specification, learned, bounds))
    return left if left({}) > 0 else None


def _raised(basis: Basis, window: GainWindow, specification: Specification, learned: Learned, bounds: Bounds) -> float:
    """How much louder than the level alone asks for the room becomes by limiting, and by compression where that has to help."""
    voice = window.without(*(item.quantity for item in window.bars if QUANTITIES[item.quantity].is_room))
    if voice.open or voice.low_db is None:
        return 0.0
    ceiling = _ceiling(specification, learned)
    lowest = limiting.compensated(
        voice.low_db + LEVEL_RESERVE_DB, lambda gain: limiting.loss(basis, gain, ceiling, _aimed_level(specification))
    )
    if limiting.depth(basis, lowest, ceiling) > bounds.limiting_db:
        found = _evened(basis, voice, specification, ceiling, bounds)
        if found is not None:
            return found.gain_db + found.room_db - voice.low_db
    return lowest - voice.low_db


def make(
    basis: Basis,
    specification: Specification,
    *,
    role: Role,
    preference: Preference = USUAL_PREFERENCE,
    bounds: Bounds | None = None,
    learned: Learned | None = None,
    prepared: Treatment | None = None,
    cleaning: Cleaning | None = None,
) -> Plan:
    """Plan from the inspection of the recording after its conversions (`basis`), and from the cleaning that was chosen for it by
    trial. Readings are predicted for the written file."""
    bounds, learned, prepared = bounds or Bounds(), learned or Learned(), prepared or Treatment()
    inspection = basis.inspection
    ends, end_obstacles = _ends(inspection, specification, learned)
    shown = gain_window(inspection, specification, learned, longer_s=_added(inspection, ends))
    mended, unmended = mending.needed(inspection, specification, role=role)
    window, steps = shown, [*prepared.steps, *mended]
    if cleaning is not None and cleaning.closes:
        if any(step.kind == "rumble-filter" for step in cleaning.steps):  # takes an offset away too
            steps = [step for step in steps if step.kind != "rumble-filter"]
        steps += cleaning.steps
        window = shown.moved(**{name: by for name, by in cleaning.moved.items() if QUANTITIES[name].moves_with_gain})
    obstacles = [*_still(inspection, specification, role, cleaning), *unmended, *end_obstacles]
    excluded = _excluded(window, inspection, specification, cleaning)
    if excluded is not None:
        return Plan(treatment=prepared, window=shown, after_window=window, obstacles=(*obstacles, excluded))
    hold = _levelled(basis, window, shown, specification, learned, preference, bounds, cleaned=window is not shown)
    steps += hold.steps
    if ends is not None:
        steps.append(ends)
    return Plan(
        treatment=Treatment(steps=tuple(steps)),
        window=shown,
        after_window=hold.window,
        target_gain_db=hold.gain_db,
        expected_limiting_db=hold.limiting_db,
        expected_loss_db=hold.loss_db,
        predicted=_predicted(hold, specification, learned),
        touch=touch.both(cleaning.touch, hold.touch) if cleaning is not None and cleaning.closes else hold.touch,
        obstacles=(*obstacles, *hold.obstacles),
    )


def _predicted(hold: "_Levelled", specification: Specification, learned: Learned) -> dict[str, float]:
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
            reading = min(reading, _ceiling(specification, learned) + max(0.0, learned.peak_db))
        found[item.quantity] = round(reading, 2)
    return found


@dataclass(frozen=True)
class _Levelled:
    """The steps that bring level and peaks into their limits, and what is expected of them."""

    steps: tuple[Step, ...]
    window: GainWindow
    gain_db: float = 0.0
    limiting_db: float = 0.0
    loss_db: float = 0.0
    touch: Touch = NO_TOUCH
    obstacles: tuple[Obstacle, ...] = ()


def _levelled(
    basis: Basis,
    window: GainWindow,
    shown: GainWindow,
    specification: Specification,
    learned: Learned,
    preference: Preference,
    bounds: Bounds,
    *,
    cleaned: bool,
) -> _Levelled:
    """Gain alone where every limit allows one; else a limiter, after compression where it would be too deep alone."""
    inspection = basis.inspection
    if window.open:
        gain = _easiest(window, specification)
        why = "every limit allows it, so nothing else is needed"
        if cleaned:
            why = "every limit allows it now, and the room falls with it" if gain < 0 else "every limit allows it now"
        return _Levelled((_gain_step(gain, window, inspection, why),) if gain else (), window, gain)
    steps: list[Step] = []
    obstacles: list[Obstacle] = []
    wide, ceiling = window.without(*PEAKS), _ceiling(specification, learned)

    def lost(gain_db: float) -> float:
        return limiting.loss(basis, gain_db, ceiling, _aimed_level(specification))

    gain = _target(wide, basis, specification, learned, preference, bounds)
    lowest = limiting.compensated((wide.low_db or 0.0) + LEVEL_RESERVE_DB, lost)
    highest = MOST_GAIN_DB if wide.high_db is None else wide.high_db - LEVEL_RESERVE_DB
    if gain:
        gain = _eased(basis, lowest, min(limiting.compensated(gain, lost), max(lowest, highest)), ceiling, bounds)
    loss, depth = lost(gain), limiting.depth(basis, gain, ceiling)
    least = min(depth, limiting.depth(basis, lowest, ceiling))
    why, found = "the level asks for it", None
    if least > bounds.limiting_db:
        found = _evened(basis, window, specification, ceiling, bounds)
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
    return _Levelled((*steps,), window, gain, depth, loss, moved, tuple(obstacles))


def _aimed_level(specification: Specification) -> str | None:
    return next((limit.quantity for limit in specification.limits if limit.about.is_level), None)


def _evened(
    basis: Basis, window: GainWindow, specification: Specification, ceiling: float, bounds: Bounds
) -> evening.Evening | None:
    level = level_of(window)
    if level is None:
        return None
    guard = _guard(specification, level)
    return evening.search(basis, window, ceiling_dbtp=ceiling, level=level, guard_db=guard, bounds=bounds, peaks=PEAKS)


def gain_window(
    inspection: Inspection, specification: Specification, learned: Learned | None = None, *, longer_s: float = 0.0
) -> GainWindow:
    """The window for a file: one bar for each must-limit on a quantity that moves with gain and has a reading.

    `longer_s` is how much longer head and tail will make it: what is averaged over the whole file falls by so much.
    """
    learned = learned or Learned()
    bars = []
    for limit in specification.limits:
        about = limit.about
        if not about.moves_with_gain or limit.severity != "must" or limit.applies_to == "production":
            continue
        reading = reading_for(limit.quantity, inspection, specification)
        if not isinstance(reading, float):
            continue
        if about.averaged and longer_s:
            duration = inspection.facts.duration_s
            reading -= 10 * float(np.log10(max(duration + longer_s, 0.1) / duration))
        offset = learned.peak_db if about.is_peak else learned.noise_db if about.is_room else learned.level_db
        bars.append(bar(limit, reading + offset, reserve_db=about.reserve))
    return of_bars(bars)


def level_of(window: GainWindow) -> str | None:
    """The first quantity in a window that is a level to be reached."""
    return next((item.quantity for item in window.bars if QUANTITIES[item.quantity].is_level), None)


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
    depth = limiting.depth(basis, middle, _ceiling(specification, learned))
    return _round(max(lowest, middle - max(0.0, depth - min(EASY_LIMITING_DB, bounds.limiting_db))))


def _ceiling(specification: Specification, learned: Learned) -> float:
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


def _excluded(
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


NEARER = "Record nearer to the microphone, and switch off or shut out what hums and blows."


def _too_loud(tried: Cleaning) -> str:
    told = f"Cleaning gives {tried.told()} at the most; " if tried.given else "No cleaning helps here; "
    return f"{told}{number(tried.missing_db, 1)} dB are missing still. {NEARER}"


def too_dense(window: GainWindow, short_db: float, bounds: Bounds) -> Obstacle:
    """Level against peaks: held to the bound on limiting, the level stays so far under its limit."""
    return Obstacle(
        limits=(window.raised_by or level_of(window) or PEAKS[0], window.held_by or PEAKS[0]),
        shortfall_db=short_db,
        advice=f"More than {exact(bounds.limiting_db)} dB of limiting in the loudest hundredth of the speech is heard. "
        f"Held to that, the level stays {number(short_db, 1)} dB short. "
        "Speak more evenly or further from the microphone on loud words, or lower those words one by one.",
    )


def _still(inspection: Inspection, specification: Specification, role: Role, cleaning: Cleaning | None) -> list[Obstacle]:
    """Must-limits that are missed and that no step here mends."""
    found = []
    for limit in judge(inspection, specification, role=role).missed:
        about = limit.about
        if cleaning is not None and about.moved_by == CLEANING and limit.reading is not None:
            continue
        if about.moved_by & {"ends", "conversion", "format", *mending.MENDING}:
            continue
        if about.moves_with_gain and limit.reading is not None:
            continue
        said = limit.note or f"it reads {standing.reading(limit)} {standing.unit(limit)}".rstrip()
        found.append(
            Obstacle(
                limits=(limit.quantity, limit.quantity),
                shortfall_db=0.0,
                advice=f"{about.title} can't be mended by treatment: {said}.",
            )
        )
    return found


def _ends(inspection: Inspection, specification: Specification, learned: Learned) -> tuple[Step | None, list[Obstacle]]:
    """Head and tail where they are outside their limits: moved just inside, no further."""
    wanted: dict[str, float] = {}
    reasons = []
    for name in ENDS:
        limit, reading = specification.limit(name), inspection.value(name)
        if limit is None or reading is None:
            continue
        length = _length(limit, reading)
        if length is None:
            continue
        wanted[name] = round(length - learned.ends_s.get(name, 0.0), 3)
        reasons.append(f"{QUANTITIES[name].title} is {number(reading, 2)} s and becomes {number(length, 2)} s")
    if not wanted:
        return None, []
    fill = any(wanted[name] > (inspection.value(name) or 0) for name in wanted)
    reason = " and ".join(reasons) + (", filled with the recording's own room tone." if fill else ".")
    can_fill = any(span.length_s >= 0.12 for span in inspection.room_tone)
    if fill and not can_fill:
        advice = "Head or tail is too short and there is no room tone to fill it with: record half a second of the empty room."
        name = next(iter(wanted))
        return None, [Obstacle(limits=(name, name), shortfall_db=0.0, advice=advice)]
    return Step(kind="head-and-tail", settings=wanted, reason=reason), []


def _length(limit: Limit, reading: float) -> float | None:
    """The nearest length well inside the limit, or None where the reading is inside already by more than two cells."""
    reserve = 0.02
    low = limit.low if limit.low is not None else 0.0
    high = limit.high if limit.high is not None else low + 4.0
    if low + (reserve if limit.low is not None else 0) <= reading <= high - reserve:
        return None
    inset = min(0.25, (high - low) / 4)
    return low + inset if reading < low + reserve else high - inset


def _added(inspection: Inspection, ends: Step | None) -> float:
    if ends is None:
        return 0.0
    return sum(float(length) - (inspection.value(name) or 0.0) for name, length in ends.settings.items())
