"""The inspection sheet of a production as the services give it out: its heading with its rows, or with a short line for each."""

from datetime import datetime
from uuid import UUID

from pydantic import BaseModel

from ispettore.core.plan.status import Status
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.spread import Spread
from ispettore.core.spec.verdict import LimitVerdict
from ispettore.studio.catalogue.views import FormatView, LotView, RecordingView


class StatusCount(BaseModel):
    """A status, its word, and how many recordings have it."""

    status: Status
    word: str
    count: int


class ProductionSummary(BaseModel):
    """A production in the list of productions, with its recordings counted as on its sheet."""

    id: UUID
    name: str
    specification_id: str
    specification_name: str
    recordings: int
    standing: list[StatusCount]
    certified: int
    last_activity: datetime
    archived: bool


class SheetHead(BaseModel):
    """What a sheet tells of its production as a whole. `columns` are the limits it shows; `whole` judges those on the production;
    `spreads` says how alike its recordings are. Outliers are counted among the recordings that are measured, in the production's
    order.

    `standing` counts recordings by status, the least done first; `certified` are those whose certificate counts: made for this very
    version of the specification. `reference` is the recording that the others are brought to, where one is named.
    """

    id: UUID
    name: str
    notes: str
    archived: bool
    removed: bool
    erased: bool
    specification: Specification
    columns: list[Limit]
    standing: list[StatusCount]
    certified: int
    measured: int
    whole: list[LimitVerdict]
    spreads: list[Spread]
    formats: list[FormatView]
    lot: LotView | None
    reference: UUID | None


class SheetEntry(BaseModel):
    """A recording on its sheet, in short. `busy` says that something waits or runs for it; `unmet` are the quantities of limits it
    does not meet as it came in; `apart` says by quantity how far its readings stand apart from the others'."""

    id: UUID
    name: str
    status: Status
    busy: bool
    measured: bool
    unmet: list[str]
    apart: dict[str, float]


class SheetView(SheetHead):
    """The sheet in short: a line for every recording. The rows themselves are asked for some at a time."""

    entries: list[SheetEntry]


class ProductionView(SheetHead):
    """The whole sheet."""

    recordings: list[RecordingView]
