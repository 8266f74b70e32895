"""People with accounts: invited by a link, known by a password or a passkey, ended when they go."""

import re
from datetime import timedelta
from typing import cast
from uuid import UUID

from sqlmodel import Session, col, func, select

from ispettore.core.deliver.entries import LONGEST
from ispettore.core.text import refuse
from ispettore.studio.access import passwords, secrets, sessions
from ispettore.studio.access.errors import (
    FirstAdministrator,
    InvitationEnded,
    LastAdministrator,
    SignInRefused,
    SignInTaken,
    SignInUnusable,
)
from ispettore.studio.access.views import Account, InvitationView, Invited, PasskeyView, PersonView, TokenView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NameMissing, NotFound
from ispettore.studio.tables import InvitationRecord, PasskeyRecord, Person, SessionRecord, TokenRecord, now
from ispettore.studio.trail import of_person
from ispettore.studio.who import ROLES, Right, Role, Who, rights_of

INVITED_FOR = timedelta(days=7)
_SIGN_IN = re.compile(r"[\w.@+-]{2,64}")
_CHANGING = 0x9E09


def invite(*, sign_in: str, name: str, roles: list[Role]) -> Invited:
    """An account for somebody, and the link by which they set its password. The first is an administrator's.

    Raises SignInUnusable, SignInTaken, NameMissing, BadText and FirstAdministrator.
    """
    known, called = _sign_in(sign_in), _name(name)
    with transaction() as session:
        _one_at_a_time(session)
        if session.exec(select(Person).where(Person.sign_in == known)).first() is not None:
            raise SignInTaken(sign_in=known)
        if "administrator" not in roles and not _any(session):
            raise FirstAdministrator(name=called)
        person = Person(sign_in=known, name=called, roles=_roles(roles))
        session.add(person)
        session.flush()
        return _invited(session, person)


def invite_again(person_id: UUID) -> Invited:
    """A new link for somebody who lost theirs, or their password; earlier links end. Raises NotFound."""
    with transaction() as session:
        return _invited(session, _there(session, person_id))


def change(person_id: UUID, *, name: str | None = None, roles: list[Role] | None = None, ended: bool | None = None) -> None:
    """Change how somebody is named, what they may do, or whether their account is ended. What they are signed in with follows at
    once. Raises NotFound, NameMissing, BadText and LastAdministrator."""
    with transaction() as session:
        _one_at_a_time(session)
        person = _there(session, person_id)
        loses = roles is not None and "administrator" not in roles
        if _administers(person) and (loses or ended) and _others(session, person) == 0:
            raise LastAdministrator(name=person.name)
        person.name = _name(name) if name is not None else person.name
        person.roles = _roles(roles) if roles is not None else person.roles
        if ended is not None:
            person.ended_at = (person.ended_at or now()) if ended else None
        if ended:
            sessions.end_all(session, person.id)
        session.add(person)
        sessions.tell(session, person.id)


def everybody() -> list[PersonView]:
    """All people, those whose account is ended last."""
    with transaction() as session:
        last = select(SessionRecord.person_id, func.max(SessionRecord.seen_at)).group_by(col(SessionRecord.person_id))
        seen = dict(session.exec(last).all())
        keyed = _keyed(session)
        people = session.exec(select(Person).order_by(col(Person.ended_at).is_not(None), func.lower(Person.name))).all()
    return [
        PersonView(
            id=person.id,
            sign_in=person.sign_in,
            name=person.name,
            roles=cast(list[Role], person.roles),
            state="ended" if person.ended_at else "active" if person.password or person.id in keyed else "invited",
            seen_at=seen.get(person.id),
        )
        for person in people
    ]


def administered() -> bool:
    """Whether anybody can sign in to administer, or was invited to."""
    with transaction() as session:
        return any(_administers(person) for person in session.exec(select(Person)).all())


def invitation(secret: str) -> InvitationView:
    """Whom a link is for. Raises InvitationEnded."""
    with transaction() as session:
        person = _person_of(session, secret)
        return InvitationView(name=person.name, sign_in=person.sign_in, roles=cast(list[Role], person.roles))


def accept(secret: str, password: str, *, address: str, agent: str) -> str:
    """Set the password that a link is for, once, and sign in; the secret for the cookie. All earlier sessions end. Raises
    InvitationEnded and PasswordTooWeak."""
    with transaction() as session:
        person = _person_of(session, secret)
        passwords.check(password, of=(person.name, person.sign_in))
        used = session.get_one(InvitationRecord, secrets.hashed(secret), with_for_update=True)
        if used.used_at is not None:
            raise InvitationEnded(reason="was used already")
        used.used_at = now()
        person.password = passwords.hashed(password)
        sessions.end_all(session, person.id)
        session.add(person)
        sessions.tell(session, person.id)
        return enter(session, person, "password", act="join", address=address, agent=agent)


def sign_in(known: str, password: str, *, address: str, agent: str) -> str:
    """Sign in with a password; the secret for the cookie. Raises TooManyTries and SignInRefused: neither tells whether there is
    such an account."""
    named = known.strip().casefold()[:64]
    with transaction() as session:
        passwords.begin_try(session, named, address)
        person = session.exec(select(Person).where(Person.sign_in == named, col(Person.ended_at).is_(None))).first()
    fits = passwords.matches(person.password if person else None, password[: passwords.MOST])
    with transaction() as session:
        if person is None or not fits:
            nobody = Who(way="session", rights=frozenset(), address=address, act=lambda: "signInRefused")
            of_person(session, nobody, "access", named)
        else:
            passwords.succeeded(session, named)
            person = session.get_one(Person, person.id)
            if person.password is not None and passwords.outdated(person.password):
                person.password = passwords.hashed(password)
                session.add(person)
            return enter(session, person, "password", act="signIn", address=address, agent=agent)
    raise SignInRefused(sign_in=known.strip()[:64])


