"""Background work and who does it."""

from datetime import datetime
from enum import StrEnum
from uuid import UUID, uuid4

from sqlalchemy import BigInteger, Boolean, Column, ForeignKey, Index, Integer, String, text
from sqlmodel import Field, SQLModel

from ispettore.studio.tables.common import now, when


class WorkKind(StrEnum):
    INSPECT = "inspect"
    CONFORM = "conform"
    VERIFY = "verify"
    PLAN = "plan"
    DELIVER = "deliver"
    HAND_OVER = "hand-over"
    ARCHIVE = "archive"
    IMPORT = "import"
    DEMO = "demo"
    RETAKE = "retake"
    BED = "bed"


class WorkState(StrEnum):
    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"


class WorkerProcess(SQLModel, table=True):
    """A worker, by the number that the queue gave it: where it runs and what it understands."""

    __tablename__ = "worker_process"

    number: int = Field(sa_column=Column(BigInteger, primary_key=True, autoincrement=False))
    machine: str
    software: str
    form: int
    seen_at: datetime = Field(default_factory=now, sa_column=when())


FORM = 29
"""What work asks and how its results are written down: the number of the newest step of the schema, which both are made of."""
_UNFINISHED = "state IN ('waiting', 'running')"


class Work(SQLModel, table=True):
    """One piece of background work and how far it is. `subject_id` is the recording, the attempt or whatever else it is
    about."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    kind: str
    subject_id: UUID
    production_id: UUID | None = Field(default=None, sa_column=Column(ForeignKey("production.id"), nullable=True))
    recording_id: UUID | None = Field(default=None, sa_column=Column(ForeignKey("recording.id"), nullable=True, index=True))
    """Of which recording, where it is of one."""
    state: str = WorkState.WAITING
    stage: str = ""
    fraction: float = 0.0
    error: str | None = None
    attempts: int = 0
    cancel_asked: bool = False
    token: UUID | None = None
    """That of the attempt that took it last: only this one writes an outcome."""
    asked_by: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    """Who asked for it, where they have an account; and whether they may certify what comes of it."""
    certifies: bool = Field(default=True, sa_column=Column(Boolean, nullable=False, server_default="true"))
    turn: int = Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
    """Its place among everybody's, and whether it goes before all places (`jobs/turns.py`)."""
    urgent: bool = Field(default=False, sa_column=Column(Boolean, nullable=False, server_default="false"))
    form: int = Field(default=FORM, sa_column=Column(Integer, nullable=False, server_default="22"))
    """The form of work that whoever asked knows: a worker takes none that is newer than its own."""
    created_at: datetime = Field(default_factory=now, sa_column=when())
    finished_at: datetime | None = Field(default=None, sa_column=when(nullable=True))

    __table_args__ = (
        Index("ix_work_subject", "subject_id", "kind"),
        Index("ix_work_production", "production_id", "state"),
        Index("ix_work_turns", "state", "urgent", "turn", postgresql_where=text(_UNFINISHED)),
        Index("ix_work_flows", "production_id", "asked_by", "urgent", "turn", postgresql_where=text(_UNFINISHED)),
    )
