"""What the pages show of the record and of archives."""

from datetime import datetime
from uuid import UUID

from pydantic import BaseModel

from ispettore.core.archive.record import Deed, Topic
from ispettore.studio.jobs.works import WorkView


class RecordView(BaseModel):
    """Deeds of a production that match, the newest first; `total` counts them all, `recordings` are those with any by name."""

    id: UUID
    name: str
    deeds: list[Deed]
    total: int
    recordings: dict[UUID, str]
    topics: dict[Topic, str]


class ArchiveView(BaseModel):
    """The archive of a production, if there is one: as of when, how large, whether it is still all there is to say (`current`),
    and how the making of another stands."""

    id: UUID | None
    as_of: datetime | None
    files: int
    size_bytes: int
    current: bool
    work: WorkView | None


class UnknownKey(BaseModel):
    """A key that sealed something in an archive and is not trusted here; `certificates` counts what it sealed."""

    fingerprint: str
    certificates: int
    sealed_archive: bool


class Imported(BaseModel):
    """What came of an archive: the production that is here now (None as long as `unknown` keys are to be trusted first), how many
    recordings and files that were, and whether it was here before; then only files that were missing were put back."""

    production: UUID | None = None
    name: str = ""
    recordings: int = 0
    files: int = 0
    before: bool = False
    unknown: list[UnknownKey] = []


class ImportView(BaseModel):
    """An archive that came in."""

    id: UUID
    file_name: str
    size_bytes: int
    created_at: datetime
    work: WorkView | None
    outcome: Imported | None
