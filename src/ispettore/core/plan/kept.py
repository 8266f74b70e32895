"""What came of attempts to conform, kept by any version of this program, read as today's."""

from collections.abc import Mapping
from typing import Any

from ispettore.core.measure import kept as kept_inspections
from ispettore.core.plan.closing import Closing
from ispettore.core.plan.conform import Conformed
from ispettore.core.spec import kept as kept_specifications
from ispettore.core.treat import kept as kept_treatments


def conformed(data: Mapping[str, Any]) -> Conformed:
    """An attempt's outcome from its kept JSON: each part read by its own layer, so that none is held against today's ranges."""
    parts: dict[str, Any] = {
        "treatment": kept_treatments.treatment(data.get("treatment") or {}),
        "before": kept_inspections.inspection(data["before"]),
        "after": kept_inspections.inspection(data["after"]) if data.get("after") else None,
        "verdict": kept_specifications.verdict(data["verdict"]) if data.get("verdict") else None,
    }
    if data.get("closing"):
        change = data["closing"]
        parts["closing"] = Closing.model_construct(said=change["said"], treatment=kept_treatments.treatment(change["treatment"]))
    return Conformed.model_validate({**data, **parts})
