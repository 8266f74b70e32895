"""Bounds of decency: what the planner may do to a voice. Published and changeable; without them a gate could "pass" any noise."""

import json
from collections.abc import Sequence
from pathlib import Path

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ispettore.core import errors
from ispettore.core.figures import number, with_unit
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.text import shown_name
from ispettore.core.treat.treatment import STEPS


class Bounds(BaseModel):
    """All in dB but the ratio. Limiting and compression are the 99th percentile of gain reduction over speech, `riding_db` is how
    far level riding may go up and how far down; `pauses_db` is what
    noise reduction and expansion together may take from the pauses. What is taken from under the words as well (hum, rumble) has
    no bound."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    limiting_db: float = Field(6.0, ge=0, le=24)
    compression_db: float = Field(10.0, ge=0, le=30)
    ratio: float = Field(4.0, ge=1, le=20)
    riding_db: float = Field(6.0, ge=0, le=15)
    noise_reduction_db: float = Field(12.0, ge=0, le=18)
    pauses_db: float = Field(18.0, ge=0, le=60)


class Given(BaseModel):
    """What one step brings towards a limit, in dB."""

    model_config = ConfigDict(frozen=True)

    kind: str
    db: float


def told(given: Sequence[Given]) -> str:
    """What each step could have given.

    >>> told((Given(kind="hum-filter", db=3.14), Given(kind="noise-reduction", db=12)))
    'hum filter 3.1 dB, noise reduction 12.0 dB'
    """
    worth = (each for each in given if each.db >= 0.05)
    return ", ".join(f"{STEPS[each.kind].title.lower()} {with_unit(each.db, 'dB')}" for each in worth)


class Obstacle(BaseModel):
    """Why nothing conforms: the two limits that exclude one another, by how many dB, what to do; and what each step could have
    given."""

    model_config = ConfigDict(frozen=True)

    limits: tuple[str, str]
    shortfall_db: float
    advice: str
    could_give: tuple[Given, ...] = ()

    @property
    def told(self) -> str:
        """In a line: the limits, by how much, and what to do."""
        names = " and ".join(dict.fromkeys(QUANTITIES[quantity].title for quantity in self.limits))
        unit = QUANTITIES[self.limits[0]].difference_unit
        short = f" ({number(self.shortfall_db, 1)} {unit} short)" if self.shortfall_db else ""
        return f"{names}{short}: {self.advice}"


def load(path: Path) -> Bounds:
    """Bounds from a JSON file; those it does not name stay as they are. Raises FileMissing or BadBounds."""
    if not path.is_file():
        raise errors.FileMissing(file=shown_name(path))
    try:
        return Bounds.model_validate(json.loads(path.read_text(encoding="utf-8")))
    except ValidationError as error:
        first = error.errors()[0]
        where = ", ".join(str(part) for part in first["loc"])
        unknown = f"there is no such bound; known are {', '.join(Bounds.model_fields)}"
        said = unknown if first["type"] == "extra_forbidden" else first["msg"]
        raise errors.BadBounds(file=shown_name(path), reason=f"{where}: {said}" if where else said) from error
    except (ValueError, RecursionError) as error:
        raise errors.BadBounds(file=shown_name(path), reason="it is not JSON") from error