def enter(session: Session, person: Person, way: str, *, act: str, address: str, agent: str) -> str:
    """Begin a session of somebody who has shown who they are, and note it; the secret for the cookie."""
    _, secret = sessions.begin(session, person=person.id, way=way, address=address, agent=agent)
    who = Who(way="session", rights=rights_of(person.roles), name=person.name, person=person.id, address=address, act=lambda: act)
    of_person(session, who, "access")
    return secret


def change_password(who: Who, old: str, new: str) -> None:
    """Change one's own password; other browsers are signed out. Raises NotFound, TooManyTries, SignInRefused and
    PasswordTooWeak."""
    person = _mine(who)
    with transaction() as session:
        passwords.begin_try(session, person.sign_in, who.address)
    if person.password is not None and not passwords.matches(person.password, old[: passwords.MOST]):
        raise SignInRefused(sign_in=person.sign_in)
    passwords.check(new, of=(person.name, person.sign_in))
    with transaction() as session:
        passwords.succeeded(session, person.sign_in)
        person = session.get_one(Person, person.id)
        person.password = passwords.hashed(new)
        session.add(person)
        sessions.end_all(session, person.id, but=who.session)
        sessions.tell(session)


def account(who: Who) -> Account:
    """What somebody can get in by."""
    with transaction() as session:
        mine = sessions.owned(TokenRecord, who)
        tokens = select(TokenRecord).where(mine, col(TokenRecord.ended_at).is_(None)).order_by(col(TokenRecord.created_at))
        passkeys = select(PasskeyRecord).where(PasskeyRecord.person_id == who.person).order_by(col(PasskeyRecord.created_at))
        return Account(
            sessions=sessions.of_person(session, who),
            passkeys=[PasskeyView.model_validate(each, from_attributes=True) for each in session.exec(passkeys).all()],
            tokens=[_token(each) for each in session.exec(tokens).all()],
        )


def roles_of(who: Who) -> tuple[str, list[Role]]:
    """Somebody's sign-in name and roles, both empty without an account."""
    if who.person is None:
        return "", []
    with transaction() as session:
        person = session.get_one(Person, who.person)
    return person.sign_in, [role for role in ROLES if role in person.roles]


def _token(record: TokenRecord) -> TokenView:
    return TokenView(
        id=record.id,
        name=record.name,
        rights=cast(list[Right], record.rights),
        created_at=record.created_at,
        expires_at=record.expires_at,
        used_at=record.used_at,
    )


def _mine(who: Who) -> Person:
    with transaction() as session:
        return _there(session, who.person)


def _there(session: Session, person_id: UUID | None) -> Person:
    person = session.get(Person, person_id) if person_id else None
    if person is None:
        raise NotFound(what="account")
    return person


def _invited(session: Session, person: Person) -> Invited:
    for earlier in session.exec(select(InvitationRecord).where(InvitationRecord.person_id == person.id)).all():
        session.delete(earlier)
    secret, until = secrets.fresh(), now() + INVITED_FOR
    session.add(InvitationRecord(secret_sha256=secrets.hashed(secret), person_id=person.id, expires_at=until))
    sessions.tell(session, person.id)
    return Invited(person=person.id, secret=secret, expires_at=until)


def _person_of(session: Session, secret: str) -> Person:
    found = session.get(InvitationRecord, secrets.hashed(secret))
    if found is None:
        raise InvitationEnded(reason="is not known here")
    if found.used_at is not None:
        raise InvitationEnded(reason="was used already")
    if found.expires_at < now():
        raise InvitationEnded(reason="has expired")
    person = session.get_one(Person, found.person_id)
    if person.ended_at is not None:
        raise InvitationEnded(reason="is for an account that has ended")
    return person


def _one_at_a_time(session: Session) -> None:
    session.execute(select(func.pg_advisory_xact_lock(_CHANGING)))


def _any(session: Session) -> bool:
    return session.exec(select(Person.id).limit(1)).first() is not None


def _administers(person: Person) -> bool:
    return person.ended_at is None and "administrator" in person.roles


def _others(session: Session, person: Person) -> int:
    """How many other administrators can sign in."""
    keyed = _keyed(session)
    others = session.exec(select(Person).where(Person.id != person.id)).all()
    return sum(1 for each in others if _administers(each) and (each.password is not None or each.id in keyed))


def _keyed(session: Session) -> set[UUID]:
    """Everybody who has a passkey."""
    return set(session.exec(select(PasskeyRecord.person_id)).all())


def _roles(roles: list[Role]) -> list[str]:
    return [role for role in ROLES if role in roles]


def _sign_in(text: str) -> str:
    known = text.strip().casefold()
    if not _SIGN_IN.fullmatch(known):
        raise SignInUnusable(sign_in=text.strip()[:64])
    return known


def _name(text: str) -> str:
    if not text.strip():
        raise NameMissing(what="account")
    return refuse(text.strip()[:LONGEST], what="The name")
