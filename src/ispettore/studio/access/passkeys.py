"""Passkeys (WebAuthn level 3): added to an account, and signed in with, by a well-kept library."""

import json
from datetime import timedelta
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, delete, select
from webauthn import (
    base64url_to_bytes,
    generate_authentication_options,
    generate_registration_options,
    options_to_json,
    verify_authentication_response,
    verify_registration_response,
)
from webauthn.helpers.exceptions import WebAuthnException
from webauthn.helpers.structs import (
    AuthenticatorSelectionCriteria,
    PublicKeyCredentialDescriptor,
    ResidentKeyRequirement,
    UserVerificationRequirement,
)

from ispettore.core.deliver.entries import LONGEST
from ispettore.core.text import refuse
from ispettore.studio.access import people, sessions
from ispettore.studio.access.errors import PasskeyRefused
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import ChallengeRecord, PasskeyRecord, Person, now
from ispettore.studio.who import Who

SOON = timedelta(minutes=5)
"""How long an authenticator has to answer."""
WRONG = (WebAuthnException, ValueError, KeyError, TypeError)
MOST = 20
VERIFIED = UserVerificationRequirement.REQUIRED


class Asked:
    """What a page hands to the authenticator: the options, and the name under which the challenge waits."""

    def __init__(self, challenge: UUID, options: dict[str, Any]) -> None:
        self.challenge, self.options = challenge, options


def usable(host: str) -> bool:
    """Whether browsers know passkeys at an address: by a name, not by bare numbers."""
    return bool(host) and not host.replace(".", "").isdigit() and ":" not in host


def begin_adding(who: Who, *, host: str) -> Asked:
    """Ask an authenticator for a new passkey. Raises NotFound and PasskeyRefused."""
    with transaction() as session:
        person = session.get(Person, who.person) if who.person else None
        if person is None:
            raise NotFound(what="account")
        there = session.exec(select(PasskeyRecord.credential).where(PasskeyRecord.person_id == person.id)).all()
        if len(there) >= MOST:
            raise PasskeyRefused(reason=f"an account has {MOST} at most")
        options = generate_registration_options(
            rp_id=host,
            rp_name="Ispettore",
            user_id=person.id.bytes,
            user_name=person.sign_in,
            user_display_name=person.name,
            exclude_credentials=[PublicKeyCredentialDescriptor(id=each) for each in there],
            authenticator_selection=AuthenticatorSelectionCriteria(
                resident_key=ResidentKeyRequirement.REQUIRED, user_verification=VERIFIED
            ),
        )
        return _asked(session, options, person.id)


def add(who: Who, challenge: UUID, answer: dict[str, Any], *, name: str, host: str, origin: str) -> None:
    """Keep a new passkey. Raises PasskeyRefused and BadText."""
    called = refuse(name.strip()[:LONGEST], what="The name") or "Passkey"
    with transaction() as session:
        content = _taken(session, challenge, who.person)
        try:
            found = verify_registration_response(
                credential=answer,
                expected_challenge=content,
                expected_rp_id=host,
                expected_origin=origin,
                require_user_verification=True,
            )
        except WRONG as error:
            raise PasskeyRefused(reason="its answer does not fit what was asked") from error
        if session.exec(select(PasskeyRecord).where(PasskeyRecord.credential == found.credential_id)).first() is not None:
            raise PasskeyRefused(reason="it is known here already")
        assert who.person is not None
        session.add(
            PasskeyRecord(
                person_id=who.person,
                credential=found.credential_id,
                public_key=found.credential_public_key,
                uses=found.sign_count,
                name=called,
            )
        )
        sessions.tell(session)


def remove(passkey_id: UUID, who: Who) -> None:
    """Remove a passkey of one's own. Raises NotFound, and PasskeyRefused where nothing else would be left to sign in with."""
    with transaction() as session:
        own = select(PasskeyRecord).where(PasskeyRecord.person_id == who.person)
        mine = session.exec(own).all()
        found = [each for each in mine if each.id == passkey_id]
        if not found:
            raise NotFound(what="passkey")
        if len(mine) == 1 and session.get_one(Person, who.person).password is None:
            raise PasskeyRefused(reason="it is the only way in to this account")
        session.delete(found[0])
        sessions.tell(session)


def begin_signing_in(*, host: str) -> Asked:
    """Ask an authenticator for whichever passkey somebody chooses."""
    with transaction() as session:
        return _asked(session, generate_authentication_options(rp_id=host, user_verification=VERIFIED), None)


def sign_in(challenge: UUID, answer: dict[str, Any], *, host: str, origin: str, address: str, agent: str) -> str:
    """Sign in with a passkey; the secret for the cookie. Raises PasskeyRefused."""
    with transaction() as session:
        content = _taken(session, challenge, None)
        try:
            credential = base64url_to_bytes(str(answer["id"]))
        except WRONG as error:
            raise PasskeyRefused(reason="its answer can't be read") from error
        passkey = session.exec(select(PasskeyRecord).where(PasskeyRecord.credential == credential).with_for_update()).first()
        person = session.get(Person, passkey.person_id) if passkey else None
        if passkey is None or person is None or person.ended_at is not None:
            raise PasskeyRefused(reason="it is not known here")
        try:
            found = verify_authentication_response(
                credential=answer,
                expected_challenge=content,
                expected_rp_id=host,
                expected_origin=origin,
                credential_public_key=passkey.public_key,
                credential_current_sign_count=passkey.uses,
                require_user_verification=True,
            )
        except WRONG as error:
            raise PasskeyRefused(reason="its answer does not fit what was asked") from error
        passkey.uses, passkey.used_at = found.new_sign_count, now()
        session.add(passkey)
        return people.enter(session, person, "passkey", act="signIn", address=address, agent=agent)


def _asked(session: Session, options: Any, person: UUID | None) -> Asked:
    session.execute(delete(ChallengeRecord).where(col(ChallengeRecord.created_at) < now() - SOON))
    record = ChallengeRecord(person_id=person, content=options.challenge)
    session.add(record)
    session.flush()
    return Asked(record.id, json.loads(options_to_json(options)))


def _taken(session: Session, challenge: UUID, person: UUID | None) -> bytes:
    """A challenge, which is gone with this. Raises PasskeyRefused."""
    record = session.get(ChallengeRecord, challenge, with_for_update=True)
    if record is None or record.person_id != person or now() - record.created_at > SOON:
        raise PasskeyRefused(reason="it took too long, or was answered before")
    session.delete(record)
    return record.content
