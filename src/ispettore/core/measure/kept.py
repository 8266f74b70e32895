"""Inspections that were kept by any version of this program, read as today's.

A golden file of every form stays in tests/core/golden for good. Whoever changes what an inspection holds so that an older one
can't be read makes it readable here.
"""

from collections.abc import Mapping
from typing import Any

from ispettore.core.measure.inspection import Inspection

RENAMED: dict[str, str] = {}
"""What quantities were once called, and what they are called now. Entries are never taken out."""


def current_name(quantity: str) -> str:
    """Today's name of a quantity."""
    return RENAMED.get(quantity, quantity)


def inspection(data: Mapping[str, Any]) -> Inspection:
    """An inspection from its kept JSON."""
    readings = {
        current_name(name): {**reading, "quantity": current_name(name)} for name, reading in dict(data.get("readings", {})).items()
    }
    return Inspection.model_validate({"methods_version": 1, **data, "readings": readings})
