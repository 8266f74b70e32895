"""Verdicts: where each reading stands to its limit, and whether the file passes."""

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.spec.quantities import Quantity, quantity
from ispettore.core.spec.specification import AppliesTo, Limit, Severity, Specification

Position = Literal["inside", "near", "over", "under", "unmeasured"]
Role = Literal["recording", "master", "deliverable"]
TWO_LOUDSPEAKERS_LU = 3.0103
Values = Mapping[str, float | str | None]
"""What the limits of a specification are held against in one recording, by quantity."""
Whole = Mapping[str, tuple[float | None, str | None]]
"""What a production is as a whole, by quantity: the figure, and a note (which numbers are missing; why there is no figure)."""


class LimitVerdict(BaseModel):
    """One limit judged. `margin` is the distance to the nearer bound in the unit: positive inside, negative outside."""

    model_config = ConfigDict(frozen=True)

    quantity: str
    title: str
    unit: str
    difference_unit: str
    decimals: int
    low: float | None
    high: float | None
    one_of: tuple[str, ...] = ()
    reading: float | str | None
    passes: bool
    position: Position
    margin: float | None
    severity: Severity
    applies_to: AppliesTo
    guard: float = 0.0
    note: str | None = None

    @property
    def about(self) -> Quantity:
        return quantity(self.quantity)


class Verdict(BaseModel):
    """All limits that hold for the file in its role. `passes` counts must-limits only."""

    model_config = ConfigDict(frozen=True)

    specification: str
    version: int
    role: Role | Literal["production"]
    passes: bool
    limits: tuple[LimitVerdict, ...]

    @property
    def missed(self) -> list[LimitVerdict]:
        """The must-limits that are not met."""
        return [limit for limit in self.limits if not limit.passes and limit.severity == "must"]

    @property
    def unmet(self) -> tuple[str, ...]:
        """The quantities of all limits that are not met, advice included."""
        return tuple(limit.quantity for limit in self.limits if not limit.passes)


def role_of(inspection: Inspection) -> Role:
    """A lossy file is taken for a deliverable, any other for a recording."""
    return "deliverable" if inspection.facts.lossy else "recording"


def judge(inspection: Inspection, specification: Specification, *, role: Role) -> Verdict:
    """Judge a file in its role: file-format limits hold for deliverables only."""
    limits = tuple(
        _judge_limit(limit, inspection, specification)
        for limit in specification.limits
        if limit.applies_to == "recording" or (limit.applies_to == "deliverable" and role == "deliverable")
    )
    return Verdict(
        specification=specification.id,
        version=specification.version,
        role=role,
        passes=all(limit.passes for limit in limits if limit.severity == "must"),
        limits=limits,
    )


def reading_for(name: str, inspection: Inspection, specification: Specification) -> float | str | None:
    """The value a limit is held against, mono loudness raised where the specification plays mono on two loudspeakers."""
    about = quantity(name)
    if about.fact is not None:
        return about.fact(inspection.facts)
    value = inspection.value(name)
    if value is not None and about.k_weighted and specification.mono_on_two_loudspeakers and inspection.facts.channels == 1:
        return value + TWO_LOUDSPEAKERS_LU
    return value


def values(inspection: Inspection, specification: Specification) -> dict[str, float | str | None]:
    """What every limit is held against: all that a recording gives to the judgement of many."""
    names = dict.fromkeys(limit.quantity for limit in specification.limits if not limit.about.of_package)
    return {name: reading_for(name, inspection, specification) for name in names}


def _judge_limit(limit: Limit, inspection: Inspection, specification: Specification) -> LimitVerdict:
    reading = reading_for(limit.quantity, inspection, specification)
    source = inspection.readings.get(limit.quantity)
    note = source.note if source else None
    if reading is None and source is not None and source.silence and limit.about.is_room:
        return _verdict(limit, None, passes=limit.low is None, position="inside" if limit.low is None else "under", note=note)
    if reading is None:
        return _verdict(limit, None, passes=False, position="unmeasured", note=note or "not measured")
    if isinstance(reading, str):
        inside = reading in limit.one_of
        return _verdict(limit, reading, passes=inside, position="inside" if inside else "over", note=note)
    return place(limit, float(reading), note=note)


