"""The smallest change to a treatment that should close what its file still missed: told, and made, so that one click puts it in.

It is planned as any treatment is, from the written file's own measurement, and put into the steps that are there: what it brings is
then measured, never assumed.
"""

from collections.abc import Sequence

from pydantic import BaseModel, ConfigDict

from ispettore.core.figures import exact, number, with_unit
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import ending, levelling, limiting, shaping
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.holding import LEVEL_RESERVE_DB, Asked, aimed_level
from ispettore.core.plan.levelling import Levelled
from ispettore.core.plan.limiting import Limited
from ispettore.core.plan.window import Learned, expected
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict
from ispettore.core.treat.order import place_for
from ispettore.core.treat.treatment import STEPS, Step, Treatment

MORE_DB = 1.0
"""Noise is lowered by so much more than is missing: pauses differ."""
MOVERS = frozenset({"gain", "limiter", "evening", "cleaning", "ends"})


class Closing(BaseModel):
    """What to change, in one sentence, and the treatment with it."""

    model_config = ConfigDict(frozen=True)

    said: str
    treatment: Treatment


def smallest(
    treatment: Treatment,
    missed: Sequence[LimitVerdict],
    before: Inspection,
    after: Basis,
    specification: Specification,
    bounds: Bounds,
) -> Closing | None:
    """A change for everything that was missed in the file `after`, made of the recording `before`.

    Level and peaks take what planning takes on top of what was done: a gain, a limiter, evening before it; noise takes as much
    noise reduction as is missing; head and tail take the lengths asked for. None where that is not enough within the bounds, or
    where something was missed that no such step moves: a plan, another format or another recording helps then.
    """
    if any(not limit.about.moved_by & MOVERS for limit in missed):
        return None
    said: list[str] = []
    if room := [limit for limit in missed if "cleaning" in limit.about.moved_by]:
        treatment, words = _quieter(treatment, room, bounds)
        if not words:
            return None
        said.append(words)
    if any(limit.about.moved_by & {"gain", "evening"} and limit not in room for limit in missed):
        asked = Asked(specification, Learned(), "light", bounds)
        level = levelling.levelled(shaping.whole(after), expected(after.inspection, specification), asked, cleaned=False)
        if level.obstacles:
            return None
        for step in _made_up(level, treatment, after, specification):
            treatment, words = _put(treatment, step)
            said.append(words)
    if any("ends" in limit.about.moved_by for limit in missed):
        ends, _ = ending.proposed(before, specification, Learned())
        if ends is None:
            return None
        there = treatment.find(ends.kind)
        treatment = treatment.replacing(ends.kind, **ends.settings) if there is not None else _added(treatment, ends)
        said.append(
            "set " + " and ".join(f"the {name.removesuffix('_s')} to {exact(value)} s" for name, value in ends.settings.items())
        )
    return Closing(said=_sentence(said), treatment=treatment) if said else None


def _quieter(treatment: Treatment, over: Sequence[LimitVerdict], bounds: Bounds) -> tuple[Treatment, str]:
    """Noise reduction for what is too loud between the words; no words where the bounds are in the way."""
    there = next((step for step in treatment.steps if step.kind == "noise-reduction" and step.on), None)
    now = float(there.typed.model_dump()["amount_db"]) if there is not None else 0.0
    amount = round(now + max(-(limit.margin or 0.0) for limit in over) + MORE_DB, 1)
    if amount > bounds.noise_reduction_db:
        return treatment, ""
    words = f"lower steady noise by {exact(amount)} dB" + (f" instead of {exact(now)} dB" if now else "")
    if there is not None:
        return _instead(treatment, there, there.with_settings(amount_db=amount)), words
    return _added(treatment, Step(kind="noise-reduction", settings={"amount_db": amount})), words


def _made_up(level: Levelled, treatment: Treatment, after: Basis, specification: Specification) -> list[Step]:
    """What brings level and peaks where they have to be, but for a limiter that ends the treatment already. A gain in front of that
    has to be larger: it is told by what the limiter would take of it, a little inside the limit."""
    limiter, aimed = next((one for one in reversed(treatment.steps) if _limits(one)), None), aimed_level(specification)
    if limiter is None:
        return [*level.steps]
    steps = [one for one in level.steps if not (_limits(one) and one.settings["ceiling_dbtp"] == limiter.settings["ceiling_dbtp"])]
    gains = all(step.kind == "gain" or _limits(step) for step in steps)
    if aimed not in level.predicted or not gains or level.gain_db <= 0:
        return steps
    last, limited = next((one for one in steps if _limits(one)), limiter), Limited(after, aimed)
    ceiling = float(last.settings["ceiling_dbtp"])
    wanted = level.predicted[aimed] - (after.inspection.value(aimed) or 0.0) + LEVEL_RESERVE_DB
    gain = limiting.compensated(wanted, lambda gain: limited.loss(gain, ceiling))
    return [step.with_settings(gain_db=round(gain, 2)) if step.kind == "gain" else step for step in steps]


def _limits(step: Step) -> bool:
    return step.kind == "true-peak-limiter" and step.on


def _put(treatment: Treatment, step: Step) -> tuple[Treatment, str]:
    """One more step, planned for what comes out of a treatment, put where it belongs in it: a gain into its last one, a limiter in
    the place of one that ends it, anything else before its last gain, for the level there."""
    gains = [one for one in treatment.steps if one.kind == "gain" and one.on]
    last = gains[-1] if gains else None
    if step.kind == "gain":
        by = float(step.settings["gain_db"])
        words = f"{'raise' if by > 0 else 'lower'} the {'last gain' if last else 'level'} by {number(abs(by), 1)} dB"
        if last is None:
            return _added(treatment, step), words
        return _instead(treatment, last, last.with_settings(gain_db=round(float(last.settings["gain_db"]) + by, 2))), words
    limiters = [one for one in treatment.steps if _limits(one)]
    if _limits(step):
        words = f"hold true peaks under {with_unit(step.settings['ceiling_dbtp'], 'dBTP')}"
        if limiters:
            return _instead(treatment, limiters[-1], limiters[-1].with_settings(**step.settings)), words
        return _added(treatment, step), f"{words} with a limiter behind the last gain"
    if last is not None and "threshold_dbfs" in step.settings:
        above = float(step.settings["threshold_dbfs"]) - float(last.settings["gain_db"])
        step = step.with_settings(threshold_dbfs=round(min(0.0, max(-80.0, above)), 1))
    return _added(treatment, step), f"add {STEPS[step.kind].title.lower()}"


def _instead(treatment: Treatment, old: Step, new: Step) -> Treatment:
    return treatment.model_copy(update={"steps": tuple(new if one is old else one for one in treatment.steps)})


def _added(treatment: Treatment, step: Step) -> Treatment:
    at = place_for(step.kind, [one.kind for one in treatment.steps])
    return treatment.model_copy(update={"steps": (*treatment.steps[:at], step, *treatment.steps[at:])})


def _sentence(parts: Sequence[str]) -> str:
    """Changes joined into one sentence.

    >>> _sentence(["raise the level", "hold peaks"]), _sentence(["one", "two", "three"])
    ('Raise the level and hold peaks.', 'One, two and three.')
    """
    text = f"{', '.join(parts[:-1])} and {parts[-1]}" if len(parts) > 1 else parts[0]
    return f"{text[:1].upper()}{text[1:]}."
