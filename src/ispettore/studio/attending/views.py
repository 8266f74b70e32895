"""What pages and scripts are shown of watched folders and webhooks."""

from datetime import datetime
from uuid import UUID

from pydantic import BaseModel


class WatchedFileView(BaseModel):
    """A file of a watched folder: what it became, what is wrong with it, what its result is called, and when it left the folder."""

    name: str
    recording_id: UUID | None
    problem: str
    result: str
    came_at: datetime
    left_at: datetime | None


class WatchedFolderView(BaseModel):
    """A watched folder with the newest of its files; `count` is how many there are in all, `left` how many of them left it and
    `refused` how many could not be brought in. `kept` is false while only a command looks at it."""

    id: UUID
    path: str
    production_id: UUID
    production_name: str
    conform: bool
    results: str
    kept: bool
    problem: str
    count: int
    left: int
    refused: int
    files: list[WatchedFileView]


class WebhookView(BaseModel):
    """An address that is told, of which production (None: of all), and how its messages fared: how many wait and how many arrived,
    when the last of these did, why the last try failed where it did, and why it is told nothing any more."""

    id: UUID
    url: str
    production_id: UUID | None
    production_name: str
    problem: str
    waiting: int
    arrived: int
    arrived_at: datetime | None
    answer: str


class MadeWebhook(BaseModel):
    """A new webhook and its secret, which is shown this once."""

    id: UUID
    secret: str


class Outside(BaseModel):
    """All folders that are watched and all addresses that are told."""

    folders: list[WatchedFolderView]
    webhooks: list[WebhookView]