def place(limit: Limit, reading: float, *, note: str | None = None) -> LimitVerdict:
    """Where a number stands to a limit.

    >>> place(Limit(quantity="rms_dbfs", low=-23, high=-18, guard=0.5), -18.2).position
    'near'
    """
    to_low = reading - limit.low if limit.low is not None else None
    to_high = limit.high - reading if limit.high is not None else None
    margin = min(distance for distance in (to_low, to_high) if distance is not None)
    if to_high is not None and to_high < 0:
        return _verdict(limit, reading, passes=False, position="over", margin=margin, note=note)
    if to_low is not None and to_low < 0:
        return _verdict(limit, reading, passes=False, position="under", margin=margin, note=note)
    near = (limit.low is not None and to_low is not None and to_low < limit.guard_at(limit.low)) or (
        limit.high is not None and to_high is not None and to_high < limit.guard_at(limit.high)
    )
    return _verdict(limit, reading, passes=True, position="near" if near else "inside", margin=margin, note=note)


def _verdict(
    limit: Limit,
    reading: float | str | None,
    *,
    passes: bool,
    position: Position,
    margin: float | None = None,
    note: str | None = None,
) -> LimitVerdict:
    about = limit.about
    bound = limit.high if limit.high is not None else limit.low
    return LimitVerdict(
        quantity=limit.quantity,
        title=about.title,
        unit=about.unit,
        difference_unit=about.difference_unit,
        decimals=about.decimals,
        low=limit.low,
        high=limit.high,
        one_of=limit.one_of,
        reading=reading,
        passes=passes,
        position=position,
        margin=margin,
        severity=limit.severity,
        applies_to=limit.applies_to,
        guard=limit.guard_at(bound) if bound is not None else 0.0,
        note=note,
    )


def judge_production(recordings: Sequence[Values], specification: Specification, whole: Whole) -> tuple[LimitVerdict, ...]:
    """The limits on the production: each bounds the spread (largest minus smallest) of a quantity over its recordings (their
    `values`), or what the production is as a whole."""
    found = []
    for limit in specification.limits:
        if limit.applies_to != "production":
            continue
        if limit.about.of_package:
            value, note = whole.get(limit.quantity, (None, "not known"))
            if value is None:
                found.append(_verdict(limit, None, passes=False, position="unmeasured", note=note))
            else:
                found.append(place(limit, value, note=note))
            continue
        numbers = [float(value) for value in (each[limit.quantity] for each in recordings) if isinstance(value, int | float)]
        if not numbers or len(numbers) < len(recordings):
            found.append(_verdict(limit, None, passes=False, position="unmeasured", note="not every recording is measured"))
        else:
            found.append(place(limit, max(numbers) - min(numbers)))
    return tuple(found)


def on_production(limits: Sequence[LimitVerdict], specification: Specification) -> Verdict:
    """The verdict on a production, of the limits on it."""
    return Verdict(
        specification=specification.id,
        version=specification.version,
        role="production",
        passes=all(limit.passes for limit in limits if limit.severity == "must"),
        limits=tuple(limits),
    )


def columns(specification: Specification, unmet: Iterable[str]) -> tuple[Limit, ...]:
    """The limits that have a column on a sheet: on recordings those that must be met, and advice that one of them does not meet
    (`unmet` names the quantities of limits that are not met somewhere); then what is only asked of the production as a whole."""
    anywhere = set(unmet)
    own = [
        limit
        for limit in specification.limits
        if limit.applies_to == "recording" and (limit.severity == "must" or limit.quantity in anywhere)
    ]
    known = {limit.quantity for limit in own}
    whole = [limit for limit in specification.limits if limit.applies_to == "production" and not limit.about.of_package]
    return (*own, *(limit for limit in whole if limit.quantity not in known))
