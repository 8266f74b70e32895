"""What a take check comes to: how far the voice and the room are from a specification, and what to turn, by how much.

It is the gain window before a word is recorded. The gain that the voice will need raises the room as well, whichever way the input
is turned; so what the room alone breaks stands first.
"""

import math
from typing import Literal, NamedTuple

from pydantic import BaseModel, ConfigDict

from ispettore.core.check.figures import LEAST_VOICE_S, Checked
from ispettore.core.figures import clock, exact, number
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Finding
from ispettore.core.plan.window import GainWindow, gain_window, limits, of_bars
from ispettore.core.spec.quantities import CLEANING, QUANTITIES
from ispettore.core.spec.specification import Limit, Specification

PEAKS_DBFS = (-12.0, -10.0)
"""Where the peaks of a test sentence should lie: what is read later is at times 6 to 9 dB louder, and 24 bits hold the rest."""
LEAST_TURN_CLIPPED_DB = 6
"""How much is lost above full scale nobody knows."""
NOTHING_DBFS = -90.0
SPARE_DB = 0.5
"""Kept free under what the room may read: no two sentences are equally loud."""
NEAREST_CM = 8.0
FAR_DB = 12.0
"""Nearer by more than to a quarter of the distance nobody can come."""
HUM_WORTH_DB = 1.0
"""What switching off has to bring to be worth the walk."""
OF_EVERY_TAKE = {
    "identical-channels": "Both channels are the same: record in mono.",
    "inverted-channel": "One channel is inverted, so the voice vanishes in mono: check cable and adapter.",
    "silent-channel": "One channel is silent: record the other alone, or check its cable.",
    "room-echo": "The room rings on after the words, and nothing removes that cleanly: come nearer, in a softer room.",
}
"""Findings of the sentences that will be true of every take made so, and what to do about them."""

About = Literal["signal", "room", "input", "take", "voice"]


class Advice(BaseModel):
    """One thing to do or to know, in sentences. `must` says that a take made so can't meet the specification, or is damaged."""

    model_config = ConfigDict(frozen=True)

    about: About
    must: bool
    text: str


class Distance(BaseModel):
    """A limit on a level: what was read, and what it would be after the gain that the voice will need. `missed_by` is how far that
    is outside, in dB, and 0 or less inside; `room` says that the room alone decides it."""

    model_config = ConfigDict(frozen=True)

    quantity: str
    title: str
    unit: str
    decimals: int
    read: float
    expected: float
    low: float | None
    high: float | None
    missed_by: float
    room: bool


class TakeCheck(BaseModel):
    """`ready` says that nothing stands in the way of a take. `turn_db` is by how much the input is to be turned up (negative:
    down), `gain_db` the gain that the voice as it was read will need to meet the specification, `nearer_cm` by how much coming
    nearer mends the room where that and switching off the hum can. Levels are None where there is nothing to be heard."""

    model_config = ConfigDict(frozen=True)

    ready: bool
    turn_db: int
    gain_db: float
    peak_dbfs: float | None
    true_peak_dbtp: float | None
    speech_dbfs: float | None
    room_dbfs: float | None
    hum_db: float | None
    hum_hz: int | None
    decay_s: float | None
    clipped: int
    nearer_cm: int
    distances: tuple[Distance, ...]
    advice: tuple[Advice, ...]


def take_check(checked: Checked, specification: Specification, *, distance_cm: float | None = None) -> TakeCheck:
    """What to do before a take is recorded for a specification. `distance_cm` is how far the mouth is from the microphone, where
    that is known."""
    inspection = checked.inspection
    peak, clipped = inspection.value("sample_peak_dbfs"), int(inspection.value("clipped_runs") or 0)
    gain_db = _gain(gain_window(inspection, specification))
    distances = _distances(inspection, specification, gain_db)
    silent = _nothing_heard(inspection)
    turn_db = 0 if silent or peak is None else _turn(peak, clipped)
    worst = next((one for one in distances if one.room and one.missed_by > 0), None) if not silent else None
    remedy = _remedy(checked, worst.missed_by, distance_cm) if worst is not None else _Remedy("")
    advice = [silent] if silent else [*_room(checked, worst, remedy), *_input(peak, clipped, turn_db), *_rest(checked)]
    advice += _voice(distances) if not silent else []
    hum = _hum(checked)
    return TakeCheck(
        ready=not any(one.must for one in advice),
        turn_db=turn_db,
        gain_db=gain_db,
        peak_dbfs=peak,
        true_peak_dbtp=inspection.value("true_peak_dbtp"),
        speech_dbfs=inspection.value("active_speech_level_dbfs"),
        room_dbfs=checked.room_dbfs,
        hum_db=hum.measure if hum is not None else None,
        hum_hz=_hertz(hum),
        decay_s=inspection.value("decay_s"),
        clipped=clipped,
        nearer_cm=remedy.nearer_cm,
        distances=distances,
        advice=tuple(advice),
    )


