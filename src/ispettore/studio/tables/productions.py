"""Productions, what is in them and was made of it; and what is kept for all of them: specifications, treatments, defaults."""

from datetime import datetime
from typing import Any
from uuid import UUID, uuid4

from sqlalchemy import BigInteger, Boolean, Column, Integer, LargeBinary, String, Text
from sqlmodel import Field, SQLModel

from ispettore.core.audio.formats import FormatName
from ispettore.core.plan.preferences import Preference
from ispettore.studio.tables.common import Json, now, when


class SpecificationRecord(SQLModel, table=True):
    """One version of a specification that was written here. Versions are added and never changed; those that ship are files.
    Removed, all of its versions are out of sight, and stay."""

    __tablename__ = "specification"

    identifier: str = Field(primary_key=True)
    version: int = Field(primary_key=True)
    data: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    created_at: datetime = Field(default_factory=now, sa_column=when())
    removed_at: datetime | None = Field(default=None, sa_column=when(nullable=True))


class TreatmentRecord(SQLModel, table=True):
    """One version of a treatment that was kept here. Versions are added and never changed; those that ship are files. Removed, all
    of its versions are out of sight, and stay."""

    __tablename__ = "treatment"

    identifier: str = Field(primary_key=True)
    version: int = Field(primary_key=True)
    data: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    created_at: datetime = Field(default_factory=now, sa_column=when())
    removed_at: datetime | None = Field(default=None, sa_column=when(nullable=True))


class DefaultsRecord(SQLModel, table=True):
    """What new work begins with here; one row."""

    __tablename__ = "defaults"

    id: int = Field(default=1, primary_key=True)
    data: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))


class Production(SQLModel, table=True):
    """A piece of work with many recordings in an order."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    name: str
    specification: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    notes: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    reference_id: UUID | None = None
    """The recording that the others are brought to, where one is named."""
    delivering: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """How its files are delivered: format, naming, tags; None where nobody said so."""
    cover_sha256: str | None = None
    """The picture that its files carry, in the store."""
    cover: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """What kind of picture that is, its size and its name."""
    bed: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What lies under the voice in each of its recordings that has nothing of its own, as JSON; empty for nothing."""
    created_at: datetime = Field(default_factory=now, sa_column=when())
    archived_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    removed_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """When it was taken out of sight; all that is in it stays."""
    erased_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """When its files were erased; what is known of it stays, and it can't be restored."""


class Recording(SQLModel, table=True):
    """One source file, never changed after it came in. `sha256` names its blob in the store.

    A newer file may take its place: it has the same position then, and `replaced_by` points to it.
    """

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    production_id: UUID = Field(foreign_key="production.id", index=True)
    position: int
    name: str
    sha256: str = Field(index=True)
    size_bytes: int = Field(sa_type=BigInteger)
    created_at: datetime = Field(default_factory=now, sa_column=when())
    removed_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    erased_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """When its file was erased, with those made of it; what is known of it stays, and it can't be restored."""
    replaced_by: UUID | None = Field(default=None, foreign_key="recording.id")
    room_tone: str = ""
    """Where a person said the room tone is, as START-END in seconds; empty where the meters look for it."""
    turns: list[dict[str, Any]] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """Who speaks when, where a person said so; None where the meters look for it."""
    entry: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """Its number, part, title and narrator, where a person said so; None where its file name tells them."""
    edited: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    """What it sounds like with its edits is known by this (`EditList`); empty where it is heard as it came in. Every place that
    is kept with a recording (room tone, voices, accepted findings, notes on itself) is one in its file, so that none is lost."""
    edits: int = Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
    """At which state its edits are; 0 is before the first."""

    bed: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What lies under its voice, as JSON, be it nothing; empty where that is as in its production."""

    @property
    def known_as(self) -> str:
        """What tells its sound from any other: the hash of its file, or what that is known by with its edits."""
        return self.edited or self.sha256


class EditList(SQLModel, table=True):
    """All edits of a recording at one time, by what it is known by with them. Never changed: whatever was measured or made refers
    to it."""

    __tablename__ = "edit_list"

    edited: str = Field(primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", primary_key=True)
    edits: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))


class TakeRecord(SQLModel, table=True):
    """A retake that came in for a stretch of a recording, told by the time of its file; `prepared_sha256` is its sound as it was
    made to fit, `matched` what was done for that. None until then."""

    __tablename__ = "take"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", index=True)
    name: str
    sha256: str
    size_bytes: int = Field(sa_type=BigInteger)
    start_s: float
    end_s: float
    prepared_sha256: str | None = None
    matched: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class BedSound(SQLModel, table=True):
    """A sound that can be laid under the voices of a production; `heard_sha256` is what it is read from, a lossless copy where the
    file can't be sought in exactly, and `told` what was measured of it. None until then."""

    __tablename__ = "bed_sound"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    production_id: UUID = Field(foreign_key="production.id", index=True)
    name: str
    sha256: str
    size_bytes: int = Field(sa_type=BigInteger)
    heard_sha256: str | None = None
    told: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    created_at: datetime = Field(default_factory=now, sa_column=when())
    removed_at: datetime | None = Field(default=None, sa_column=when(nullable=True))


