"""Treatments that are kept for other recordings: what of a treatment holds there too, and its file.

A threshold means something only for a voice that comes in at a known level, so a treatment with one asks for a reference level
before it. Spots belong to the recording they were chosen in, and stay behind. What sets the level, holds peaks and lays the ends
may be left to a plan (`finish`), which then works on what the kept steps leave of each recording, and adds what cleaning and
mending its limits ask for besides.
"""

import json
from collections.abc import Sequence
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from ispettore.core import errors
from ispettore.core.measure.inspection import Inspection
from ispettore.core.text import shown_name
from ispettore.core.treat import order
from ispettore.core.treat.treatment import STEPS, VERSION, Step, Treatment

Finish = Literal["given", "planned"]
LARGEST_BYTES = 1024 * 1024
USUAL_LEVEL_DBFS = -24.0
LEVEL = "active_speech_level_dbfs"
"""What a reference level brings to its target: of the levels, it alone does not depend on how long somebody pauses."""

FINISHING = ("gain", "final-level", "true-peak-limiter", "head-and-tail")
"""What a plan sets for each recording where the finish is planned."""

_SHIPPED = resources.files("ispettore.core.treat") / "shipped"


class KeptTreatment(Treatment):
    """A treatment with what it is kept by: its identifier (empty where it has none yet), its version among those kept under it,
    what it is for, and whether its finish is as given or planned for each recording."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    id: str = Field("", max_length=80, pattern=r"^([a-z0-9][a-z0-9-]*)?$")
    revision: int = Field(1, ge=1)
    description: str = Field("", max_length=2_000)
    finish: Finish = "given"
    voice_dbfs: float | None = Field(None, ge=-100, le=0)
    """The active speech level that its thresholds were set for, where no reference level comes before them; None where unknown."""

    @model_validator(mode="after")
    def _of_no_recording(self) -> Self:
        if any(STEPS[step.kind].adds_sound for step in self.steps):
            raise ValueError("a bed belongs to the recording that it lies under; leave it out of a treatment")
        return self

    @property
    def named(self) -> str:
        """Its name with its version, as a record of a run names it."""
        return f"{self.name}, version {self.revision}" if self.id else self.name


class General(BaseModel):
    """What of a treatment holds for other recordings, and what had to stay behind, by the titles of its steps."""

    model_config = ConfigDict(frozen=True)

    steps: tuple[Step, ...]
    spots: tuple[str, ...] = ()
    """Steps about spots of one recording."""

    finished: tuple[str, ...] = ()
    """Steps that are planned for each recording."""


def general(steps: Sequence[Step], *, finish: Finish) -> General:
    """Steps as they are kept: without what was learned, said and chosen for one recording alone.

    >>> found = general([Step(kind="spot-gain"), Step(kind="gain", settings={"gain_db": 3})], finish="planned")
    >>> found.steps, found.spots, found.finished
    ((), ('Spot gain',), ('Gain',))
    """
    kept, spots, finished = [], [], []
    for step in steps:
        there = step.typed.elsewhere()
        if there is None:
            spots.append(step.typed.title)
        elif finish == "planned" and step.kind in FINISHING:
            finished.append(step.typed.title)
        else:
            settings = step.settings if there == step.typed else there.model_dump(mode="json", exclude_defaults=True)
            kept.append(Step(kind=step.kind, settings=settings, on=step.on))
    return General(steps=tuple(kept), spots=tuple(spots), finished=tuple(finished))


def lacks_reference(steps: Sequence[Step]) -> int | None:
    """Where a reference level is missing: the place of the first step that means one level of the voice and finds any.

    >>> compressor = Step(kind="compressor", settings={"threshold_dbfs": -24})
    >>> lacks_reference([Step(kind="rumble-filter"), compressor]), lacks_reference([Step(kind="reference-level"), compressor])
    (1, None)
    """
    for place, step in enumerate(steps):
        if not step.on:
            continue
        if step.kind in ("reference-level", "final-level"):
            return None
        if step.typed.meets_level():
            return place
    return None


def with_reference(steps: Sequence[Step], target_dbfs: float | None = None) -> tuple[Step, ...]:
    """The steps with a reference level where one is missing, which brings active speech to a target in dBFS, by default the
    usual."""
    place = lacks_reference(steps)
    if place is None:
        return tuple(steps)
    target = USUAL_LEVEL_DBFS if target_dbfs is None else round(min(0.0, max(-60.0, target_dbfs)), 1)
    added = Step(kind="reference-level", settings={"quantity": LEVEL, "target_db": target})
    return (*steps[:place], added, *steps[place:])


def level_of(inspection: Inspection, steps: Sequence[Step]) -> float:
    """The level of the voice in dBFS for which steps were set: that of the recording they were set for, where they meet it."""
    place = lacks_reference(steps)
    before = sum(step.settings["gain_db"] for step in steps[: place or 0] if step.on and step.kind == "gain")
    level = inspection.value(LEVEL)
    return USUAL_LEVEL_DBFS if level is None else level + before


def parted(steps: Sequence[Step]) -> tuple[tuple[Step, ...], tuple[Step, ...]]:
    """Of the steps that are on, those before and after the place where a plan adds what a recording needs of mending and cleaning:
    repairing and cleaning first, the known level with tone and dynamics behind. What a plan finishes with is left out.

    >>> early, late = parted([Step(kind="rumble-filter"), Step(kind="reference-level"), Step(kind="de-esser"), Step(kind="gain",
    ...     settings={"gain_db": 1})])
    >>> [step.kind for step in early], [step.kind for step in late]
    (['rumble-filter'], ['reference-level', 'de-esser'])
    """
    on = [step for step in steps if step.on and step.kind not in FINISHING]
    level = order.stage_of("reference-level")
    place = next((number for number, step in enumerate(on) if order.stage_of(step.kind) >= level), len(on))
    return tuple(on[:place]), tuple(on[place:])


@cache
def shipped() -> dict[str, KeptTreatment]:
    """The treatments that ship as starting points, by identifier, in the order of their file names."""
    entries = sorted((entry for entry in _SHIPPED.iterdir() if entry.name.endswith(".json")), key=lambda entry: entry.name)
    found = [KeptTreatment.model_validate(json.loads(entry.read_text(encoding="utf-8"))) for entry in entries]
    return {one.id: one for one in found}


def schema() -> dict[str, Any]:
    """The JSON Schema of a treatment's file, each kind of step with its own settings (docs/treatment.schema.json)."""
    made = KeptTreatment.model_json_schema()
    step = made["$defs"].pop("Step")
    kinds, shared = [], {}
    for kind, settings in STEPS.items():
        if settings.adds_sound:  # it belongs to a recording
            continue
        own = settings.model_json_schema(ref_template="#/$defs/{model}")
        shared.update(own.pop("$defs", {}))
        properties = {**step["properties"], "kind": {"const": kind}, "settings": own}
        needed = ["kind", "settings"] if own.get("required") else ["kind"]
        one = {"type": "object", "title": settings.title, "properties": properties, "required": needed}
        kinds.append({**one, "additionalProperties": False})
    made["properties"]["steps"]["items"] = {"oneOf": kinds}
    made["properties"]["version"] = {"enum": [*range(1, VERSION + 1)], "default": VERSION}
    made["properties"]["$schema"] = {"type": "string"}
    made["$defs"] = shared
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": f"ispettore-treatment-{VERSION}", **made}


