"""How a recording is to be conformed: by a plan, or by a treatment that was drafted or kept."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from sqlmodel import Session

from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.one_sound import Likeness
from ispettore.core.plan.preferences import USUAL_PREFERENCE, Preference
from ispettore.core.treat import kept as kept_treatments
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.studio.tables import Conforming, Planning, Recording


@dataclass(frozen=True)
class KeptUse:
    """The kept treatment that something was made by, and whether it was changed for that."""

    id: str
    version: int
    changed: bool = False


@dataclass(frozen=True)
class Manner:
    """By a plan of a preference; with a `treatment`, by that, whose finish may be planned; with a `likeness`, as near to it as can
    be; within `bounds`, where these are not the usual. `draft` is the state of a draft that is run. `each` asks for plans of every
    preference."""

    preference: Preference = USUAL_PREFERENCE
    treatment: KeptTreatment | None = None
    likeness: Likeness | None = None
    bounds: Bounds | None = None
    kept: KeptUse | None = None
    draft: int | None = None
    each: bool = False

    @property
    def plain(self) -> bool:
        """Whether it is by a plan alone, as every recording is planned for."""
        return self.treatment is None and self.likeness is None and self.bounds is None

    def kept_as(self) -> dict[str, Any]:
        """As rows of attempts and plans keep it."""
        parts = {"treatment": self.treatment, "likeness": self.likeness, "bounds": self.bounds}
        told = {name: part.model_dump(mode="json") if part is not None else None for name, part in parts.items()}
        return {"preference": self.preference, **told}

    def within(self, bounds: Bounds | None) -> "Manner":
        """The same, within these bounds where it names none."""
        return replace(self, bounds=self.bounds or bounds)

    @staticmethod
    def parts(row: Conforming | Planning) -> dict[str, Any]:
        """Treatment, likeness and bounds as a row keeps them, read again; by their names."""
        return {
            "treatment": kept_treatments.kept_treatment(row.treatment) if row.treatment else None,
            "likeness": Likeness.model_validate(row.likeness) if row.likeness else None,
            "bounds": Bounds.model_validate(row.bounds) if row.bounds else None,
        }

    @classmethod
    def by(cls, treatment: KeptTreatment) -> "Manner":
        """By a kept treatment as it is."""
        return cls(treatment=treatment, kept=KeptUse(id=treatment.id, version=treatment.revision))


Decided = Callable[[Session, Recording], Manner]
"""Says it for one recording, once that is known."""
