"""What a run and its encoding did otherwise than planned, for the next plan."""

from typing import Any

from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import ending
from ispettore.core.plan.planner import Plan
from ispettore.core.plan.window import Learned, level_of, limits
from ispettore.core.spec.quantities import QUANTITIES, ROOM_LEVELS
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import reading_for

CLOSE_DB = 0.1


def corrected(
    plan: Plan, basis: Basis, after: Inspection, specification: Specification, learned: Learned, *, deeper_db: float = 0.0
) -> Learned:
    """What was learned, corrected by how far the written file lies from where the plan said it would; `deeper_db` is by how much
    limiting went deeper than its bound."""
    level = level_of(plan.window)
    changes: dict[str, Any] = {"depth_db": learned.depth_db + deeper_db}
    read = {name: reading_for(name, after, specification) for name in plan.predicted}
    off = {name: value - plan.predicted[name] for name, value in read.items() if isinstance(value, float)}
    if level in off:
        changes["level_db"] = learned.level_db + off[level]
    known = off.get(level or "", 0.0)  # of these, what the level's own correction brings
    brought = {name: known * _share(name, level) for name in off if "evening" in QUANTITIES[name].moved_by}
    changes["others"] = {name: learned.others.get(name, 0.0) + off[name] - by for name, by in brought.items()}
    limiter = plan.treatment.find("true-peak-limiter")
    for limit in limits(specification):
        reading = after.value(limit.quantity)
        if not limit.about.is_peak or limit.high is None or reading is None or reading <= limit.high:
            continue
        changes["peak_db"] = max(0.0, learned.peak_db) + reading - limit.high + (CLOSE_DB if limiter else 0.0)
    room = next((item.quantity for item in plan.window.bars if QUANTITIES[item.quantity].is_room), ROOM_LEVELS[0])
    noise, was = after.value(room), basis.inspection.value(room)
    if noise is not None and was is not None:
        changes["noise_db"] = noise - was - plan.target_gain_db
        if room in off:
            changes["noise_db"] = learned.noise_db + off[room]
    ends = plan.treatment.find("head-and-tail")
    changes["ends_read_s"] = learned.ends_read_s | ending.left_outside(after, specification, ends)
    if ends is not None:
        came = {quantity: after.value(quantity) for quantity in ends.settings}
        changes["ends_s"] = {
            **learned.ends_s,
            **{quantity: reading - ends.settings[quantity] for quantity, reading in came.items() if reading is not None},
        }
    return learned.model_copy(update=changes)


def _share(quantity: str, level: str | None) -> float:
    """How far a reading follows that level's own correction."""
    about = QUANTITIES[quantity]
    if about.difference is not None:
        return -1.0 if level == about.difference[1] else 0.0
    return 1.0 if about.moves_with_gain else 0.0
