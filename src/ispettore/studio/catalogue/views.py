"""What the services give out: plain typed data, the same for every caller."""

from datetime import datetime
from typing import Literal
from uuid import UUID

import numpy as np
from pydantic import BaseModel, Field, SkipValidation

from ispettore.core.audio.facts import FileFacts
from ispettore.core.audio.formats import FormatName
from ispettore.core.measure.chosen_tone import ChosenTone
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Finding, Reading
from ispettore.core.measure.ribbon import Ribbon
from ispettore.core.plan.bedded import UnderVoice
from ispettore.core.plan.bounds import Obstacle
from ispettore.core.plan.closing import Closing
from ispettore.core.plan.preferences import Preference
from ispettore.core.plan.remedies import Left
from ispettore.core.plan.window import GainWindow
from ispettore.core.spec.breaches import Breach
from ispettore.core.spec.objections import Objection
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Verdict
from ispettore.core.spec.wording import Piece
from ispettore.core.treat.bed import Mix
from ispettore.core.treat.draft import ReadStep
from ispettore.core.treat.runner import LedgerLine
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step
from ispettore.studio.jobs.works import WorkView


class RibbonView(BaseModel):
    """A miniature ribbon: levels in dBFS per column, −80 at the least."""

    rms_dbfs: list[float]
    peak_dbfs: list[float]

    @classmethod
    def of(cls, found: Ribbon) -> "RibbonView":
        """Of a ribbon, to a tenth of a decibel."""
        return cls(rms_dbfs=found.rms_dbfs.round(1).tolist(), peak_dbfs=found.peak_dbfs.round(1).tolist())

    def drawn(self) -> Ribbon:
        """As the core draws it."""
        return Ribbon(np.array(self.rms_dbfs), np.array(self.peak_dbfs))


class FindingView(Finding):
    """A finding with how it is called and what mends it; what its kind means stands in the methods.

    `accepted` says why it may stand, where somebody accepted it; it is empty otherwise.
    """

    title: str
    advice: str
    accepted: str


class FindingPlace(BaseModel):
    """What names one finding of a recording."""

    kind: str = Field(max_length=80)
    start_s: float
    end_s: float


class ResultView(BaseModel):
    """What is needed of the written file to play it beside its source, and its readings where one recording is looked at."""

    sample_rate_hz: int
    frames: int
    head_s: float | None
    integrated_loudness_lufs: float | None
    readings: dict[str, Reading] = {}


class SpecificationName(BaseModel):
    """Which specification something was made for, in which version."""

    id: str
    name: str
    version: int


class FormatView(BaseModel):
    """A format that can be asked for; `name` is empty for what the specification asks for. `meets` says whether a file in it can
    meet the specification's limits on the file."""

    name: FormatName | Literal[""]
    title: str
    meets: bool


class KeptUseView(BaseModel):
    """The kept treatment that something was made by, and whether it was changed for that."""

    id: str
    version: int
    changed: bool
    name: str


class RefusedRecording(BaseModel):
    """A recording that something could not be asked for, and why."""

    id: UUID
    reason: str


class AskedEach(BaseModel):
    """What came of asking something for many recordings: what was begun, what is there already just so, and what could not be."""

    asked: list[UUID]
    settled: list[UUID]
    refused: list[RefusedRecording]


class ConformingView(BaseModel):
    """One attempt to conform a recording. The `ledger` of its steps comes only where one recording is looked at.

    Verdicts are by the specification that the production has now: `before` of the recording, `after` of the written file, whose
    kept readings are judged anew. `made_for` is what it was conformed to; `current` says whether that is the same in the same
    version. `draft` is the state of the draft that it ran, if any; `made_by` says by what it was made, and `own` that
    this was no plan, and `closing` is then the smallest change that should close what it missed. A
    certificate counts (`certified`) only for what it was made for; `certificate_for` names that, where there is a certificate.
    `handed_over_at` is when somebody said that the file was delivered, `chosen_at` when somebody chose this attempt as the one that
    counts, `cleared_at` when its file was cleared away. `number` counts attempts from the first; 0 where one stands alone.
    `refused` says that it ended without a file; why, `obstacles` say, as long as it is current.
    """

    id: UUID
    made_for: SpecificationName
    current: bool
    certificate_for: SpecificationName | None
    certificate: UUID | None
    refused: bool
    older_methods: bool
    recording_id: UUID
    created_at: datetime
    # What was asked once may be offered no more.
    preference: SkipValidation[Preference]
    container: SkipValidation[FormatName]
    work: WorkView | None
    passes: bool | None
    own: bool
    made_by: str
    one_sound: bool
    kept: KeptUseView | None
    draft: int | None
    closing: Closing | None
    steps: list[Step]
    touch: Touch | None
    window: GainWindow | None
    obstacles: list[Obstacle]
    ledger: list[LedgerLine]
    mix: Mix | None = None
    under: UnderVoice | None = None
    out_of_order: list[str]
    before: Verdict | None
    after: Verdict | None
    rounds: int
    file_name: str | None
    size_bytes: int | None
    sha256: str | None
    certified: bool
    handed_over_at: datetime | None
    chosen_at: datetime | None
    cleared_at: datetime | None
    number: int
    as_edited: bool
    result: ResultView | None


