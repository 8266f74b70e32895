"""What the file that a plan writes is expected to read, held against every limit of the specification."""

from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import ending
from ispettore.core.plan.planner import Plan
from ispettore.core.spec.quantities import Mover
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, judge, place

WRITTEN: frozenset[Mover] = frozenset({"format", "conversion"})
"""What a file is written as: always as it is asked for."""


def limits(plan: Plan, specification: Specification, inspection: Inspection) -> list[LimitVerdict]:
    """Each limit with the reading that is expected, in the specification's order: what the plan's steps move as it is foretold, all
    else as the recording (`inspection`) reads; limits on the format, which is written as it is asked for, are left out."""
    readings = {**plan.predicted, **_ends(plan)}
    now = {limit.quantity: limit for limit in judge(inspection, specification, role="recording").limits}
    found = []
    for limit in specification.limits:
        if limit.applies_to == "production" or (limit.about.fact and limit.about.moved_by & WRITTEN):
            continue
        if limit.quantity in readings:
            found.append(place(limit, readings[limit.quantity]))
        elif limit.quantity in now:
            found.append(now[limit.quantity])
    return found


def _ends(plan: Plan) -> dict[str, float]:
    step = plan.treatment.find("head-and-tail")
    return ending.asked(step.settings) if step is not None else {}
