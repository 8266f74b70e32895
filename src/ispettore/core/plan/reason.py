"""Which is the reason where a mix must be limited or nothing conforms: the bed, or the voice over it.

It is found by planning once more without the bed: what the voice alone asks for too is the voice's.
"""

from ispettore.core.figures import number
from ispettore.core.plan.bedded import Reason, UnderVoice
from ispettore.core.plan.planner import Plan
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.treat.bed import Mix

LOWER = "Turn the bed down, or lower it further while somebody speaks."


def named(plan: Plan, alone: Plan, mix: Mix) -> Plan:
    """A plan for the mix, with what that for the voice alone, by the same preference and bounds, says of it. Where nothing
    conforms, the first obstacle names the reason."""
    because, said = _reason(plan, alone)
    under = UnderVoice(mix=mix, limiting_alone_db=alone.expected_limiting_db, reason=because, said=said)
    obstacles = plan.obstacles
    if obstacles:
        first = obstacles[0]
        obstacles = (first.model_copy(update={"advice": f"{first.advice} {said}"}), *obstacles[1:])
    return plan.model_copy(update={"under": under, "obstacles": obstacles})


def _reason(plan: Plan, alone: Plan) -> tuple[Reason, str]:
    if plan.obstacles:
        first = plan.obstacles[0]
        names = " and ".join(dict.fromkeys(QUANTITIES[quantity].title for quantity in first.limits))
        if any(one.limits == first.limits for one in alone.obstacles):
            return "voice", f"The voice is the reason: without the bed {names} would be missed as well."
        return "bed", f"The bed is the reason: the voice alone would meet {names}. {LOWER}"
    if plan.treatment.find("true-peak-limiter") is None:
        return "", ""
    both, one = number(plan.expected_limiting_db, 1), number(alone.expected_limiting_db, 1)
    if alone.treatment.find("true-peak-limiter") is None:
        return "bed", f"The bed is the reason for limiting: the voice alone would need none. {LOWER}"
    if alone.expected_limiting_db >= plan.expected_limiting_db / 2:
        return "voice", f"The voice is the reason for limiting: of {both} dB, {one} dB would be needed without the bed as well."
    return "bed", f"The bed is the reason for most of the limiting: of {both} dB, the voice alone would need {one} dB. {LOWER}"
