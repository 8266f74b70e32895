"""How a recording is to be conformed: by a plan, or by a treatment that was drafted or kept."""

from collections.abc import Callable
from dataclasses import dataclass

from sqlmodel import Session

from ispettore.core.plan.holding import USUAL_PREFERENCE, Preference
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.studio.tables import Recording


@dataclass(frozen=True)
class KeptUse:
    """The kept treatment that something was made by, and whether it was changed for that."""

    id: str
    version: int
    changed: bool = False


@dataclass(frozen=True)
class Manner:
    """By a plan of a preference; with a `treatment`, by that, whose finish may be planned. `draft` is the state of a draft that is
    run."""

    preference: Preference = USUAL_PREFERENCE
    treatment: KeptTreatment | None = None
    kept: KeptUse | None = None
    draft: int | None = None

    @classmethod
    def by(cls, treatment: KeptTreatment) -> "Manner":
        """By a kept treatment as it is."""
        return cls(treatment=treatment, kept=KeptUse(id=treatment.id, version=treatment.revision))


Decided = Callable[[Session, Recording], Manner]
"""Says it for one recording, once that is known."""
