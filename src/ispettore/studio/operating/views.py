"""What operators see."""

from datetime import datetime
from uuid import UUID

from pydantic import BaseModel

from ispettore.studio.tables import WorkKind


class Part(BaseModel):
    """Something that has to be there, whether it is, and how it stands in a sentence."""

    name: str
    fine: bool
    told: str


class Ready(BaseModel):
    """Whether everything is there that work needs."""

    ready: bool
    parts: list[Part]


class QueueLine(BaseModel):
    """How much work of a kind waits and runs, and since when the first of it waits."""

    kind: WorkKind
    waiting: int
    running: int
    waiting_since: datetime | None


class WorkerLine(BaseModel):
    """A worker process: where it runs, when it was last heard of, and whether that is soon enough. One that is `older` takes
    nothing that newer versions ask for."""

    id: int
    machine: str
    software: str
    older: bool
    heard_at: datetime
    alive: bool


class Failure(BaseModel):
    """Work that failed and was not asked for again: of what, when, and why."""

    work: UUID
    kind: WorkKind
    recording: UUID | None
    recording_name: str
    production: UUID | None
    production_name: str
    finished_at: datetime
    error: str


class Operation(BaseModel):
    """Everything at once."""

    parts: list[Part]
    queue: list[QueueLine]
    workers: list[WorkerLine]
    failures: list[Failure]
    """The newest first."""
    more_failures: int
