"""Treatments that were kept or sealed by any version of this program, read as today's.

Settings are taken as they were written: a range that is narrower today makes a step refuse to run, not its record to be read. A
golden file of every form stays in tests/core/golden for good.
"""

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, ConfigDict

from ispettore.core.treat.treatment import VERSION, Step, Treatment, migrated


class _StepForm(BaseModel):
    """What a step holds, whatever its kind and its settings may be."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    kind: str
    settings: dict[str, Any] = {}
    on: bool = True
    reason: str = ""
    learned: dict[str, Any] = {}


class _TreatmentForm(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")

    name: str = ""
    steps: tuple[_StepForm, ...] = ()


def treatment(data: Mapping[str, Any]) -> Treatment:
    """A treatment from its kept JSON. Raises ValueError for one of a newer version."""
    form = _TreatmentForm.model_validate(migrated(dict(data)))
    steps = tuple(Step.model_construct(**dict(step)) for step in form.steps)
    return Treatment.model_construct(version=VERSION, name=form.name, steps=steps)
