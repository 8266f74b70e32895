"""What the pages show of certificates and keys."""

from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from pydantic import BaseModel, model_validator

from ispettore.core.certify.comparison import Differing
from ispettore.core.certify.keys import KeyRole
from ispettore.core.certify.notices import Ending
from ispettore.core.certify.verification import KeyStanding, PartChecked
from ispettore.core.certify.wording import Line
from ispettore.core.spec.verdict import LimitVerdict
from ispettore.studio.catalogue.certificates import Of
from ispettore.studio.catalogue.views import RibbonView, SpecificationName
from ispettore.studio.jobs.works import WorkView

Stands = Literal["stands", "superseded", "withdrawn"]


class CertificateRow(BaseModel):
    """A certificate in the list. `sha256` is that of its content, by which it is known; `reason` is why it does not count any more,
    `successor` the certificate in its place, where it is here; `older_methods` says that its readings were taken by methods of
    before."""

    id: UUID
    sha256: str
    of: Of
    name: str
    production: UUID
    production_name: str
    recording: UUID | None
    specification: SpecificationName
    issued_at: datetime
    certified_by: str
    key: str
    stands: Stands
    ended_at: datetime | None
    reason: str
    successor: UUID | None
    older_methods: bool


class CertificateList(BaseModel):
    """The certificates of this installation, the newest first. `total` counts all that match, `rows` are those of one page;
    `productions` are those that have any."""

    rows: list[CertificateRow]
    total: int
    productions: dict[UUID, str]


class PartView(BaseModel):
    """A file of a certified production: by its own certificate, where this is here, and how that stands."""

    name: str
    size_bytes: int
    sha256: str
    listening: str
    certificate: UUID | None
    stands: Stands | None


class CertificateView(BaseModel):
    """A certificate as its print shows it. `files` are those of a production, `ribbon` is that of a file; `replaces` is the
    certificate in whose place it is, where that is here; `key_role` says what the key that sealed it is here."""

    row: CertificateRow
    title: str
    met: str
    statement: str
    lines: list[Line]
    limits: list[LimitVerdict]
    steps: list[str] | None
    accepted: list[str]
    files: list[PartView]
    ribbon: RibbonView | None
    methods: str
    replaces: UUID | None
    key_role: KeyRole | None


class KeyView(BaseModel):
    """A key whose seals count here; `certificates` counts those it sealed in this installation."""

    fingerprint: str
    role: KeyRole
    name: str
    since: datetime
    certificates: int


class KeysView(BaseModel):
    """All keys whose seals count, and what is wrong with the folder they lie in, in sentences."""

    keys: list[KeyView]
    problems: list[str]


class ProductionCertified(BaseModel):
    """Whether a production can be certified, and is: the certificate that stands, whether it is of just the files there are now,
    whether more is known by now than it says, and what is missing for another."""

    certificate: UUID | None
    current: bool
    more: bool
    problem: str


class Stated(BaseModel):
    """What a certificate says, as far as a page shows it: of which file or production, in the lines of its print; `parts` are the
    files of a production, as they were checked."""

    name: str
    of_production: bool = False
    title: str = ""
    lines: list[Line] = []
    specification: SpecificationName
    issued: datetime
    limits: list[LimitVerdict]
    parts: list[PartChecked] = []

    @model_validator(mode="before")
    @classmethod
    def _older_form(cls, data: Any) -> Any:
        """Reports from before productions had certificates spoke of one file."""
        if isinstance(data, dict) and "file_name" in data:
            lines = [{"name": "File", "text": data["file_name"]}, {"name": "SHA-256", "text": data["sha256"], "exact": True}]
            kept = {name: data[name] for name in ("specification", "issued", "limits")}
            return {**kept, "name": data["file_name"], "lines": [*lines, {"name": "Sealed by", "text": data["issuer"]}]}
        return data


class Verified(BaseModel):
    """The answer of a check. `genuine` only by a key to trust and not withdrawn; `said` tells what was compared, `methods` and
    `older` what differs only because it was measured by other methods, `notes` what is to be said of keys, pages and notices;
    `ended` what ended it (`ending`). `given` says whether there was a file."""

    genuine: bool
    intact: bool
    key: KeyStanding
    key_id: str | None
    problems: list[str]
    said: str = ""
    methods: str = ""
    older: list[Differing] = []
    notes: list[str] = []
    given: bool = True
    ending: Ending | None = None
    ended: str = ""
    stated: Stated | None = None

    @model_validator(mode="before")
    @classmethod
    def _older_form(cls, data: Any) -> Any:
        """Reports from before an unknown key was told apart called such a certificate genuine."""
        if isinstance(data, dict) and "intact" not in data:
            trusted = data.get("key") in ("known", "given")
            return {**data, "intact": data.get("genuine"), "genuine": bool(data.get("genuine")) and trusted}
        return data


class VerifyingView(BaseModel):
    """A check of a certificate against a file."""

    id: UUID
    file_name: str
    certificate_name: str
    work: WorkView | None
    report: Verified | None
