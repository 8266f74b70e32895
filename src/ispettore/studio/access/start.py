"""The start token: what a browser of this machine shows, so that other users of the machine are not let in."""

import hmac
from pathlib import Path

from ispettore.studio.access import secrets, sessions
from ispettore.studio.database import transaction
from ispettore.studio.locations import state
from ispettore.studio.trail import of_person
from ispettore.studio.who import RIGHTS, Who


def file() -> Path:
    """Where it is kept, for its owner's eyes alone."""
    return state() / "start-token"


def token() -> str:
    """The token of this installation, made when it is first needed."""
    path = file()
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        secrets.put(path, secrets.fresh().encode())
    return path.read_text().strip()


def fits(shown: str) -> bool:
    """Whether this is the token."""
    return hmac.compare_digest(shown.encode("utf-8", "surrogatepass"), token().encode())


def open_for(shown: str, *, address: str, agent: str) -> str | None:
    """A session for a browser that shows the token; the secret for its cookie, or None where it shows another."""
    if not fits(shown):
        return None
    with transaction() as session:
        identifier, secret = sessions.begin(session, person=None, way="start", address=address, agent=agent)
        who = Who(way="start", rights=RIGHTS, session=identifier, address=address, act=lambda: "openAtStart")
        of_person(session, who, "access")
        return secret