def _gain(window: GainWindow) -> float:
    """The gain nearest to none that every limit allows; where there is none, the least that brings the levels of the voice where
    they belong, whatever its peaks and its room say."""
    levels = [bar for bar in window.bars if QUANTITIES[bar.quantity].is_level]
    bars = window if window.open else of_bars(levels)
    low = bars.low_db if bars.low_db is not None else -math.inf
    high = bars.high_db if bars.high_db is not None else math.inf
    return low if levels and not window.open and math.isfinite(low) else max(low, min(0.0, high))


def _distances(inspection: Inspection, specification: Specification, gain_db: float) -> tuple[Distance, ...]:
    found = [one for limit in limits(specification) if (one := _distance(limit, inspection, gain_db)) is not None]
    return tuple(sorted(found, key=lambda one: (not one.room, -one.missed_by)))


def _distance(limit: Limit, inspection: Inspection, gain_db: float) -> Distance | None:
    about, read = limit.about, inspection.value(limit.quantity)
    ratio = about.moved_by == CLEANING and about.unit == "dB"
    if read is None or not (about.moves_with_gain or ratio):
        return None
    expected = read + (gain_db if about.moves_with_gain else 0.0)
    over = -math.inf if limit.high is None else expected - limit.high + about.reserve
    under = -math.inf if limit.low is None else limit.low - expected
    return Distance(
        quantity=limit.quantity,
        title=about.title,
        unit=about.unit,
        decimals=about.decimals,
        read=read,
        expected=expected,
        low=limit.low,
        high=limit.high,
        missed_by=max(over, under),
        room=about.is_room or ratio,
    )


def _nothing_heard(inspection: Inspection) -> Advice | None:
    peak = inspection.value("sample_peak_dbfs")
    if peak is None or peak < NOTHING_DBFS:
        text = "Nothing comes in. Check that this microphone is connected and switched on, and not muted."
        return Advice(about="signal", must=True, text=text)
    spoken_s = sum(span.end_s - span.start_s for span in inspection.speech)
    if inspection.value("active_speech_level_dbfs") is None or spoken_s == 0:
        text = "No sentence was heard, only the room. Check that this is the microphone you read into, then read again."
        return Advice(about="signal", must=True, text=text)
    return None


def _turn(peak_dbfs: float, clipped: int) -> int:
    """The fewest whole decibels that bring peaks where they belong."""
    low, high = PEAKS_DBFS
    turn = math.ceil(low - peak_dbfs) if peak_dbfs < low else math.floor(high - peak_dbfs) if peak_dbfs > high else 0
    return min(turn, -LEAST_TURN_CLIPPED_DB) if clipped else turn


def _input(peak: float | None, clipped: int, turn_db: int) -> list[Advice]:
    if peak is None:
        return []
    low, high = (number(bound, 0) for bound in PEAKS_DBFS)
    reached = _beside(peak, min(PEAKS_DBFS, key=lambda bound: abs(bound - peak)))
    should = f"peaks of the test sentences reach {reached} dBFS and should lie between {low} and {high}"
    if clipped:
        many = "once" if clipped == 1 else f"{clipped} times"
        text = f"Turn the input down by {-turn_db} dB at least: it clipped {many}, and nothing restores that. Then check again."
        return [Advice(about="input", must=True, text=text)]
    if turn_db > 0:
        return [Advice(about="input", must=True, text=f"Turn the input up by {turn_db} dB: {should}.")]
    if turn_db < 0:
        return [Advice(about="input", must=True, text=f"Turn the input down by {-turn_db} dB: {should}.")]
    text = f"The input is right: peaks of the test sentences reach {number(peak, 1)} dBFS."
    return [Advice(about="input", must=False, text=text)]


