"""What the file that a plan writes is expected to read, held against every limit that the plan's steps move."""

from ispettore.core.plan import ending
from ispettore.core.plan.planner import Plan
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, place


def limits(plan: Plan, specification: Specification) -> list[LimitVerdict]:
    """Each limit with the reading that is expected, in the specification's order."""
    readings = {**plan.predicted, **_ends(plan)}
    found = (limit for limit in specification.limits if limit.applies_to != "production")
    return [place(limit, readings[limit.quantity]) for limit in found if limit.quantity in readings]


def _ends(plan: Plan) -> dict[str, float]:
    step = plan.treatment.find("head-and-tail")
    settings = step.settings if step is not None else {}
    return {name: float(settings[name]) for name in ending.ENDS if settings.get(name) is not None}
