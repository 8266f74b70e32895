"""Bounds of decency: what the planner may do to a voice. Published and changeable; without them a gate could "pass" any noise."""

from pydantic import BaseModel, ConfigDict, Field


class Bounds(BaseModel):
    """All in dB but the ratio. Limiting and compression are the 99th percentile of gain reduction over speech; `pauses_db` is what
    noise reduction and expansion together may take from the pauses. What is taken from under the words as well (hum, rumble) has
    no bound."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    limiting_db: float = Field(6.0, ge=0, le=24)
    compression_db: float = Field(10.0, ge=0, le=30)
    ratio: float = Field(4.0, ge=1, le=20)
    noise_reduction_db: float = Field(12.0, ge=0, le=18)
    pauses_db: float = Field(18.0, ge=0, le=60)


class Obstacle(BaseModel):
    """Why nothing conforms: the two limits that exclude one another, by how many dB, and what to do."""

    model_config = ConfigDict(frozen=True)

    limits: tuple[str, str]
    shortfall_db: float
    advice: str
