"""What a meter says: readings, findings and spans, as typed data."""

from typing import Literal

from pydantic import BaseModel, ConfigDict

Severity = Literal["note", "warning", "serious"]


class Span(BaseModel):
    """A stretch of time in seconds from the start of the file."""

    model_config = ConfigDict(frozen=True)

    start_s: float
    end_s: float

    @property
    def length_s(self) -> float:
        return self.end_s - self.start_s


class Reading(BaseModel):
    """One measured value with its unit, its method and where it was taken.

    `value` is None where there is no honest number; `note` then says why, and `silence` is True where the reason is that nothing
    sounds. `channel` counts from 1; None means the programme as a whole.
    """

    model_config = ConfigDict(frozen=True)

    quantity: str
    value: float | None
    unit: str
    method: str
    channel: int | None = None
    start_s: float = 0.0
    end_s: float = 0.0
    note: str | None = None
    silence: bool = False
    per_channel: tuple[float | None, ...] = ()


class Finding(BaseModel):
    """A span of time with something to look at, its kind and its measure."""

    model_config = ConfigDict(frozen=True)

    kind: str
    start_s: float
    end_s: float
    channel: int | None = None
    measure: float | None = None
    unit: str = ""
    severity: Severity = "warning"
