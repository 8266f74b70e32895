"""What comes in and is told by itself: watched folders, webhooks."""

from datetime import datetime
from uuid import UUID, uuid4

from sqlalchemy import BigInteger, Boolean, Column, ForeignKey, Identity, String, Text
from sqlmodel import Field, SQLModel

from ispettore.studio.tables.common import now, when


class WatchedFolder(SQLModel, table=True):
    """A folder of the server's machine: what lands there whole comes into a production. Whoever had it watched is who asks for what
    is made of it. Where it is not `kept`, only a command looks at it, for as long as that runs."""

    __tablename__ = "watched_folder"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    path: str = Field(unique=True)
    production_id: UUID = Field(foreign_key="production.id")
    conform: bool
    results: str
    """Where the files that count go, under the names of what they were made of; empty for nowhere."""
    kept: bool
    asked_by: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    certifies: bool = Field(default=True, sa_column=Column(Boolean, nullable=False, server_default="true"))
    problem: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class WatchedFile(SQLModel, table=True):
    """A file that was found in a watched folder, as it was when it was last brought in or refused."""

    __tablename__ = "watched_file"

    folder_id: UUID = Field(sa_column=Column(ForeignKey("watched_folder.id", ondelete="CASCADE"), primary_key=True))
    name: str = Field(primary_key=True)
    size_bytes: int = Field(sa_type=BigInteger)
    modified_ns: int = Field(sa_type=BigInteger)
    recording_id: UUID | None = Field(default=None, foreign_key="recording.id")
    """What it became; none where it was refused."""
    problem: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    asked_for: UUID | None = Field(default=None)
    """The recording that was to be conformed, once that was asked for."""
    result: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What its result is called in the folder of results, and the hash of what was written there."""
    result_sha256: str | None = None
    came_at: datetime = Field(default_factory=now, sa_column=when())
    left_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """When it was missed in the folder; the recording stays."""


class Webhook(SQLModel, table=True):
    """An address that is told when a recording's status changes: of one production, or of all."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    url: str
    secret: str
    """What messages are signed with; who receives them has it too."""
    production_id: UUID | None = Field(default=None, foreign_key="production.id")
    problem: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """Why it is told nothing any more; empty while it is."""
    created_at: datetime = Field(default_factory=now, sa_column=when())


class WebhookStatus(SQLModel, table=True):
    """The status of a recording that a webhook was last to be told."""

    __tablename__ = "webhook_status"

    hook_id: UUID = Field(sa_column=Column(ForeignKey("webhook.id", ondelete="CASCADE"), primary_key=True))
    recording_id: UUID = Field(foreign_key="recording.id", primary_key=True)
    status: str


class WebhookMessage(SQLModel, table=True):
    """One message to an address: what it says, and how often it was tried."""

    __tablename__ = "webhook_message"

    number: int | None = Field(default=None, sa_column=Column(BigInteger, Identity(always=True), primary_key=True))
    hook_id: UUID = Field(sa_column=Column(ForeignKey("webhook.id", ondelete="CASCADE"), index=True, nullable=False))
    name: UUID = Field(default_factory=uuid4)
    """By which whoever receives it knows it again."""
    body: str = Field(sa_column=Column(Text, nullable=False))
    tries: int = 0
    answer: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    due_at: datetime | None = Field(default_factory=now, sa_column=when(nullable=True))
    """When it is sent; never where it has arrived or was given up."""
    arrived_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    created_at: datetime = Field(default_factory=now, sa_column=when())
