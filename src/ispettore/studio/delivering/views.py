"""What delivering gives out: plain typed data."""

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel

from ispettore.core.audio.writing import OutputFormat
from ispettore.core.deliver.answers import ReadTwice
from ispettore.core.deliver.entries import Entry
from ispettore.core.deliver.labels import Delivering
from ispettore.core.plan.encoding import Effect
from ispettore.core.spec.verdict import LimitVerdict
from ispettore.studio.catalogue.views import LotView
from ispettore.studio.jobs.works import WorkView

Made = Literal["unmeasured", "making", "stuck", "to make", "to make again", "made"]


class Quality(BaseModel):
    """One way of writing a format."""

    title: str
    form: OutputFormat


class FormatChoice(BaseModel):
    """A format that can meet the specification's limits on the file, and the qualities that do; the first is the usual."""

    title: str
    qualities: list[Quality]


class CoverView(BaseModel):
    """The picture that the files carry; `advice` says what an outlet may object to."""

    name: str
    width: int
    height: int
    size_bytes: int
    sha256: str
    advice: str


class DeliveryRow(BaseModel):
    """One recording as it will be delivered, or is.

    `from_name` says that its entry was read from its file name. `problem` is what speaks against its name. `state` says whether its
    file is there as it was asked for; `reason` why not. `listened` says how far it was listened to, in words; `effect` is what
    writing did, `corrections` why it was written again on the way, `missed` the required limits that the written file misses.
    """

    recording: UUID
    source: str
    entry: Entry
    from_name: bool
    file_name: str
    problem: str
    state: Made
    reason: str
    work: WorkView | None
    deliverable: UUID | None
    format: str
    size_bytes: int | None
    duration_s: float | None
    sha256: str | None
    certified: bool
    certificate: UUID | None
    listened: str
    effect: Effect | None
    corrections: list[str]
    missed: list[LimitVerdict]


class DeskFile(BaseModel):
    """The intake desk's answer for one file, with its readings beside ours."""

    name: str
    accepted: bool
    reasons: list[str]
    readings: list[ReadTwice]


class DeskAnswer(BaseModel):
    """The intake desk's answer for a package. `reasons` speak against it as a whole; `against` are disagreements between its meter
    and ours, as findings against ourselves."""

    accepted: bool
    reasons: list[str]
    files: list[DeskFile]
    against: list[str]


class DeliveryNote(BaseModel):
    """A package that was handed over, or is on its way. `files` counts those of recordings; `answer` is that of an intake desk,
    which held it against what it calls `requirements`."""

    id: UUID
    way: str
    place: str
    files: int
    size_bytes: int
    created_at: datetime
    done_at: datetime | None
    work: WorkView | None
    requirements: str
    answer: DeskAnswer | None


class DeliveryView(BaseModel):
    """The deliver screen of a production. `form` is as what files are written; `problem` is what is wrong with the naming itself.
    `whole` are the limits on the production, judged.
    `desk` says whether there is an intake desk to hand in to.
    `made` counts files that are as they were asked for, `size_bytes` is their sum."""

    id: UUID
    name: str
    specification_name: str
    asked: Delivering
    form: OutputFormat | None
    formats: list[FormatChoice]
    cover: CoverView | None
    problem: str
    rows: list[DeliveryRow]
    whole: list[LimitVerdict]
    made: int
    making: int
    size_bytes: int
    deliveries: list[DeliveryNote]
    desk: bool
    lot: LotView | None
