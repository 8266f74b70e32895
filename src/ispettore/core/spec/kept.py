"""Specifications and verdicts that were kept or sealed by any version of this program, read as today's.

What is read here was checked when it was written: bounds that are narrower today, words that are not known any more and quantities
that have another name or are gone do not make it unreadable. A golden file of every form stays in tests/core/golden for good.
"""

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.kept import current_name
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.verdict import Verdict


class _Form(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")


class _LimitForm(_Form):
    """What a limit holds, without what may be asked of it."""

    quantity: str
    low: float | None = None
    high: float | None = None
    one_of: tuple[str, ...] = ()
    guard: float = 0.0
    guard_percent: float = 0.0
    severity: str = "must"
    applies_to: str = "recording"
    purpose: str = ""


class _SpecificationForm(_Form):
    id: str
    name: str
    version: int = 1
    description: str = ""
    source: str = ""
    mono_on_two_loudspeakers: bool = False
    limits: tuple[_LimitForm, ...] = ()


def specification(data: Mapping[str, Any]) -> Specification:
    """A specification from its kept JSON."""
    form = _SpecificationForm.model_validate(data)
    limits = tuple(Limit.model_construct(**{**dict(limit), "quantity": current_name(limit.quantity)}) for limit in form.limits)
    return Specification.model_construct(**{**dict(form), "limits": limits})


def verdict(data: Mapping[str, Any]) -> Verdict:
    """A verdict from its kept JSON."""
    limits = [{**limit, "quantity": current_name(str(limit["quantity"]))} for limit in data.get("limits", ())]
    return Verdict.model_validate({**data, "limits": limits})