class ChapterRecord(SQLModel, table=True):
    """A chapter mark: from which moment of a recording's file a chapter is read, and what it is called, if anything."""

    __tablename__ = "chapter"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", index=True)
    at_s: float
    title: str = ""
    created_at: datetime = Field(default_factory=now, sa_column=when())


class TakeCheckRecord(SQLModel, table=True):
    """What a take check came to: what was listened to (a device's name), what it was held against (identifier, version, name), and
    what was found."""

    __tablename__ = "take_check"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    production_id: UUID = Field(foreign_key="production.id", index=True)
    heard_from: str
    distance_cm: float | None = None
    specification: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    found: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class EditState(SQLModel, table=True):
    """One state of a recording's edits: which they are (empty where there are none), and what the change was that led to it."""

    __tablename__ = "edit_state"

    recording_id: UUID = Field(foreign_key="recording.id", primary_key=True)
    number: int = Field(primary_key=True)
    edited: str
    told: str = Field(default="", sa_column=Column(Text, nullable=False))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class Acceptance(SQLModel, table=True):
    """One finding of a recording that somebody accepted, and why."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", index=True)
    kind: str
    start_s: float
    end_s: float
    reason: str = Field(sa_column=Column(Text, nullable=False))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class InspectionRecord(SQLModel, table=True):
    """The inspection of one sound by one version of the methods, with room tone found or chosen as recordings say it. `sha256` is
    what the sound is known by: the hash of a blob, or what that is known by with edits.

    Recordings with the same bytes, edits and room tone share it.
    """

    __tablename__ = "inspection"

    sha256: str = Field(primary_key=True)
    methods_version: int = Field(primary_key=True)
    room_tone: str = Field(default="", primary_key=True)
    data: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    ribbon: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    tracks: bytes | None = Field(default=None, sa_column=Column(LargeBinary, nullable=True))
    listening_sha256: str | None = None
    pyramid_sha256: str | None = None
    levels_sha256: str | None = None
    created_at: datetime = Field(default_factory=now, sa_column=when())


class Conforming(SQLModel, table=True):
    """One attempt to conform a recording: what was asked, what came of it, and the deliverable with its certificate."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", index=True)
    specification: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    preference: Preference = Field(sa_type=String)
    container: FormatName = Field(sa_type=String)
    bit_depth: int | None = None
    """As what exactly it was to be written, where that is not what the specification makes of its format."""
    bit_rate_kbps: int | None = None
    treatment: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """What somebody drafted or kept, to be run as it is or finished by a plan; without one, a plan is made by the preference."""
    draft: int | None = None
    """The state of the draft that was run, if it was one, as it stands or as the plan that it is."""
    kept_id: str | None = Field(default=None, index=True)
    """The kept treatment that it was made by, in which version, and whether it was changed for this recording."""
    kept_version: int | None = None
    kept_changed: bool = False
    likeness: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """What it was to be like beside its limits, if anything."""
    bounds: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """Within which bounds, where these are not the usual."""
    room_tone: str = ""
    """Where a person had said the room tone is, when it was asked for."""
    edited: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    """What the recording was known by with its edits then; empty where there were none."""
    laid: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What lay under its voice then, as JSON; empty for nothing."""
    software: str = ""
    outcome: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    file_name: str | None = None
    sha256: str | None = None
    size_bytes: int | None = Field(default=None, sa_type=BigInteger)
    certificate_id: UUID | None = None
    """The certificate that counts for its file; none where it has none, or it was withdrawn."""
    ribbon: bytes | None = Field(default=None, sa_column=Column(LargeBinary, nullable=True))
    pyramid_sha256: str | None = None
    listening_sha256: str | None = None
    """A lossless copy to listen from, where a position in the file can't be gone to exactly."""
    tracks: bytes | None = Field(default=None, sa_column=Column(LargeBinary, nullable=True))
    reduction: bytes | None = Field(default=None, sa_column=Column(LargeBinary, nullable=True))
    lowered: bytes | None = Field(default=None, sa_column=Column(LargeBinary, nullable=True))
    handed_over_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """When somebody said that its file was delivered."""
    chosen_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """When somebody chose it as the one that counts."""
    cleared_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """When its file was cleared away; what it read and what made it stay."""
    created_at: datetime = Field(default_factory=now, sa_column=when())