def load(path: Path) -> KeptTreatment:
    """Read a treatment from a JSON file. Raises FileUnreadable, or BadTreatment with the reason."""
    try:
        return parse(path.read_bytes(), name=shown_name(path))
    except OSError as error:
        raise errors.FileUnreadable(file=shown_name(path), reason=error.strerror or str(error)) from error


def parse(text: str | bytes, *, name: str) -> KeptTreatment:
    """A treatment from its JSON. Raises BadTreatment with the reason."""
    if len(text) > LARGEST_BYTES:
        raise errors.BadTreatment(file=name, reason="it is larger than 1 MB, which no treatment is")
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise errors.BadTreatment(file=name, reason="it is not JSON") from error
    if not isinstance(data, dict):
        raise errors.BadTreatment(file=name, reason="it is not a JSON object")
    try:
        return KeptTreatment.model_validate({key: value for key, value in data.items() if key != "$schema"})
    except ValidationError as error:
        first = error.errors()[0]
        where = " → ".join(str(part) for part in first["loc"])
        said = first["msg"].removeprefix("Value error, ")
        raise errors.BadTreatment(file=name, reason=f"{where}: {said}" if where else said) from error


def as_file(treatment: KeptTreatment) -> dict[str, Any]:
    """What is written into a treatment's file."""
    told = treatment.model_dump(mode="json", exclude_defaults=True)
    return {"$schema": schema()["$id"], "version": VERSION, **told, "revision": treatment.revision}
