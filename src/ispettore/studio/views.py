"""What the services give out: plain typed data, the same for every caller."""

from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from pydantic import BaseModel

from ispettore.core.audio.facts import FileFacts
from ispettore.core.certify.verification import KeyStanding
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Finding
from ispettore.core.plan.bounds import Obstacle
from ispettore.core.plan.window import GainWindow
from ispettore.core.spec.breaches import Breach
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Verdict
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step

State = Literal["waiting", "running", "done", "failed", "cancelled"]


class WorkView(BaseModel):
    """One piece of background work: what it is, how far it is, and what went wrong."""

    id: UUID
    kind: str
    state: State
    stage: str
    fraction: float
    error: str | None


class RibbonView(BaseModel):
    """A miniature ribbon: levels in dBFS per column, −80 at the least."""

    rms_dbfs: list[float]
    peak_dbfs: list[float]


class FindingView(Finding):
    """A finding with how it is called and what mends it; what its kind means stands in the methods."""

    title: str
    advice: str


class ResultView(BaseModel):
    """What is needed of the written file to play it beside its source."""

    sample_rate_hz: int
    frames: int
    head_s: float | None
    integrated_loudness_lufs: float | None


class ConformingView(BaseModel):
    """One attempt to conform a recording."""

    id: UUID
    recording_id: UUID
    created_at: datetime
    preference: str
    container: str
    work: WorkView | None
    passes: bool | None
    steps: list[Step]
    touch: Touch | None
    window: GainWindow | None
    obstacles: list[Obstacle]
    before: Verdict | None
    after: Verdict | None
    rounds: int
    file_name: str | None
    size_bytes: int | None
    sha256: str | None
    certified: bool
    result: ResultView | None


class RecordingView(BaseModel):
    """A row of the inspection sheet."""

    id: UUID
    production_id: UUID
    position: int
    name: str
    created_at: datetime
    size_bytes: int
    sha256: str
    work: WorkView | None
    facts: FileFacts | None
    verdict: Verdict | None
    ribbon: RibbonView | None
    conforming: ConformingView | None


class RecordingDetail(RecordingView):
    """One recording with all its readings, its gain window and every attempt to conform it."""

    specification: Specification
    production_name: str
    inspection: Inspection | None
    findings: list[FindingView]
    breaches: list[Breach]
    window: GainWindow | None
    conformings: list[ConformingView]


class ProductionSummary(BaseModel):
    """A production in the list of productions."""

    id: UUID
    name: str
    specification_id: str
    specification_name: str
    recordings: int
    inside: int
    outside: int
    pending: int
    last_activity: datetime
    archived: bool


class ProductionView(BaseModel):
    """The inspection sheet."""

    id: UUID
    name: str
    notes: str
    archived: bool
    specification: Specification
    recordings: list[RecordingView]
    whole: list[LimitVerdict]


class VerifyingView(BaseModel):
    """A check of a certificate against a file."""

    id: UUID
    file_name: str
    certificate_name: str
    work: WorkView | None
    genuine: bool | None
    key: KeyStanding | None
    key_id: str | None
    problems: list[str]
    certificate: dict[str, Any] | None
