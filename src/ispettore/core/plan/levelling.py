"""Level and peaks: gain alone where every limit allows one; else a limiter, and evening before it where that does not do."""

from dataclasses import dataclass, replace

from ispettore.core.figures import exact, number, with_unit
from ispettore.core.measure.basis import Basis
from ispettore.core.plan import evening
from ispettore.core.plan.bounds import Bounds, Given, Obstacle, told
from ispettore.core.plan.holding import Asked, Held
from ispettore.core.plan.shaping import Cells, Evened
from ispettore.core.plan.window import COMPARED, PEAKS, GainWindow, Readings, level_of, limits, short_of, window_of
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step

SLACK_DB = 0.2
"""Foretold to miss by no more than this, a treatment is in doubt: run all the same, once, and its measurement decides."""


@dataclass(frozen=True)
class Levelled:
    """The steps that bring level and peaks into their limits, and what is expected of them."""

    steps: tuple[Step, ...]
    window: GainWindow
    gain_db: float
    limiting_db: float
    predicted: Readings
    touch: Touch
    obstacles: tuple[Obstacle, ...] = ()
    doubts: tuple[Obstacle, ...] = ()


def levelled(cells: Cells, readings: Readings, asked: Asked, *, cleaned: bool) -> Levelled:
    """Steps for a recording that reads so after cleaning. For even with a slow hand on the level where passages differ."""
    simple = evening.plain(cells, readings, asked)
    if asked.preference == "even" and (riding := evening.steadied(cells, asked.bounds)) is not None:
        steady = evening.search(cells, readings, asked, steadied=riding)
        if steady is not None and steady.held.enough:
            return _told(cells, readings, asked, simple, steady, cleaned=cleaned)
    found = solved(cells, readings, asked, simple)
    if asked.preference == "light" and found is not simple:
        louder = _louder(cells, readings, asked)
        if louder.held.enough and (not found.held.enough or louder.touch.touch < found.touch.touch):
            found = louder
    return _told(cells, readings, asked, simple, found, cleaned=cleaned)


def _louder(cells: Cells, readings: Readings, asked: Asked) -> Evened:
    """As for balanced, which is louder: the limiter takes more then, and can leave less to even."""
    louder = replace(asked, preference="balanced")
    return solved(cells, readings, louder, evening.plain(cells, readings, louder))


def solved(cells: Cells, readings: Readings, asked: Asked, simple: Evened) -> Evened:
    """No evening where none is needed, the least that does, or what leaves least missing. What was asked last is known still: light
    and balanced often ask the same."""
    if simple.held.enough:
        return simple
    question = (readings, asked)
    known = next((found for was, found in cells.solved if was == question), None)
    if known is None:
        found = evening.search(cells, readings, asked)
        known = simple if found is None or found.held.missing_db >= simple.held.missing_db else found
        cells.solved[:] = [(question, known)]
    return known


def _told(cells: Cells, readings: Readings, asked: Asked, simple: Evened, found: Evened, *, cleaned: bool) -> Levelled:
    held, specification = found.held, asked.specification
    window = window_of(found.shaped, specification)
    steps = _shaping_steps(cells, asked, simple, found)
    if held.gain_db:
        steps.append(_gain_step(held, window, cells.basis, readings, cleaned=cleaned, shaped=bool(steps)))
    if held.ceiling_dbtp is not None:
        steps.append(_limiter_step(held, window_of(readings, specification)))
    obstacles = () if held.enough else (_beyond(cells, readings, asked, found),)
    predicted = {*(limit.quantity for limit in limits(specification)), *COMPARED} & set(held.readings)
    return Levelled(
        steps=(*steps,),
        window=window,
        gain_db=held.gain_db,
        limiting_db=held.depth_db,
        predicted={name: round(held.readings[name], 2) for name in held.readings if name in predicted},
        touch=found.touch,
        obstacles=obstacles if held.missing_db > SLACK_DB else (),
        doubts=obstacles if held.missing_db <= SLACK_DB else (),
    )


def _shaping_steps(cells: Cells, asked: Asked, simple: Evened, found: Evened) -> list[Step]:
    shaping, steps = found.shaping, []
    why = _why(simple.held, asked)
    if shaping.riding is not None:
        riding = shaping.riding
        most = f"up to {number(max(riding.up_db, riding.down_db), 1)} dB" + (" each way" if riding.up_db else " down")
        if simple.held.enough:
            was, now = evening.ranges(cells, riding)
            said = f"Loudness range is {number(was, 1)} LU; slow level riding, {most}, leaves {number(now, 1)}."
        else:
            said = f"{why}; slow level riding, {most}, brings loud and soft passages closer together."
        settings = {"up_db": riding.up_db, "down_db": riding.down_db, "speed_s": riding.speed_s}
        steps.append(Step(kind="level-riding", settings=settings, reason=said))
    if shaping.compressor is not None:
        settings = {"threshold_dbfs": shaping.compressor.threshold_dbfs, "ratio": shaping.compressor.ratio}
        evens = f"{exact(shaping.compressor.ratio)}:1 above {with_unit(shaping.compressor.threshold_dbfs, 'dBFS')}"
        by = number(shaping.compression_db, 1)
        steps.append(
            Step(kind="compressor", settings=settings, reason=f"{why}; {evens} takes {by} dB off the loudest words first.")
        )
    return steps


