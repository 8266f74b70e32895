"""The gain window: which gains each limit allows, and where all of them agree.

Most level limits move one for one with gain: a limit [low, high] on a quantity that reads r allows the gains [low − r, high − r].
Where all bars overlap is the window. Where they do not, two limits exclude one another and the gap is the exact shortfall.
"""

import math

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.spec.quantities import CLEANING, QUANTITIES, Quantity, moved_by
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.verdict import reading_for

PEAKS = moved_by("limiter")
COMPARED = ("active_speech_level_dbfs", "noise_floor_dbfs")
HAIR_DB = 0.03
"""By these recordings are held against one another: they are told of every plan, whatever the limits are on."""


class Bar(BaseModel):
    """The gains one limit allows, in dB; None where it is open to that side."""

    model_config = ConfigDict(frozen=True)

    quantity: str
    title: str
    low_db: float | None
    high_db: float | None


class GainWindow(BaseModel):
    """All bars. `low_db` and `high_db` bound the window; `raised_by` and `held_by` name the limits that set them."""

    model_config = ConfigDict(frozen=True)

    bars: tuple[Bar, ...]
    low_db: float | None
    high_db: float | None
    raised_by: str | None
    held_by: str | None

    @property
    def shortfall_db(self) -> float:
        """How far the two limits that exclude one another are apart; 0 where the window is open."""
        if self.low_db is None or self.high_db is None:
            return 0.0
        return max(0.0, self.low_db - self.high_db)

    @property
    def open(self) -> bool:
        return self.shortfall_db == 0.0

    def moved(self, **by_db: float) -> "GainWindow":
        """The window after something lowered some quantities' readings (negative dB): their bars move the other way."""
        bars = []
        for item in self.bars:
            by = by_db.get(item.quantity, 0.0)
            bars.append(
                item.model_copy(
                    update={
                        "low_db": None if item.low_db is None else item.low_db - by,
                        "high_db": None if item.high_db is None else item.high_db - by,
                    }
                )
            )
        return of_bars(bars)

    def without(self, *quantities: str) -> "GainWindow":
        """The window that the other bars alone would leave."""
        return of_bars([bar for bar in self.bars if bar.quantity not in quantities])

    def allows(self, gain_db: float, *, reserve_db: float = 0.0) -> bool:
        """Whether a gain lies inside by at least `reserve_db`."""
        above = self.low_db is None or gain_db >= self.low_db + reserve_db
        return above and (self.high_db is None or gain_db <= self.high_db - reserve_db)


def bar(limit: Limit, reading: float, *, reserve_db: float = 0.0) -> Bar:
    """The gains a limit allows for a reading. `reserve_db` is kept free below an upper bound."""
    return Bar(
        quantity=limit.quantity,
        title=QUANTITIES[limit.quantity].title,
        low_db=None if limit.low is None else limit.low - reading,
        high_db=None if limit.high is None else limit.high - reserve_db - reading,
    )


def of_bars(bars: list[Bar]) -> GainWindow:
    """The window of some bars.

    >>> level = Bar(quantity="rms_dbfs", title="RMS level", low_db=2, high_db=7)
    >>> peak = Bar(quantity="sample_peak_dbfs", title="Peak", low_db=None, high_db=-1)
    >>> of_bars([level, peak]).shortfall_db
    3.0
    """
    lows = [(item.low_db, item.quantity) for item in bars if item.low_db is not None]
    highs = [(item.high_db, item.quantity) for item in bars if item.high_db is not None]
    low = max(lows, default=(-math.inf, None), key=lambda pair: pair[0])
    high = min(highs, default=(math.inf, None), key=lambda pair: pair[0])
    return GainWindow(
        bars=tuple(bars),
        low_db=low[0] if lows else None,
        high_db=high[0] if highs else None,
        raised_by=low[1],
        held_by=high[1],
    )


class Learned(BaseModel):
    """What running and encoding did beyond what was asked: dB added to level, peak and noise, seconds to the ends, and what else
    came out otherwise than expected."""

    model_config = ConfigDict(frozen=True)

    level_db: float = 0.0
    peak_db: float = 0.0
    noise_db: float = 0.0
    depth_db: float = 0.0
    """By how much limiting is deeper than foretold."""

    ends_s: dict[str, float] = {}
    ends_read_s: dict[str, float] = {}
    others: dict[str, float] = {}
    """All of these by quantity. `ends_read_s` are lengths that treatment alone left the ends with, outside their limits."""

    def added(self, about: Quantity) -> float:
        """What is added to a reading."""
        if about.moved_by == CLEANING:
            return 0.0
        if about.difference is not None:
            first, second = (self.added(QUANTITIES[name]) for name in about.difference)
            return first - second + self.others.get(about.name, 0.0)
        if about.is_peak:
            return self.peak_db
        if about.is_room:
            return self.noise_db
        return (self.level_db if about.moves_with_gain else 0.0) + self.others.get(about.name, 0.0)


