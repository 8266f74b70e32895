"""What writing a file does to what it reads: the master before, the decoded file after."""

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure import noise_floor
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.spec import standing
from ispettore.core.spec.quantities import quantity
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Verdict, place
from ispettore.core.treat.runner import Run

TOLD = ("rms_dbfs", "integrated_loudness_lufs", "sample_peak_dbfs", "true_peak_dbtp", "noise_floor_dbfs")
"""What is told of it, in order: level, peaks and noise."""


class Master(BaseModel):
    """The treated recording before it was written: its length in samples and at which rate, and what it read, by quantity. Its
    noise floor was measured in the pauses that the written file has."""

    model_config = ConfigDict(frozen=True)

    frames: int
    sample_rate_hz: int
    readings: dict[str, float]


class Moved(BaseModel):
    """One reading before and after writing; None where there is none."""

    model_config = ConfigDict(frozen=True)

    quantity: str
    title: str
    unit: str
    difference_unit: str
    before: float | None
    after: float | None


class Effect(BaseModel):
    """What writing did: to level, peaks and noise; and by how many samples the decoded file is longer (at its own rate)."""

    model_config = ConfigDict(frozen=True)

    changes: tuple[Moved, ...]
    longer_by: int


def master(run: Run, before: Basis, written: Measured) -> Master:
    """What a run came to before it was written. Without any step it is the recording itself."""
    if run.heard is None or not run.ledger:
        facts = before.inspection.facts
        readings = {name: before.inspection.value(name) for name in TOLD}
        return Master(frames=facts.frames, sample_rate_hz=facts.sample_rate_hz, readings=_known(readings))
    last = run.ledger[-1].readings
    readings = {name: reading.value for name, reading in last.items()}
    if len(run.heard.cells) >= written.passages.cells:
        room = noise_floor.as_passed(run.heard.cells, written.passages, last)
        readings[room.quantity] = room.value
    return Master(frames=run.heard.frames, sample_rate_hz=run.sample_rate_hz, readings=_known(readings))


def _known(readings: dict[str, float | None]) -> dict[str, float]:
    return {name: value for name, value in readings.items() if value is not None}


def effect(master: Master, after: Inspection) -> Effect:
    """What writing did to a master."""
    changes = []
    for name in TOLD:
        about = quantity(name)
        change = Moved(
            quantity=name,
            title=about.title,
            unit=about.unit,
            difference_unit=about.difference_unit,
            before=master.readings.get(name),
            after=after.value(name),
        )
        changes.append(change)
    facts = after.facts
    expected = round(master.frames * facts.sample_rate_hz / master.sample_rate_hz)
    return Effect(changes=tuple(changes), longer_by=facts.frames - expected)


def correction(verdict: Verdict, master: Master, after: Inspection, specification: Specification) -> str:
    """Why a round was followed by another, in a sentence: what the written file missed, and whether the master had met it."""
    return f"{'; '.join(_said(limit, master, after, specification) for limit in verdict.missed)}. It was planned and written again."


def _said(missed: LimitVerdict, master: Master, after: Inspection, specification: Specification) -> str:
    if not isinstance(missed.reading, float | int):
        return f"{missed.title} could not be measured in the finished file"
    reads = f"{missed.title} was {standing.reading(missed, more=1)} {standing.unit(missed)} in the finished file, outside its limit"
    was, raw, limit = master.readings.get(missed.quantity), after.value(missed.quantity), specification.limit(missed.quantity)
    if was is None or raw is None or limit is None:
        return reads
    before = place(limit, was + missed.reading - raw)  # what is judged may be more than what is read: one voice on two loudspeakers
    return f"{reads}; before encoding it was {standing.reading(before, more=1)}" if before.passes else reads
