"""The planner: the gentlest treatment that should pass, with its reasons in figures, or the limits that exclude one another.

A pure function of readings. What an encoder, a limiter or a longer tail does to the level is learned by running and measuring
(`Learned`), and planning again: nothing here guesses twice.
"""

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import ending, levelling, mending, remedies, room
from ispettore.core.plan.bedded import UnderVoice
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.cleaning import Cleaning
from ispettore.core.plan.holding import Asked
from ispettore.core.plan.preferences import USUAL_PREFERENCE, Preference
from ispettore.core.plan.remedies import Left
from ispettore.core.plan.shaping import Cells
from ispettore.core.plan.window import GainWindow, Learned, window_of
from ispettore.core.spec import standing
from ispettore.core.spec.quantities import CLEANING
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Role, judge
from ispettore.core.treat import order, touch
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step, Treatment


class Plan(BaseModel):
    """A treatment proposed, with the window it was read from; or the obstacles that leave none.

    `after_window` is the window that cleaning and evening are expected to leave: the one the gain was chosen in.
    """

    model_config = ConfigDict(frozen=True)

    treatment: Treatment
    window: GainWindow
    after_window: GainWindow
    target_gain_db: float = 0.0
    expected_limiting_db: float = 0.0
    predicted: dict[str, float] = {}
    """What the written file is expected to read, by quantity: those that level, dynamics or cleaning move."""
    touch: Touch = Touch()
    """As far as it can be told before anything runs."""
    obstacles: tuple[Obstacle, ...] = ()
    leaves: tuple[Left, ...] = ()
    """What was found and is not mended by it."""
    doubts: tuple[Obstacle, ...] = ()
    """What is so near to impossible that only a run can tell."""
    encoding: Learned = Learned()
    """What encoding the file will do to its readings."""
    under: UnderVoice | None = None
    """What a bed under the voice does to it, where there is one."""


class Fixed(BaseModel):
    """What stands before a plan is made: what was mended after it was prepared (`unmended` is what stands in the way of it), the
    steps of a kept treatment for tone and dynamics (`late`; those before them were prepared), its name, and how much all of these
    touch the voice, where any does. `bed` is laid under what comes out: the plan is then read from the mix."""

    model_config = ConfigDict(frozen=True)

    name: str = ""
    mended: tuple[Step, ...] = ()
    unmended: tuple[Obstacle, ...] = ()
    late: tuple[Step, ...] = ()
    touch: Touch | None = None
    bed: Step | None = None


def make(
    cells: Cells,
    specification: Specification,
    *,
    role: Role,
    preference: Preference = USUAL_PREFERENCE,
    bounds: Bounds | None = None,
    learned: Learned | None = None,
    prepared: Treatment | None = None,
    cleaning: Cleaning | None = None,
    fixed: Fixed | None = None,
) -> Plan:
    """Plan from the inspection of the recording after its conversions and what is `fixed` of it (`cells`), and from the cleaning
    that was chosen for it by trial, which comes before tone and dynamics that are fixed. Readings are predicted for the written
    file."""
    bounds, learned, prepared, fixed = bounds or Bounds(), learned or Learned(), prepared or Treatment(), fixed or Fixed()
    inspection, asked = cells.basis.inspection, Asked(specification, learned, preference, bounds)
    ends, end_obstacles = ending.proposed(inspection, specification, learned)
    readings = ending.readings(inspection, specification, learned)
    shown = window = window_of(readings, specification)
    steps = [*prepared.steps, *fixed.mended]
    if cleaning is not None and cleaning.closes:
        if any(step.kind == "rumble-filter" for step in cleaning.steps):  # takes an offset away too
            steps = [*prepared.steps, *(step for step in fixed.mended if step.kind != "rumble-filter")]
        steps += cleaning.steps
        if fixed.bed is None:  # between the words of a mix is the bed
            readings = {name: value + cleaning.moved.get(name, 0.0) for name, value in readings.items()}
        window = window_of(readings, specification)
    obstacles = [*_still(inspection, specification, role, cleaning), *fixed.unmended, *end_obstacles]
    excluded = room.excluded(window, inspection, specification, cleaning)
    if excluded is not None:
        return Plan(
            treatment=_treatment(fixed, [*prepared.steps, *fixed.late]),
            window=shown,
            after_window=window,
            obstacles=(*obstacles, excluded),
        )
    level = levelling.levelled(cells, readings, asked, cleaned=window is not shown)
    steps += [*fixed.late, *level.steps]
    if ends is not None:
        steps.append(ends)
    treatment = _treatment(fixed, steps)
    moved = touch.both(cleaning.touch, level.touch) if cleaning is not None and cleaning.closes else level.touch
    return Plan(
        treatment=treatment,
        window=shown,
        after_window=level.window,
        target_gain_db=level.gain_db,
        expected_limiting_db=level.limiting_db,
        predicted=level.predicted,
        touch=moved if fixed.touch is None else touch.both(fixed.touch, moved),
        obstacles=(*obstacles, *(each for each in level.obstacles if each.limits not in {one.limits for one in obstacles})),
        leaves=remedies.left(inspection, treatment),
        doubts=level.doubts,
    )


def _treatment(fixed: Fixed, steps: list[Step]) -> Treatment:
    return Treatment(name=fixed.name, steps=order.with_bed(steps, fixed.bed))


def _still(inspection: Inspection, specification: Specification, role: Role, cleaning: Cleaning | None) -> list[Obstacle]:
    """Must-limits that are missed and that no step here mends."""
    found = []
    for limit in judge(inspection, specification, role=role).missed:
        about = limit.about
        if cleaning is not None and about.moved_by == CLEANING and limit.reading is not None:
            continue
        if about.moved_by & {"ends", "conversion", "format", *mending.MENDING}:
            continue
        if (about.moves_with_gain or about.counts is not None) and limit.reading is not None:
            continue
        if "evening" in about.moved_by and limit.position == "over":
            continue
        said = limit.note or f"measured {standing.reading(limit)} {standing.unit(limit)}".rstrip()
        found.append(
            Obstacle(
                limits=(limit.quantity, limit.quantity),
                shortfall_db=0.0,
                advice=f"{about.title}: processing can't fix this ({said}).",
            )
        )
    return found
