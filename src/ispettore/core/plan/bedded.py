"""A bed under the voice as a plan sees it: what is laid, and what that does to the plan."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict

from ispettore.core.audio.writing import OutputFormat
from ispettore.core.figures import number
from ispettore.core.spec.specification import Specification
from ispettore.core.treat.bed import Bed, Mix
from ispettore.core.treat.treatment import Step

Reason = Literal["", "bed", "voice"]


@dataclass(frozen=True)
class Laid:
    """A bed, and its sounds by the hashes of their bytes: files that seek exactly."""

    bed: Bed
    sounds: Mapping[str, Path] = field(default_factory=dict)

    @property
    def step(self) -> Step:
        """The bed as a step of a treatment."""
        return Step(kind="bed", settings=self.bed.model_dump(mode="json", exclude_defaults=True), reason=told(self.bed))


def within(laid: Laid | None, specification: Specification, form: OutputFormat | None = None) -> Laid | None:
    """A bed as it can be delivered: in stereo only where two channels may be."""
    limit, most = specification.limit("channels"), form.written.most_channels if form is not None else 2
    if laid is None or not laid.bed.stereo or (most > 1 and (limit is None or limit.high is None or limit.high > 1)):
        return laid
    return Laid(laid.bed.model_copy(update={"stereo": False}), laid.sounds)


class UnderVoice(BaseModel):
    """What the bed does to a plan. `mix` is of the trial that the plan was made from; `limiting_alone_db` what the voice would need
    without the bed. `reason` says whose fault it is that the mix is limited, or can't conform; empty where it need not be."""

    model_config = ConfigDict(frozen=True)

    mix: Mix
    limiting_alone_db: float
    reason: Reason = ""
    said: str = ""


def told(bed: Bed) -> str:
    """A bed in a sentence, as a list of steps tells it.

    >>> from ispettore.core.treat.bed import Clip
    >>> told(Bed(clips=(Clip(sound="ab", name="pad.wav", out_s=9, level_lu=-14),)))
    '“pad.wav” 14.0 LU under the voice; lowered by another 8.0 dB while somebody speaks.'
    """
    parts = [f"“{clip.name or clip.sound[:8]}” {_against(clip.level_lu)}" for clip in bed.clips]
    lowered = f"; lowered by another {number(bed.lower_db, 1)} dB while somebody speaks" if bed.lower_db else ""
    return f"{', '.join(parts)}{lowered}." if parts else "Nothing is laid under the voice."


def _against(level_lu: float) -> str:
    if not level_lu:
        return "as loud as the voice"
    return f"{number(abs(level_lu), 1)} LU {'over' if level_lu > 0 else 'under'} the voice"
