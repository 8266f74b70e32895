"""A certificate held against its file, figure by figure: facts, readings, and the verdict that has to follow from them."""

import math
from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.facts import FileFacts
from ispettore.core.certify import forms
from ispettore.core.figures import clock, number
from ispettore.core.measure import methods_history
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.kept import current_name
from ispettore.core.measure.reading import Reading
from ispettore.core.spec import kept
from ispettore.core.spec.quantities import quantity as about
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Verdict, judge, place

ROUNDED = 2e-4
"""How far a verdict's figure may lie from the reading it is of, which is certified to four decimals."""

_TITLES = {"bit_rate_constant": "Bit rate kind", "frames": "Length in samples", "size_bytes": "Size in bytes", "tags": "Tags"}


class Compared(BaseModel):
    """How much of a certificate was held against the file: readings measured again, facts, and limits judged again; over how many
    files, where it is of a production."""

    model_config = ConfigDict(frozen=True)

    readings: int = 0
    facts: int = 0
    limits: int = 0
    files: int = 0


class Differing(BaseModel):
    """A reading or fact that older methods gave another figure for."""

    model_config = ConfigDict(frozen=True)

    title: str
    certified: str
    measured: str


class Comparison:
    """A certificate held against its file, figure by figure."""

    def __init__(self, certificate: forms.FileCertificate, measured: Inspection) -> None:
        self.problems: list[str] = []
        self.older: list[Differing] = []
        self._certificate, self._measured = certificate, measured
        self._since = certificate.methods_version
        self._certified = {current_name(name): reading for name, reading in certificate.readings.items()}
        self._facts()
        self._readings()
        specification = kept.specification(certificate.specification.model_dump())
        self.limits = self._limits(specification)
        self.compared = Compared(
            readings=len(self._certified), facts=len(certificate.facts.model_fields_set), limits=len(self.limits)
        )

    def _differs(self, name: str, title: str, certified: str, measured: str) -> None:
        """Note a difference: as one of methods where these changed since, else as a problem."""
        if methods_history.may_differ(name, since=self._since):
            self.older.append(Differing(title=title, certified=certified, measured=measured))
        else:
            self.problems.append(f"{title} is certified as {certified} but measures {measured}.")

    def _facts(self) -> None:
        certified, measured = FileFacts.model_validate(self._certificate.facts.model_dump()), self._measured.facts
        for name in forms.FactsForm.model_fields:
            if name not in self._certificate.facts.model_fields_set:
                continue
            one, other = getattr(certified, name), getattr(measured, name)
            alike = math.isclose(one, other, rel_tol=1e-9) if isinstance(one, float) and isinstance(other, float) else one == other
            if not alike:
                self._differs(name, title_of(name), told(name, one), told(name, other))

    def _readings(self) -> None:
        again = self._measured.readings
        for name, certified in self._certified.items():
            title, measured = about(name).title, again.get(name)
            if measured is None:
                self._differs(name, title, _figure(certified.value, certified.unit), "nothing")
                continue
            near = about(name).remeasured + 1e-4  # certified to four decimals
            one, other = certified.value, measured.value
            alike = one is other is None or (one is not None and other is not None and abs(one - other) <= near)
            if not alike or certified.unit != measured.unit:
                self._differs(name, title, _figure(one, certified.unit), _figure(other, measured.unit))
        for name in again.keys() - self._certified.keys():
            if not methods_history.may_differ(name, since=self._since):
                self.problems.append(f"{about(name).title} is missing from the certificate.")

    def _silent(self, name: str) -> bool:
        """Whether a reading has no value because nothing sounds: the file says so, a certificate doesn't."""
        measured = self._measured.readings.get(name)
        return measured is not None and measured.silence

    def _limits(self, specification: Specification) -> tuple[LimitVerdict, ...]:
        """Every limit judged again: by the certified figures, from which the verdict has to follow, and by the measured ones."""
        readings = {name: Reading(quantity=name, silence=self._silent(name), **dict(one)) for name, one in self._certified.items()}
        facts = FileFacts.model_validate(self._certificate.facts.model_dump())
        stated = self._measured.model_copy(update={"readings": readings, "facts": facts})
        own = judge(stated, specification, role="deliverable")
        self.problems += unlike(self._certificate.verdict, own, specification)
        self.problems += [
            f"By its own readings the file does not meet {specification.name}: {limit.title}."
            for limit in own.missed
            if limit.margin is None or limit.margin < -ROUNDED
        ]
        now = judge(self._measured, specification, role="deliverable")
        for limit in now.missed:
            if not methods_history.may_differ(limit.quantity, since=self._since):
                self.problems.append(f"The file does not meet {specification.name}: {limit.title}.")
        return own.limits


def unlike(stated: forms.VerdictForm, own: Verdict, specification: Specification) -> Iterator[str]:
    """Where a stated verdict does not follow from the readings beside it."""
    said, wanted = {current_name(one.quantity): one for one in stated.limits}, {one.quantity: one for one in own.limits}
    if len(said) != len(stated.limits) or said.keys() != wanted.keys():
        yield "The verdict does not judge just the limits of the specification."
    for name in said.keys() & wanted.keys():
        one, other = said[name], wanted[name]
        bounds_alike = all(
            getattr(one, key) == getattr(other, key) for key in ("low", "high", "one_of", "severity", "applies_to", "unit", "guard")
        )
        figures_alike = _close(one.reading, other.reading) and _close(one.margin, other.margin)
        if not (bounds_alike and figures_alike and (one.passes, one.position) in _sides(other, specification)):
            yield f"What the verdict says of {other.title} does not follow from the certificate's own readings."


def _sides(judged: LimitVerdict, specification: Specification) -> set[tuple[bool, str]]:
    """Where a reading may be said to stand: at a bound, and where near begins, the decimals that were rounded off decide."""
    limit = specification.limit(judged.quantity)
    found: set[tuple[bool, str]] = {(judged.passes, judged.position)}
    if limit is not None and isinstance(judged.reading, float):
        found |= {(at.passes, at.position) for at in (place(limit, judged.reading + by) for by in (-ROUNDED, ROUNDED))}
    return found


def _close(one: float | str | None, other: float | str | None) -> bool:
    if isinstance(one, int | float) and isinstance(other, int | float):
        return abs(one - other) <= ROUNDED
    return one == other


def title_of(fact: str) -> str:
    """What a fact of a file is called."""
    return _TITLES.get(fact) or about(fact).title


def _figure(value: float | None, unit: str) -> str:
    return "nothing" if value is None else f"{number(value, 2)} {unit}".strip()


def told(name: str, value: Any) -> str:
    """A fact as a person reads it."""
    match value:
        case None:
            return "nothing"
        case bool():
            return "constant" if value else "variable"
        case float() if about(name).clock:
            return clock(value, 2)
        case int() | float():
            return f"{number(value, 2 if isinstance(value, float) else 0)} {about(name).unit}".strip()
        case dict():
            return "; ".join(f"{key} {', '.join(texts)}" for key, texts in value.items()) or "nothing"
    return str(value)
