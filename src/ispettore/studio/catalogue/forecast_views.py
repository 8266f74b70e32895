"""How a production is to be conformed, and what that will bring: plain typed data, the same for every caller."""

from uuid import UUID

from pydantic import BaseModel

from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.preferences import Preference
from ispettore.studio.catalogue.views import PlanView
from ispettore.studio.jobs.works import WorkView


class Approach(BaseModel):
    """How a production is to be conformed: by plans of a preference (the usual one, where none is named), or by a kept treatment
    (its identifier), with a reference level put in where it lacks one if `reference` is true; each for itself, or as one sound.
    Then tones are brought together too if `tone` is true, and the recording `like`, where one is named, is what the others come
    towards."""

    preference: Preference | None = None
    treatment: str | None = None
    reference: bool = False
    one_sound: bool = False
    tone: bool = True
    like: UUID | None = None
    bounds: Bounds | None = None


class ForecastRow(BaseModel):
    """What will be done to one recording: its plan, once that is made (`work` until then), or what stands in the way.
    `speech_dbfs`, `room_dbfs` and `tone_apart_db` are how it is now against the others, those expected how it will be; `voice`
    counts the voices from the lowest. `given` says that it runs as it was saved, and is not foretold. `remarks` say in what it
    stays unlike the others. `settled` says that it was made just so already."""

    id: UUID
    name: str
    position: int
    measured: bool
    given: bool
    work: WorkView | None
    plan: PlanView | None
    obstacles: list[Obstacle]
    speech_dbfs: float | None
    speech_expected_dbfs: float | None
    room_dbfs: float | None
    room_expected_dbfs: float | None
    tone_apart_db: float | None
    tone_expected_db: float | None
    voice: int | None
    remarks: list[str]
    settled: bool


class ForecastSpread(BaseModel):
    """How far recordings are apart in one respect, now and as expected, in dB."""

    title: str
    before: float | None
    after: float | None


class Forecast(BaseModel):
    """What conforming a production in one manner will bring. `aim` is what they are to have in common, in words, where anything is.
    `done` says that every plan is made."""

    rows: list[ForecastRow]
    aim: str
    spreads: list[ForecastSpread]
    will_run: int
    can_not: int
    settled: int
    done: bool
