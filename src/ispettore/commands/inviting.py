"""Making accounts from the command line: how the first administrator of a server comes in."""

import typer

from ispettore.commands.installation import database
from ispettore.core.errors import IspettoreError
from ispettore.studio.access import binding, people
from ispettore.studio.access.views import Invited
from ispettore.studio.database import migrate
from ispettore.studio.settings import settings
from ispettore.studio.who import RIGHTS, ROLES, Role, Who, acting


class NoSuchRole(IspettoreError):
    """There is no role “{role}”; there are operator, reviewer and administrator."""

    role: str


def run(sign_in: str, *, name: str, roles: list[str]) -> int:
    """Invite somebody, or again. Raises what inviting raises, and NoSuchRole."""
    chosen = _roles(roles)
    with database():
        migrate()
        with acting(Who(way="open", rights=RIGHTS, act=lambda: "invitePerson")):
            found = _invited(sign_in, name, chosen)
    where = binding.address(settings(), settings().port)
    typer.echo(f"For “{sign_in}”, once, until {found.expires_at:%Y-%m-%d %H:%M} UTC:\n{where}#/join/{found.secret}")
    return 0


def _invited(sign_in: str, name: str, roles: list[Role]) -> Invited:
    for person in people.everybody():
        if person.sign_in == sign_in.strip().casefold():
            people.change(person.id, roles=roles, ended=False)
            return people.invite_again(person.id)
    return people.invite(sign_in=sign_in, name=name, roles=roles)


def _roles(given: list[str]) -> list[Role]:
    for role in given:
        if role not in ROLES:
            raise NoSuchRole(role=role)
    return [role for role in ROLES if role in given]
