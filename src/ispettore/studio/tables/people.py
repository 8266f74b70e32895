"""Who has an account and shows who they are, and the trail of what was done."""

from datetime import datetime
from uuid import UUID, uuid4

from sqlalchemy import BigInteger, Column, Identity, Integer, LargeBinary
from sqlmodel import Field, SQLModel

from ispettore.studio.tables.common import Json, now, when


class Person(SQLModel, table=True):
    """Somebody with an account. `roles` say what they may do; without a password they sign in with a passkey, or were only invited.
    Ended, they can't sign in any more, and stay for the trail and what they certified."""

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    sign_in: str = Field(unique=True)
    """By what they sign in, in small letters."""
    name: str
    """As certificates and the trail name them."""
    roles: list[str] = Field(sa_column=Column(Json, nullable=False))
    password: str | None = None
    """Its hash (Argon2id, RFC 9106), which holds its own salt and cost."""
    created_at: datetime = Field(default_factory=now, sa_column=when())
    ended_at: datetime | None = Field(default=None, sa_column=when(nullable=True))


class InvitationRecord(SQLModel, table=True):
    """A link by which somebody sets a password, once. Only its hash is kept."""

    __tablename__ = "invitation"

    secret_sha256: str = Field(primary_key=True)
    person_id: UUID = Field(foreign_key="person.id", index=True)
    expires_at: datetime = Field(sa_column=when())
    used_at: datetime | None = Field(default=None, sa_column=when(nullable=True))


class SessionRecord(SQLModel, table=True):
    """A browser that somebody signed in with, or that opened the address which the start printed (then without a person). Only the
    hash of what its cookie holds is kept."""

    __tablename__ = "signed_in"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    secret_sha256: str = Field(unique=True)
    person_id: UUID | None = Field(default=None, foreign_key="person.id", index=True)
    way: str
    address: str = ""
    agent: str = ""
    """What the browser calls itself."""
    began_at: datetime = Field(default_factory=now, sa_column=when())
    seen_at: datetime = Field(default_factory=now, sa_column=when())
    ended_at: datetime | None = Field(default=None, sa_column=when(nullable=True))


class PasskeyRecord(SQLModel, table=True):
    """A passkey (WebAuthn credential) of a person: its public half."""

    __tablename__ = "passkey"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    person_id: UUID = Field(foreign_key="person.id", index=True)
    credential: bytes = Field(sa_column=Column(LargeBinary, nullable=False, unique=True))
    public_key: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    uses: int = Field(default=0, sa_type=BigInteger)
    """The authenticator's own count of signatures; it never goes back."""
    name: str
    created_at: datetime = Field(default_factory=now, sa_column=when())
    used_at: datetime | None = Field(default=None, sa_column=when(nullable=True))


class ChallengeRecord(SQLModel, table=True):
    """What an authenticator is to sign next, once and soon."""

    __tablename__ = "challenge"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    person_id: UUID | None = Field(default=None, foreign_key="person.id")
    content: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    created_at: datetime = Field(default_factory=now, sa_column=when())


class TokenRecord(SQLModel, table=True):
    """What a script shows instead of signing in: whose it is (nobody's where there are no accounts), what it may do, until when.
    Only its hash is kept."""

    __tablename__ = "token"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    secret_sha256: str = Field(unique=True)
    person_id: UUID | None = Field(default=None, foreign_key="person.id", index=True)
    name: str
    rights: list[str] = Field(sa_column=Column(Json, nullable=False))
    created_at: datetime = Field(default_factory=now, sa_column=when())
    expires_at: datetime = Field(sa_column=when())
    used_at: datetime | None = Field(default=None, sa_column=when(nullable=True))
    ended_at: datetime | None = Field(default=None, sa_column=when(nullable=True))


class SignInTry(SQLModel, table=True):
    """One try to sign in that failed, or has not been answered yet."""

    __tablename__ = "sign_in_try"

    id: UUID = Field(default_factory=uuid4, primary_key=True)
    sign_in: str = Field(index=True)
    address: str = Field(index=True)
    at: datetime = Field(default_factory=now, sa_column=when())


class TrailRecord(SQLModel, table=True):
    """One line of the trail: who did what, when and from where. The database refuses to change or remove any."""

    __tablename__ = "trail"
    __table_args__ = {"schema": "kept"}

    number: int | None = Field(default=None, sa_column=Column(BigInteger, Identity(always=True), primary_key=True))
    at: datetime = Field(default_factory=now, sa_column=when())
    who: str
    person_id: UUID | None = None
    way: str
    address: str
    act: str
    about: str
    subjects: list[str] = Field(sa_column=Column(Json, nullable=False))
    more: int = Field(default=0, sa_column=Column(Integer, nullable=False, server_default="0"))
    """How many more subjects there were than are named."""
    production_id: UUID | None = Field(default=None, index=True)