class Planning(SQLModel, table=True):
    """Plans for a recording and a specification, as it was measured by one version of the methods with one room tone."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", index=True)
    specification: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    methods_version: int
    room_tone: str = ""
    edited: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    laid: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    """What lay under its voice then, as JSON; empty for nothing."""
    preference: str = ""
    """By which preference; empty for one plan of each."""
    treatment: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """The kept treatment that the plan begins with, if any; what it is to be like beside the limits; within which bounds, where
    these are not the usual."""
    likeness: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    bounds: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    outcome: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class DraftRecord(SQLModel, table=True):
    """The treatment that somebody works on for a recording: at which of its states it is. Undoing goes back among them."""

    __tablename__ = "draft"

    recording_id: UUID = Field(foreign_key="recording.id", primary_key=True)
    number: int = 0


class DraftState(SQLModel, table=True):
    """One state of a draft: its steps, what the change was that led to it, and from which state on it is a change of a plan or a
    kept treatment (`origin`; `plan` is the preference that plan was made by, `kept` the treatment; empty where none was chosen)."""

    __tablename__ = "draft_state"

    recording_id: UUID = Field(foreign_key="recording.id", primary_key=True)
    number: int = Field(primary_key=True)
    steps: list[dict[str, Any]] = Field(sa_column=Column(Json, nullable=False))
    told: str = Field(default="", sa_column=Column(Text, nullable=False))
    plan: str = ""
    kept: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    origin: int = 0
    edited: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    """What the recording was known by with its edits: by the time of that its steps tell places."""
    created_at: datetime = Field(default_factory=now, sa_column=when())


class DeliverableRecord(SQLModel, table=True):
    """The file of an attempt as it is delivered: named, tagged, measured once more and certified. `asked` holds all that it was to
    say of itself; where any of it or the attempt that counts is another, a new one is made."""

    __tablename__ = "deliverable"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", index=True)
    conforming_id: UUID = Field(foreign_key="conforming.id", index=True)
    specification: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    asked: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    file_name: str
    sha256: str | None = None
    size_bytes: int | None = Field(default=None, sa_type=BigInteger)
    crc32: int | None = Field(default=None, sa_type=BigInteger)
    outcome: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    certificate_id: UUID | None = None
    cleared_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """When its file was erased with its recording; what it read stays."""
    created_at: datetime = Field(default_factory=now, sa_column=when())


class CertificateRecord(SQLModel, table=True):
    """One certificate as it was sealed, for good. `of` says what `subject_id` is: an attempt, a deliverable or a production;
    `sha256` is that of its content. What ended it (`ending`, with the reason and a sealed notice) stands beside it."""

    __tablename__ = "certificate"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    sha256: str = Field(index=True)
    of: str
    subject_id: UUID = Field(index=True)
    production_id: UUID = Field(foreign_key="production.id", index=True)
    recording_id: UUID | None = Field(default=None, foreign_key="recording.id", index=True)
    name: str
    file_sha256: str | None = Field(default=None, index=True)
    specification_id: str
    specification_version: int
    key_id: str
    sealed: dict[str, Any] = Field(sa_column=Column(Json, nullable=False))
    issued_at: datetime = Field(sa_column=when())
    ending: str | None = None
    ended_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    reason: str = Field(default="", sa_column=Column(Text, nullable=False, server_default=""))
    successor_sha256: str | None = None
    notice: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))


class Delivery(SQLModel, table=True):
    """A package that was handed over: which way, where to, and every file that was in it."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    production_id: UUID = Field(foreign_key="production.id", index=True)
    way: str
    place: str
    files: list[dict[str, Any]] = Field(sa_column=Column(Json, nullable=False))
    deliverables: list[str] = Field(sa_column=Column(Json, nullable=False))
    requirements: str = Field(default="", sa_column=Column(String, nullable=False, server_default=""))
    """What an intake desk is to hold it against, by its own name for that."""
    answer: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    """What the desk answered, as it said so."""
    done_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class Listening(SQLModel, table=True):
    """What somebody really heard of a file in one sitting: stretches with their speeds. `of` says what `subject_id` is: the
    recording itself, an attempt or a deliverable; `sha256` names the very file."""

    id: UUID = Field(primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", index=True)
    of: str
    subject_id: UUID
    sha256: str
    duration_s: float
    who: str = ""
    spans: list[dict[str, Any]] = Field(sa_column=Column(Json, nullable=False))
    began_at: datetime = Field(default_factory=now, sa_column=when())
    ended_at: datetime = Field(default_factory=now, sa_column=when())


class NoteRecord(SQLModel, table=True):
    """Something that was noted while a file was listened to, at a time of that file. Removed, it is out of sight, and stays."""

    __tablename__ = "note"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    recording_id: UUID = Field(foreign_key="recording.id", index=True)
    of: str
    subject_id: UUID
    sha256: str
    at_s: float
    kind: str
    text: str = Field(sa_column=Column(Text, nullable=False))
    who: str = ""
    done_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    removed_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class DeedRecord(SQLModel, table=True):
    """Something that was decided of a production or a recording, in a sentence, as it was done: what other rows only hold the last
    state of. Deeds are added and never changed."""

    __tablename__ = "deed"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    production_id: UUID = Field(foreign_key="production.id", index=True)
    recording_id: UUID | None = Field(default=None, foreign_key="recording.id")
    text: str = Field(sa_column=Column(Text, nullable=False))
    at: datetime = Field(default_factory=now, sa_column=when())


class ArchiveRecord(SQLModel, table=True):
    """The archive of a production, laid out: every file of it by name, hash, size and check sum. `own` are the hashes of those that
    were written for it, and go with it."""

    __tablename__ = "archive"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    production_id: UUID = Field(foreign_key="production.id", index=True)
    members: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(Json, nullable=False))
    own: list[str] = Field(default_factory=list, sa_column=Column(Json, nullable=False))
    as_of: datetime | None = Field(default=None, sa_column=when(nullable=True))
    """The moment of which it holds everything; None until it is laid out."""
    created_at: datetime = Field(default_factory=now, sa_column=when())


class Importing(SQLModel, table=True):
    """An archive that came in to be imported, and what came of it."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    file_name: str
    sha256: str | None = None
    """Where it lies in the store; None once its production is here."""
    size_bytes: int = Field(sa_type=BigInteger)
    outcome: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class Verifying(SQLModel, table=True):
    """One check of a certificate against a file."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    file_name: str
    sha256: str | None = None
    certificate_name: str
    certificate: str
    """As text: JSON as it is, a PDF as a data URL (RFC 2397)."""
    given: bool = Field(default=True, sa_column=Column(Boolean, nullable=False, server_default="true"))
    """Whether there is a file to hold it against; without one the certificate alone is checked."""
    notices: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(Json, nullable=False, server_default="[]"))
    """Sealed notices that were handed in with it."""
    report: dict[str, Any] | None = Field(default=None, sa_column=Column(Json, nullable=True))
    created_at: datetime = Field(default_factory=now, sa_column=when())