class RecordingView(BaseModel):
    """A row of the inspection sheet.

    `conforming` is the newest attempt to conform it; `delivered` the one whose file counts: certified for the specification of now
    before any other, else the newest with a file. `older_methods` says that it still
    waits to be measured by the methods of now. `known_as` changes with its edits.
    """

    id: UUID
    production_id: UUID
    position: int
    name: str
    created_at: datetime
    size_bytes: int
    sha256: str
    known_as: str
    edited: bool
    same_as: str | None
    work: WorkView | None
    facts: FileFacts | None
    verdict: Verdict | None
    ribbon: RibbonView | None
    conforming: ConformingView | None
    delivered: ConformingView | None
    older_methods: bool


class LimitChange(BaseModel):
    """One limit with the reading as it is and as it would be."""

    before: LimitVerdict
    after: LimitVerdict


class ChosenToneView(ChosenTone):
    """A span as room tone: `was` are the readings it would change, `limits` those limits that are on them."""

    was: dict[str, Reading]
    limits: list[LimitChange]


class EarlierVersion(BaseModel):
    """A file that another took the place of."""

    id: UUID
    name: str
    created_at: datetime


class PlanView(BaseModel):
    """A plan beside others: what it does, in sentences with their reasons, what the file is expected to read against every
    limit, and what it leaves of what was found. `window` is the gain window it leaves, `gain_db` where its gain stands in
    it; `predicted` are readings that are expected, by quantity; `under` is what a bed does to it."""

    preference: Preference
    touch: Touch
    steps: list[ReadStep]
    limits: list[LimitVerdict]
    leaves: list[Left]
    window: GainWindow
    gain_db: float
    predicted: dict[str, float]
    under: UnderVoice | None = None


class PlanningView(BaseModel):
    """The plans for a recording, gentlest first; `obstacles` where there is none. `kept` is the kept treatment that they begin
    with, if any."""

    work: WorkView | None
    plans: list[PlanView]
    obstacles: list[Obstacle]
    kept: KeptUseView | None = None


class DraftView(BaseModel):
    """A draft as it is at one of its states (`number`). `undo` and `redo` say what would be undone or done again, empty where
    nothing would. `plan` is the plan it began with, or `kept` the kept treatment; `differs` is what it is now against that."""

    number: int
    steps: list[ReadStep]
    ready: bool
    undo: str
    redo: str
    plan: Preference | None
    kept: KeptUseView | None
    differs: list[str]


class Named(BaseModel):
    """A recording by its name."""

    id: UUID
    name: str


class RecordingDetail(RecordingView):
    """One recording with all its readings, its gain window and every attempt to conform it.

    `replaced_by` names the recording that took its place; `earlier` are those whose place it took, the newest first.
    `stands` says in words where it stands and what to do next. `planning` is None until plans are asked for.
    `room_tone_chosen` is true where a person said where the room tone is. `reference` is the recording that those of its production
    are brought to, where one is named and it is another.
    """

    stands: str
    reference: Named | None
    planning: PlanningView | None
    kept_plans: list[PlanningView]
    room_tone_chosen: bool
    replaced_by: UUID | None
    replaced_by_name: str
    earlier: list[EarlierVersion]

    specification: Specification
    production_name: str
    inspection: Inspection | None
    findings: list[FindingView]
    breaches: list[Breach]
    window: GainWindow | None
    conformings: list[ConformingView]
    formats: list[FormatView]


class LotView(BaseModel):
    """Work of a production that is under way together: so many pieces, so many of them ended (some as failed), the share of it
    that is done, and about how long it will take still; None where that can't be told yet."""

    total: int
    done: int
    failed: int
    fraction: float
    left_s: float | None


class UnfinishedUpload(BaseModel):
    """A file of which only a part came in so far. `modified` is when it was last changed where it comes from, as its page said."""

    id: str
    name: str
    modified: str
    size_bytes: int
    received_bytes: int
    problem: str = ""
    """Why it was set aside, if it was."""


class LimitSentence(BaseModel):
    """A limit as a sentence in pieces, its own values apart so that they can be edited in place."""

    quantity: str
    pieces: list[Piece]


class Examined(BaseModel):
    """What was found in a draft. `sentences` are its limits as they read; None for one that can't be read yet."""

    objections: list[Objection]
    sentences: list[LimitSentence | None]


class SpecificationVersion(BaseModel):
    """One version: when it was kept (None where it ships) and how many certificates were made by it."""

    version: int
    created_at: datetime | None
    certificates: int


class SpecificationView(BaseModel):
    """A specification in its newest version, with all its versions and the productions that are held against it."""

    specification: Specification
    ships: bool
    removed: bool = False
    sentences: list[LimitSentence]
    productions: list[str]
    versions: list[SpecificationVersion]