Readings = dict[str, float]
"""What a file reads or is expected to, by quantity, in its unit."""


def limits(specification: Specification) -> list[Limit]:
    """What must be met by every file, as it is planned for: no places above a bound of a peak is a bound on that peak, and where
    no peak is limited, full scale limits them, as a file holds no more."""
    musts = [limit for limit in specification.limits if limit.severity == "must" and limit.applies_to != "production"]
    bounded = {limit.quantity for limit in musts if limit.high is not None}
    found: list[Limit] = []
    for limit in musts:
        counts = limit.about.counts
        if counts is None:
            found.append(limit)
        elif limit.high is not None and counts[0] not in bounded:
            found.append(limit.model_copy(update={"quantity": counts[0], "low": None, "high": counts[1]}))
    if not any(limit.about.is_peak and limit.high is not None for limit in found):
        found.append(Limit(quantity=PEAKS[0], high=0.0))
    return found


def expected(
    inspection: Inspection, specification: Specification, learned: Learned | None = None, *, longer_s: float = 0.0
) -> Readings:
    """What a file will read after encoding, if nothing but its ends is treated: of every limit that level, dynamics or cleaning can
    move, of what makes it up, and of what recordings are compared by.

    `longer_s` is how much longer head and tail will make it: what is averaged over the whole file falls by so much.
    """
    learned = learned or Learned()
    wanted = [limit.about for limit in limits(specification) if limit.about.moved_by & {"gain", "evening", "cleaning"}]
    parts = [QUANTITIES[name] for about in wanted for name in about.difference or ()]
    found: Readings = {}
    for about in [*wanted, *parts, *(QUANTITIES[name] for name in COMPARED)]:
        reading = reading_for(about.name, inspection, specification)
        if not isinstance(reading, float):
            continue
        if about.averaged and longer_s:
            duration = inspection.facts.duration_s
            reading -= 10 * math.log10(max(duration + longer_s, 0.1) / duration)
        found[about.name] = reading + learned.added(about)
    return found


def gain_window(
    inspection: Inspection, specification: Specification, learned: Learned | None = None, *, longer_s: float = 0.0
) -> GainWindow:
    """The window for a file: one bar for each must-limit on a quantity that moves with gain and has a reading."""
    return window_of(expected(inspection, specification, learned, longer_s=longer_s), specification)


def window_of(readings: Readings, specification: Specification) -> GainWindow:
    """The window that these readings leave."""
    moving = [limit for limit in limits(specification) if limit.about.moves_with_gain and limit.quantity in readings]
    return of_bars([bar(limit, readings[limit.quantity], reserve_db=limit.about.reserve) for limit in moving])


def missed(readings: Readings, specification: Specification, *, inside_db: float = 0.0) -> dict[str, float]:
    """By how much each limit on these readings is missed, in its unit; 0 or below where it is met. After evening, what it moves has
    to lie `inside_db` inside, and every level by a hair, as both are foretold from cells."""
    found: dict[str, float] = {}
    for limit in limits(specification):
        reading, about = readings.get(limit.quantity), limit.about
        if reading is not None:
            inside = inside_db if "evening" in about.moved_by else 0.0
            over = -math.inf if limit.high is None else reading - limit.high + about.reserve + inside
            under = -math.inf if limit.low is None else limit.low - reading + (HAIR_DB if inside_db else 0.0)
            found[limit.quantity] = max(over, under, found.get(limit.quantity, -math.inf))
    return found


def short_of(readings: Readings, specification: Specification) -> float:
    """How far apart the limits lie for these readings, whatever the gain; 0 where one gain meets them all."""
    rest = {name: by for name, by in missed(readings, specification).items() if not QUANTITIES[name].moves_with_gain}
    return max(window_of(readings, specification).shortfall_db, *rest.values(), 0.0)


def level_of(window: GainWindow) -> str | None:
    """The first quantity in a window that is a level to be reached."""
    return next((item.quantity for item in window.bars if QUANTITIES[item.quantity].is_level), None)