def _room(checked: Checked, worst: Distance | None, remedy: "_Remedy") -> list[Advice]:
    """What the room alone breaks, at its worst, with what mends it."""
    found = []
    if checked.unsteady is not None:
        at_s, above = checked.unsteady
        text = f"The room was not quiet: something sounded at {clock(at_s)}, {number(above, 0)} dB above the rest. Check again."
        found.append(Advice(about="room", must=True, text=text))
    if worst is None:
        hum = _hum(checked)
        if hum is not None:
            said = f"It hums at {_hertz(hum)} Hz, {number(hum.measure or 0, 0)} dB above what is around it"
            found.append(Advice(about="room", must=False, text=f"{said}: better switched off than filtered later."))
        return found
    if worst.quantity == "signal_to_noise_db":
        said = f"The voice stands {number(worst.read, 0)} dB above the room; the specification asks for {exact(worst.low or 0.0)}."
    else:
        bound = exact(worst.high if worst.high is not None else worst.low or 0.0)
        said = (
            f"After the gain this voice will need ({_signed(worst.expected - worst.read)} dB), the room would read "
            f"{_beside(worst.expected, worst.high or 0.0)} {worst.unit}; the specification allows {bound}."
        )
    return [*found, Advice(about="room", must=True, text=f"{said} {remedy.text}")]


class _Remedy(NamedTuple):
    """What to do in words, and the centimetres in it."""

    text: str
    nearer_cm: int = 0


def _remedy(checked: Checked, missing_db: float, distance_cm: float | None) -> _Remedy:
    """What takes so many dB off the room, or brings the voice so much above it."""
    wanted = missing_db + SPARE_DB
    hum = _hum(checked)
    floor, without = checked.room_dbfs, checked.without_hum_dbfs
    brings = floor - without if hum is not None and floor is not None and without is not None else 0.0
    switch = f"Switch off what hums at {_hertz(hum)} Hz"
    if brings >= wanted:
        nearer = _nearer(wanted, distance_cm)
        return _Remedy(f"{switch}, or {nearer.text}." if nearer else f"{switch}.")
    left = wanted - brings if brings >= HUM_WORTH_DB else wanted
    nearer = _nearer(left, distance_cm)
    if brings >= HUM_WORTH_DB:
        switch = f"{switch}, which takes {number(brings, 0)} dB off"
        if nearer:
            return _Remedy(f"{switch}, and {nearer.text}.", nearer.nearer_cm)
        return _Remedy(f"{switch}; {_whole(left)} dB more are missing, and coming nearer can't bring that: record elsewhere.")
    if nearer:
        return _Remedy(f"{nearer.text.capitalize()}, or make the room {_whole(left)} dB quieter.", nearer.nearer_cm)
    return _Remedy(f"Make the room {_whole(left)} dB quieter or record elsewhere: coming nearer can't bring that much.")


def _nearer(by_db: float, distance_cm: float | None) -> _Remedy | None:
    """How near a voice is to come to gain so much on the room, as its sound falls by 6 dB with each doubling of the distance; None
    where nobody can."""
    share = 10 ** (-by_db / 20)
    if by_db > FAR_DB or (distance_cm is not None and distance_cm * share < NEAREST_CM):
        return None
    if distance_cm is None:
        return _Remedy(f"move nearer, to {math.floor(share * 20) * 5} % of the distance to the microphone")
    by_cm = math.ceil(distance_cm * (1 - share))
    return _Remedy(f"move about {by_cm} cm nearer", by_cm)


def _rest(checked: Checked) -> list[Advice]:
    inspection = checked.inspection
    spoken_s = sum(span.end_s - span.start_s for span in inspection.speech)
    found = []
    if spoken_s < LEAST_VOICE_S:
        text = (
            f"Only {number(spoken_s, 0)} s of speech were heard: read a few sentences more, so that the figures can be relied on."
        )
        found.append(Advice(about="take", must=True, text=text))
    known = {one.kind for one in inspection.findings}
    found += [Advice(about="take", must=False, text=text) for kind, text in OF_EVERY_TAKE.items() if kind in known]
    return found


def _voice(distances: tuple[Distance, ...]) -> list[Advice]:
    """What will have to be done to the voice itself, which no knob and no room changes."""
    over = next((one for one in distances if QUANTITIES[one.quantity].is_peak and one.missed_by > 0), None)
    if over is None:
        return []
    beyond = f"{number(over.missed_by, 0)} dB above what is allowed"
    text = f"A limiter will be needed: after the gain this voice will need, its peaks would be {beyond}. Reading evenly helps."
    return [Advice(about="voice", must=False, text=text)]


def _hum(checked: Checked) -> Finding | None:
    return next((one for one in checked.inspection.findings if one.kind == "hum"), None)


def _hertz(hum: Finding | None) -> int | None:
    return int(hum.detail.split()[0]) if hum is not None and hum.detail else None


def _whole(db: float) -> str:
    return str(max(1, math.ceil(db - 0.05)))


def _beside(read: float, bound: float) -> str:
    """A level in whole decibels, and finer where it is next to a bound."""
    return number(read, 1 if abs(read - bound) < 1 else 0)


def _signed(db: float) -> str:
    return f"{'+' if db > 0 else ''}{number(db, 1)}"
