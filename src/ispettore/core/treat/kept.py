"""Treatments that were kept or sealed by any version of this program, read as today's.

Settings are taken as they were written: a range that is narrower today makes a step refuse to run, not its record to be read. A
golden file of every form stays in tests/core/golden for good.
"""

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, ConfigDict

from ispettore.core.treat.keeping import Finish, KeptTreatment
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
    id: str = ""
    revision: int = 1
    description: str = ""
    finish: Finish = "given"
    voice_dbfs: float | None = None


def treatment(data: Mapping[str, Any]) -> Treatment:
    """A treatment from its kept JSON. Raises ValueError for one of a newer version."""
    form = _TreatmentForm.model_validate(migrated(dict(data)))
    return Treatment.model_construct(version=VERSION, name=form.name, steps=_steps(form))


def kept_treatment(data: Mapping[str, Any]) -> KeptTreatment:
    """The same with what it was kept by. Raises ValueError for one of a newer version."""
    form = _TreatmentForm.model_validate(migrated(dict(data)))
    return KeptTreatment.model_construct(**{**dict(form), "version": VERSION, "steps": _steps(form)})


def _steps(form: _TreatmentForm) -> tuple[Step, ...]:
    return tuple(Step.model_construct(**dict(step)) for step in form.steps)