def _why(held: Held, asked: Asked) -> str:
    """What is missing where nothing is evened."""
    first, second = held.limits
    short, unit = number(held.missing_db, 1), QUANTITIES[first].difference_unit
    if first == second:
        return f"{QUANTITIES[first].title} would be {short} {unit} outside its limit"
    if second in PEAKS:
        return f"With at most {exact(asked.bounds.limiting_db)} dB of limiting, the level would stay {short} {unit} short"
    return f"{QUANTITIES[first].title} and {QUANTITIES[second].title.lower()} are {short} {unit} too far apart at any gain"


def _gain_step(held: Held, window: GainWindow, basis: Basis, readings: Readings, *, cleaned: bool, shaped: bool) -> Step:
    gain, level = held.gain_db, level_of(window)
    reading = basis.inspection.value(level) if level else None
    at = f"{QUANTITIES[level].title} is {with_unit(reading, QUANTITIES[level].unit)}; " if level and reading is not None else ""
    why = "every limit allows it, so no other step is needed"
    if held.ceiling_dbtp is not None or shaped:
        why = "makes up for level lost in evening" if shaped else "the level limit requires it"
    elif cleaned:
        why = "every limit allows it now, and the room falls with it" if gain < 0 else "every limit allows it now"
    direction = "raise" if gain > 0 else "lower"
    return Step(kind="gain", settings={"gain_db": gain}, reason=f"{at}{direction} by {number(abs(gain), 1)} dB: {why}.")


def _limiter_step(held: Held, before: GainWindow) -> Step:
    ceiling = held.ceiling_dbtp
    first = f"A level change alone falls {number(before.shortfall_db, 1)} dB short; " if not before.open else ""
    peaks = f"{'a' if first else 'A'} limiter holds peaks below {with_unit(ceiling, 'dBTP')}"
    return Step(
        kind="true-peak-limiter",
        settings={"ceiling_dbtp": ceiling},
        reason=f"{first}{peaks}, taking about {number(held.depth_db, 1)} dB off the loudest 1 % of speech.",
    )


def _beyond(cells: Cells, readings: Readings, asked: Asked, found: Evened) -> Obstacle:
    """What not even evening and limiting within the bounds bring about, and what each of them gives."""
    held, shaping = found.held, found.shaping
    left, given = short_of(readings, asked.specification), []
    stages: list[tuple[str, Readings]] = []
    if shaping.riding is not None:
        stages.append(("level-riding", evening.ridden(cells, readings, shaping.riding)))
    if shaping.compressor is not None:
        stages.append(("compressor", found.shaped))
    for kind, after in stages:
        now = short_of(after, asked.specification)
        given.append(Given(kind=kind, db=left - now))
        left = now
    if held.ceiling_dbtp is not None:
        given.append(Given(kind="true-peak-limiter", db=left - held.missing_db))
    return beyond(held.limits, held.missing_db, asked.bounds, given)


def beyond(names: tuple[str, str], short_db: float, bounds: Bounds, given: list[Given] | None = None) -> Obstacle:
    """Two limits, or one, that stay out of reach by so much within the bounds."""
    first, second = names
    unit, could = QUANTITIES[first].difference_unit, tuple(given or ())
    short = f"{number(short_db, 1)} {unit}"
    gives = f"{_sentence(told(could))} at most within the bounds" if told(could) else "Nothing within the bounds helps"
    if second in PEAKS and first != second:
        advice = (
            f"More than {exact(bounds.limiting_db)} dB of limiting on the loudest 1 % of speech is audible. {gives}: "
            f"the level stays {short} short. "
            "Speak more evenly, move back from the microphone on loud words, or turn those words down individually."
        )
    elif first != second and "evening" not in QUANTITIES[second].moved_by:
        advice = (
            f"{QUANTITIES[first].title} and {QUANTITIES[second].title} exclude one another; one specification can't ask for both "
            "of this voice."
        )
    else:
        what = QUANTITIES[first].title if first == second else f"{QUANTITIES[first].title} and {QUANTITIES[second].title.lower()}"
        over = "stays" if first == second else "stay"
        advice = (
            f"{gives}: {what} {over} {short} {'outside the limit' if first == second else 'too far apart'}. "
            "Speak more evenly and keep the same distance from the microphone, or adjust the passages that differ by hand."
        )
    return Obstacle(limits=names, shortfall_db=short_db, advice=advice, could_give=could)


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:]
