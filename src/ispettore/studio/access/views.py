"""What pages see of people and how they sign in."""

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel

from ispettore.studio.who import Right, Role

Access = Literal["open", "start", "accounts"]
"""Who is let in: everybody at this machine; whoever opened the address that the start printed; people who sign in."""


class Me(BaseModel):
    """Whoever asks. Without an account `sign_in` and `name` are empty."""

    sign_in: str
    name: str
    roles: list[Role]
    rights: list[Right]


class AccessView(BaseModel):
    """How one gets in here, and who is in."""

    access: Access
    me: Me | None
    passkeys: bool
    """Whether passkeys can be used at this address: browsers tie them to a name, never to bare numbers."""


class InvitationView(BaseModel):
    """Whom a link is for."""

    name: str
    sign_in: str
    roles: list[Role]


class PersonView(BaseModel):
    """Somebody with an account, as administrators see them."""

    id: UUID
    sign_in: str
    name: str
    roles: list[Role]
    state: Literal["invited", "active", "ended"]
    seen_at: datetime | None
    """When they last asked for anything, to the minute."""


class Invited(BaseModel):
    """A new link: this is the only time that it is shown."""

    person: UUID
    secret: str
    expires_at: datetime


class SessionView(BaseModel):
    """A browser that is signed in."""

    id: UUID
    agent: str
    address: str
    began_at: datetime
    seen_at: datetime
    this: bool


class PasskeyView(BaseModel):
    """A passkey of somebody's own."""

    id: UUID
    name: str
    created_at: datetime
    used_at: datetime | None


class TokenView(BaseModel):
    """A token of somebody's own, without its secret."""

    id: UUID
    name: str
    rights: list[Right]
    created_at: datetime
    expires_at: datetime
    used_at: datetime | None


class NewToken(BaseModel):
    """A token's secret: this is the only time that it is shown."""

    id: UUID
    secret: str


class Account(BaseModel):
    """What somebody can get in by."""

    sessions: list[SessionView]
    passkeys: list[PasskeyView]
    tokens: list[TokenView]


class TrailLine(BaseModel):
    """Who did what, when and from where."""

    number: int
    at: datetime
    who: str
    way: str
    address: str
    act: str
    """In words."""
    production: str
    """Its name, where it is of one."""
    subjects: int


class TrailView(BaseModel):
    """Lines of the trail, the newest first."""

    lines: list[TrailLine]
    total: int
