"""A treatment: an ordered list of steps with their settings, as data that can be kept, shared and read."""

from collections.abc import Sequence
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from ispettore.core.treat.bed import Bed
from ispettore.core.treat.breath_softening import BreathSoftening
from ispettore.core.treat.channels import Channels
from ispettore.core.treat.click_repair import ClickRepair
from ispettore.core.treat.clip_repair import ClipRepair
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.de_esser import DeEsser
from ispettore.core.treat.expander import Expander
from ispettore.core.treat.gain import Gain
from ispettore.core.treat.head_and_tail import HeadAndTail
from ispettore.core.treat.hum_filter import HumFilter
from ispettore.core.treat.level_riding import LevelRiding
from ispettore.core.treat.levels import FinalLevel, ReferenceLevel
from ispettore.core.treat.limiter import TruePeakLimiter
from ispettore.core.treat.multiband import MultibandCompressor
from ispettore.core.treat.noise_reduction import NoiseReduction
from ispettore.core.treat.room_tone_fill import RoomToneFill
from ispettore.core.treat.rumble_filter import RumbleFilter
from ispettore.core.treat.sample_rate import SampleRate
from ispettore.core.treat.spot_gain import SpotGain
from ispettore.core.treat.step import Settings
from ispettore.core.treat.tone import ResonanceSearch, Tone
from ispettore.core.treat.tone_match import ToneMatch

STEPS: dict[str, type[Settings]] = {
    "channels": Channels,
    "sample-rate": SampleRate,
    "clip-repair": ClipRepair,
    "click-repair": ClickRepair,
    "room-tone-fill": RoomToneFill,
    "rumble-filter": RumbleFilter,
    "hum-filter": HumFilter,
    "noise-reduction": NoiseReduction,
    "breath-softening": BreathSoftening,
    "expander": Expander,
    "reference-level": ReferenceLevel,
    "tone": Tone,
    "resonance-search": ResonanceSearch,
    "tone-match": ToneMatch,
    "de-esser": DeEsser,
    "spot-gain": SpotGain,
    "level-riding": LevelRiding,
    "multiband-compressor": MultibandCompressor,
    "compressor": Compressor,
    "bed": Bed,
    "gain": Gain,
    "final-level": FinalLevel,
    "true-peak-limiter": TruePeakLimiter,
    "head-and-tail": HeadAndTail,
}
"""Every kind of step, in the order in which they belong."""


class Step(BaseModel):
    """One step: its kind, its settings, whether it is on, why it is there, and what it learned where it ran last.

    What was learned belongs to a recording: a step that runs again learns anew.

    >>> Step(kind="gain", settings={"gain_db": 3}).typed
    Gain(gain_db=3.0)
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: str
    settings: dict[str, Any] = {}
    on: bool = True
    reason: str = ""
    learned: dict[str, Any] = {}

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


VERSION: Literal[3] = 3


class Treatment(BaseModel):
    """Steps in order. `version` is the version of this format; older ones are read by `migrated`."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    version: Literal[3] = VERSION
    name: str = Field("", max_length=200)
    steps: tuple[Step, ...] = Field((), max_length=64)

    @model_validator(mode="before")
    @classmethod
    def _of_now(cls, data: Any) -> Any:
        return migrated(data) if isinstance(data, dict) else data

    def find(self, kind: str) -> Step | None:
        """The first step of a kind, or None."""
        return next((step for step in self.steps if step.kind == kind), None)

    def replacing(self, kind: str, **changes: Any) -> "Treatment":
        """A copy in which the settings of the steps of one kind are changed."""
        steps = tuple(step.with_settings(**changes) if step.kind == kind else step for step in self.steps)
        return self.model_copy(update={"steps": steps})

    def having_learned(self, learned: Sequence[dict[str, Any]]) -> "Treatment":
        """A copy in which the steps that are on say what they learned, in order."""
        rest = iter(learned)
        steps = tuple(step.model_copy(update={"learned": next(rest, {})}) if step.on else step for step in self.steps)
        return self.model_copy(update={"steps": steps})


def migrated(data: dict[str, Any]) -> dict[str, Any]:
    """A treatment's JSON as this version has it. Raises ValueError for a newer one.

    Version 1 knew no `learned`, and version 2 nothing of what a treatment is kept with (`keeping.py`); both called everything else
    what it is called now.

    >>> migrated({"version": 1, "steps": []})
    {'version': 3, 'steps': []}
    """
    version = data.get("version", VERSION)
    if version in (1, 2):
        return {**data, "version": VERSION}
    if isinstance(version, int) and version > VERSION:
        raise ValueError(f"it is of version {version}; this program knows treatments up to version {VERSION}")
    return data
