"""A treatment: an ordered list of steps with their settings, as data that can be kept, shared and read."""

import json
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, ValidationError, field_validator, model_validator

from ispettore.core import errors
from ispettore.core.treat.channels import Channels
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.gain import Gain
from ispettore.core.treat.head_and_tail import HeadAndTail
from ispettore.core.treat.limiter import TruePeakLimiter
from ispettore.core.treat.rumble_filter import RumbleFilter
from ispettore.core.treat.sample_rate import SampleRate
from ispettore.core.treat.step import Settings

STEPS: dict[str, type[Settings]] = {
    "channels": Channels,
    "sample-rate": SampleRate,
    "rumble-filter": RumbleFilter,
    "compressor": Compressor,
    "gain": Gain,
    "true-peak-limiter": TruePeakLimiter,
    "head-and-tail": HeadAndTail,
}
"""Every kind of step, in the order in which they belong."""


class Step(BaseModel):
    """One step: its kind, its settings, whether it is on, and why it is there.

    >>> Step(kind="gain", settings={"gain_db": 3}).typed
    Gain(gain_db=3.0)
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: str
    settings: dict[str, Any] = {}
    on: bool = True
    reason: str = ""

    @field_validator("kind")
    @classmethod
    def _known(cls, kind: str) -> str:
        if kind not in STEPS:
            raise ValueError(f"there is no step “{kind}”; known are {', '.join(STEPS)}")
        return kind

    @model_validator(mode="after")
    def _fits(self) -> "Step":
        STEPS[self.kind].model_validate(self.settings)
        return self

    @property
    def typed(self) -> Settings:
        return STEPS[self.kind].model_validate(self.settings)

    def with_settings(self, **changes: Any) -> "Step":
        """The same step with some settings changed."""
        return self.model_copy(update={"settings": {**self.settings, **changes}})


class Treatment(BaseModel):
    """Steps in order. `version` is the version of this format."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    version: Literal[1] = 1
    name: str = ""
    steps: tuple[Step, ...] = ()

    def find(self, kind: str) -> Step | None:
        """The first step of a kind, or None."""
        return next((step for step in self.steps if step.kind == kind), None)

    def replacing(self, kind: str, **changes: Any) -> "Treatment":
        """A copy in which the settings of the steps of one kind are changed."""
        steps = tuple(step.with_settings(**changes) if step.kind == kind else step for step in self.steps)
        return self.model_copy(update={"steps": steps})


def load(path: Path) -> Treatment:
    """Read a treatment from a JSON file. Raises BadTreatment with the reason."""
    try:
        return Treatment.model_validate(json.loads(path.read_text(encoding="utf-8")))
    except OSError as error:
        raise errors.FileUnreadable(file=path.name, reason=error.strerror or str(error)) from error
    except ValidationError as error:
        first = error.errors()[0]
        where = " → ".join(str(part) for part in first["loc"])
        raise errors.BadTreatment(file=path.name, reason=f"{where}: {first['msg']}" if where else first["msg"]) from error
    except ValueError as error:
        raise errors.BadTreatment(file=path.name, reason="it is not JSON") from error
