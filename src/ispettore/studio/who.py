"""Who asks for something, and what they may do. Set for each request and each piece of work; read wherever that matters."""

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Literal, get_args
from uuid import UUID

Right = Literal["read", "work", "certify", "administer"]
RIGHTS: frozenset[Right] = frozenset(get_args(Right))
Role = Literal["operator", "reviewer", "administrator"]
ROLES: tuple[Role, ...] = get_args(Role)
GIVES: dict[Role, frozenset[Right]] = {
    "operator": frozenset({"read", "work"}),
    "reviewer": frozenset({"read", "certify"}),
    "administrator": frozenset({"read", "administer"}),
}
"""What a role gives: an operator works, a reviewer certifies and withdraws, an administrator sees to people, keys and settings."""
Way = Literal["open", "start", "session", "token", "work", "folder"]
"""How somebody was known: not at all, by the address that the start printed, signed in, by a token, by work they asked for, or by a
folder they had watched."""


def rights_of(roles: Iterable[str]) -> frozenset[Right]:
    """What all of these roles give together.

    >>> sorted(rights_of(["operator", "reviewer"]))
    ['certify', 'read', 'work']
    """
    return frozenset(right for role in ROLES if role in roles for right in GIVES[role])


@dataclass(frozen=True)
class Who:
    """`name` is theirs, empty for whoever uses this machine; `session` and `token` are the identifiers of what they showed, and
    `token_name` is what that token is for. `act` tells what they are asking for, once that is known."""

    way: Way
    rights: frozenset[Right]
    name: str = ""
    person: UUID | None = None
    session: UUID | None = None
    token: UUID | None = None
    token_name: str = ""
    address: str = ""
    act: Callable[[], str] = str


WHO: ContextVar[Who | None] = ContextVar("who", default=None)
"""Nobody in a process that does what the application itself needs."""


@contextmanager
def acting(who: Who | None) -> Iterator[None]:
    """Somebody, for a while."""
    before = WHO.set(who)
    try:
        yield
    finally:
        WHO.reset(before)


def signed_in() -> str:
    """The name of whoever is known by an account and asks for this; empty where nobody is."""
    who = WHO.get()
    return who.name if who is not None else ""


def may(right: Right) -> bool:
    """Whether whoever asks has a right; the application itself has all of them."""
    who = WHO.get()
    return who is None or right in who.rights
