"""A specification: a named, versioned list of limits, as data."""

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, ValidationInfo, field_validator, model_validator

from ispettore.core.figures import exact
from ispettore.core.spec.quantities import QUANTITIES, Quantity, quantity
from ispettore.core.text import wrong_letter

Severity = Literal["must", "advice"]
AppliesTo = Literal["recording", "deliverable", "production"]


MOST_LIMITS = 100


def _of_letters(text: str, *, breaks: bool = True) -> str:
    wrong = wrong_letter(text, breaks=breaks)
    if wrong is not None:
        raise ValueError(f"it contains {wrong}, which can't be stored")
    return text


class Limit(BaseModel):
    """One quantity with a lower and/or upper bound, or a list of allowed values.

    `guard` (in the unit) or `guard_percent` (of the bound) says how near a bound counts as near. A limit on the `recording` holds
    for whatever comes of it too; one on the `deliverable` holds for the file that is handed over; one on the `production` bounds
    the spread (largest minus smallest) of the quantity over all recordings, or what the production is as a whole.

    >>> Limit(quantity="sample_peak_dbfs", high=-3, guard=0.5).guard_at(-3)
    0.5
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    quantity: str
    low: FiniteFloat | None = None
    high: FiniteFloat | None = None
    one_of: tuple[str, ...] = ()
    guard: FiniteFloat = Field(0.0, ge=0)
    guard_percent: float = Field(0.0, ge=0, le=50)
    severity: Severity = "must"
    applies_to: AppliesTo = "recording"
    purpose: str = Field("", max_length=500)

    @field_validator("quantity")
    @classmethod
    def _known(cls, name: str) -> str:
        if name not in QUANTITIES:
            raise ValueError(f"there is no quantity “{name}”")
        return name

    @field_validator("purpose")
    @classmethod
    def _purpose(cls, text: str) -> str:
        return _of_letters(text)

    @model_validator(mode="after")
    def _bounds(self) -> "Limit":
        if self.low is None and self.high is None and not self.one_of:
            raise ValueError(f"the limit on {self.about.title} has no value; enter one, or remove the limit")
        if self.about.of_package and self.applies_to != "production":
            raise ValueError(f"{self.about.title} is of a production as a whole: let its limit hold for the production")
        if self.low is not None and self.high is not None and self.low > self.high:
            low, high = exact(self.low), exact(self.high)
            raise ValueError(f"the minimum of {self.about.title} ({low}) is above its maximum ({high})")
        return self

    @property
    def about(self) -> Quantity:
        return quantity(self.quantity)

    def guard_at(self, bound: float) -> float:
        """How near to `bound` counts as near, in the unit."""
        return self.guard + abs(bound) * self.guard_percent / 100


class Specification(BaseModel):
    """What a recording or deliverable must be. Versions are never changed, only followed by others."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    id: str = Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=64)
    name: str = Field(min_length=1, max_length=80)
    version: int = Field(1, ge=1)
    description: str = Field("", max_length=2_000)
    source: str = Field("", max_length=500)
    mono_on_two_loudspeakers: bool = False
    limits: tuple[Limit, ...] = Field(max_length=MOST_LIMITS)

    @field_validator("name", "description", "source")
    @classmethod
    def _of_letters(cls, text: str, info: ValidationInfo) -> str:
        return _of_letters(text, breaks=info.field_name != "name")

    def limit(self, quantity: str) -> Limit | None:
        """The limit on a quantity that holds for files (not for the production), or None."""
        return next((li for li in self.limits if li.quantity == quantity and li.applies_to != "production"), None)
