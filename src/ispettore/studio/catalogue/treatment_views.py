"""What is given out of kept treatments: plain typed data, the same for every caller."""

from datetime import datetime
from uuid import UUID

from pydantic import BaseModel

from ispettore.core.treat.draft import ReadStep
from ispettore.core.treat.keeping import Finish, KeptTreatment


class TreatmentSummary(BaseModel):
    """A kept treatment in the list of them. `runs` counts the attempts that were made by any of its versions; `lacks_reference`
    says that it means one level of the voice and finds any, `voice_dbfs` which level that is, where it is known."""

    id: str
    name: str
    version: int
    description: str
    ships: bool
    finish: Finish
    steps: list[str]
    lacks_reference: bool
    voice_dbfs: float | None
    runs: int
    created_at: datetime | None


class TreatmentVersion(BaseModel):
    """One version: when it was kept (None where it ships) and how many attempts were made by it."""

    version: int
    created_at: datetime | None
    runs: int


class TreatmentUse(BaseModel):
    """A recording that was treated by a kept treatment, the newest attempt of each version."""

    recording_id: UUID
    recording: str
    production_id: UUID
    production: str
    version: int
    changed: bool
    at: datetime
    certified: bool


class TreatmentView(BaseModel):
    """A kept treatment in its newest version, as sentences, with all its versions and where they were used.

    `reference` is the place of the first step that finds any level where it means one; None where a reference level comes first.
    """

    treatment: KeptTreatment
    ships: bool
    removed: bool
    steps: list[ReadStep]
    ready: bool
    reference: int | None
    versions: list[TreatmentVersion]
    uses: list[TreatmentUse]


class ReadTreatment(BaseModel):
    """Steps as they read without any recording, whether they could run, and where a reference level is missing."""

    steps: list[ReadStep]
    ready: bool
    reference: int | None


class GeneralView(BaseModel):
    """What of a draft holds for other recordings: its steps as they read there, and by their titles those that stay behind, as they
    are about `spots` or as a plan sets them for each recording (`finished`). `reference` is the place of the first step that means
    one level of the voice, `voice_dbfs` that level."""

    steps: list[ReadStep]
    spots: list[str]
    finished: list[str]
    reference: int | None
    voice_dbfs: float
