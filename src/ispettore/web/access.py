"""Routes: getting in and out, one's own account, people, and the trail."""

from collections.abc import Iterator
from typing import Annotated, Any, Literal
from uuid import UUID

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import RedirectResponse, StreamingResponse
from pydantic import BaseModel, Field

from ispettore.studio.access import passkeys, people, sessions, start, tokens, trails
from ispettore.studio.access.letting_in import access
from ispettore.studio.access.passwords import MOST
from ispettore.studio.access.views import (
    AccessView,
    Account,
    InvitationView,
    Invited,
    Me,
    NewToken,
    PersonView,
    TrailView,
)
from ispettore.studio.who import RIGHTS, WHO, Role, Who
from ispettore.web.admission import address_of, cookie_name
from ispettore.web.transfer import named

routes = APIRouter()
starting = APIRouter()
Secret = Annotated[str, Field(max_length=200)]
Password = Annotated[str, Field(max_length=MOST * 4)]
SignInName = Annotated[str, Field(max_length=200)]
Name = Annotated[str, Field(max_length=200)]


class SignIn(BaseModel):
    """What somebody signs in with."""

    sign_in: SignInName
    password: Password


class Link(BaseModel):
    """The secret part of an invitation."""

    secret: Secret


class Joining(Link):
    """The password that somebody chooses who was invited."""

    password: Password


class ChangedPassword(BaseModel):
    """A password in the place of another."""

    old: Password = ""
    new: Password


class PasskeyAsked(BaseModel):
    """What the page hands to the authenticator (WebAuthn, as JSON), and the name of the challenge in it."""

    challenge: UUID
    options: dict[str, Any]


class PasskeyAnswer(BaseModel):
    """What the authenticator answered (WebAuthn, as JSON)."""

    challenge: UUID
    answer: dict[str, Any]


class NewPasskey(PasskeyAnswer):
    """The same, for a passkey to keep under a name."""

    name: Name = ""


class WantedToken(BaseModel):
    """What a script's token is for, what it may do, and how long."""

    name: Name
    rights: list[Literal["read", "work", "certify"]]
    days: int = Field(90, ge=1, le=tokens.MOST_DAYS)


class WantedPerson(BaseModel):
    """Somebody to invite."""

    sign_in: SignInName
    name: Name
    roles: list[Role] = Field(min_length=1)


class ChangedPerson(BaseModel):
    """What is to change of somebody's account; what is left out stays."""

    name: Name | None = None
    roles: list[Role] | None = Field(None, min_length=1)
    ended: bool | None = None


@starting.get("/start/{shown}")
def open_at_start(request: Request, shown: str) -> Response:
    """For the browser that opens the address which the start printed."""
    back = RedirectResponse("/", status_code=303, headers={"cache-control": "no-store"})
    if access() == "start":
        secret = start.open_for(shown, **_from(request))
        if secret is not None:
            _give(request, back, secret, longest=True)
    return back


@routes.get("/access", operation_id="getAccess")
def get_access(request: Request) -> AccessView:
    who = WHO.get()
    return AccessView(access=access(), me=_me(who) if who else None, passkeys=passkeys.usable(_host(request)))


@routes.post("/access/sign-in", operation_id="signIn", status_code=204)
def sign_in(request: Request, response: Response, given: SignIn) -> None:
    secret = people.sign_in(given.sign_in, given.password, **_from(request))
    _give(request, response, secret)


@routes.post("/access/passkey/begin", operation_id="askForPasskey")
def ask_for_passkey(request: Request) -> PasskeyAsked:
    return _asked(passkeys.begin_signing_in(host=_host(request)))


@routes.post("/access/passkey", operation_id="signInWithPasskey", status_code=204)
def sign_in_with_passkey(request: Request, response: Response, given: PasskeyAnswer) -> None:
    _give(request, response, passkeys.sign_in(given.challenge, given.answer, **_at(request), **_from(request)))


@routes.post("/access/invitation", operation_id="lookAtInvitation")
def look_at_invitation(given: Link) -> InvitationView:
    return people.invitation(given.secret)


@routes.post("/access/join", operation_id="join", status_code=204)
def join(request: Request, response: Response, given: Joining) -> None:
    secret = people.accept(given.secret, given.password, **_from(request))
    _give(request, response, secret)


@routes.post("/access/sign-out", operation_id="signOut", status_code=204)
def sign_out(request: Request, response: Response) -> None:
    who = _asking()
    if who.session is not None:
        sessions.end(who.session, who)
    response.delete_cookie(cookie_name(request), **_kept_how(request))


@routes.get("/account", operation_id="getAccount")
def get_account() -> Account:
    return people.account(_asking())


@routes.put("/account/password", operation_id="changePassword", status_code=204)
def change_password(given: ChangedPassword) -> None:
    people.change_password(_asking(), given.old, given.new)


@routes.post("/account/passkeys/begin", operation_id="beginPasskey")
def begin_passkey(request: Request) -> PasskeyAsked:
    return _asked(passkeys.begin_adding(_asking(), host=_host(request)))


@routes.post("/account/passkeys", operation_id="addPasskey", status_code=204)
def add_passkey(request: Request, given: NewPasskey) -> None:
    passkeys.add(_asking(), given.challenge, given.answer, name=given.name, **_at(request))


@routes.delete("/account/passkeys/{passkey_id}", operation_id="removePasskey", status_code=204)
def remove_passkey(passkey_id: UUID) -> None:
    passkeys.remove(passkey_id, _asking())


@routes.delete("/account/sessions/{session_id}", operation_id="endSession", status_code=204)
def end_session(session_id: UUID) -> None:
    sessions.end(session_id, _asking())


@routes.post("/account/tokens", operation_id="makeToken", status_code=201)
def make_token(wanted: WantedToken) -> NewToken:
    return tokens.make(_asking(), name=wanted.name, rights=[*wanted.rights], days=wanted.days)


@routes.delete("/account/tokens/{token_id}", operation_id="endToken", status_code=204)
def end_token(token_id: UUID) -> None:
    tokens.end(token_id, _asking())


@routes.get("/people", operation_id="listPeople")
def list_people() -> list[PersonView]:
    return people.everybody()


@routes.post("/people", operation_id="invitePerson", status_code=201)
def invite_person(wanted: WantedPerson) -> Invited:
    return people.invite(sign_in=wanted.sign_in, name=wanted.name, roles=wanted.roles)


@routes.post("/people/{person_id}/invitation", operation_id="inviteAgain", status_code=201)
def invite_again(person_id: UUID) -> Invited:
    return people.invite_again(person_id)


@routes.patch("/people/{person_id}", operation_id="changePerson", status_code=204)
def change_person(person_id: UUID, changed: ChangedPerson) -> None:
    people.change(person_id, name=changed.name, roles=changed.roles, ended=changed.ended)


@routes.get("/trail", operation_id="getTrail")
def get_trail(
    start: Annotated[int, Query(ge=0)] = 0,
    count: Annotated[int, Query(ge=1, le=trails.MOST)] = 100,
    search: Annotated[str, Query(max_length=200)] = "",
) -> TrailView:
    return trails.view(start=start, count=count, search=search)


@routes.get("/trail.csv", operation_id="getTrailAsTable", response_class=Response)
def get_trail_as_table() -> Response:
    lines: Iterator[bytes] = trails.table()
    return StreamingResponse(lines, media_type="text/csv; charset=utf-8", headers=named("trail.csv"))


def _me(who: Who) -> Me:
    known, roles = people.roles_of(who)
    return Me(sign_in=known, name=who.name, roles=roles, rights=sorted(who.rights))


def _asking() -> Who:
    """Whoever asks; the application itself has all rights and no account."""
    return WHO.get() or Who(way="open", rights=RIGHTS)


def _asked(asked: passkeys.Asked) -> PasskeyAsked:
    return PasskeyAsked(challenge=asked.challenge, options=asked.options)


def _give(request: Request, response: Response, secret: str, *, longest: bool = False) -> None:
    """Hand a browser its session: out of scripts' reach, never sent along from other sites."""
    age = sessions.LONGEST_HERE if longest else sessions.LONGEST
    name = cookie_name(request)
    response.set_cookie(name, secret, max_age=int(age.total_seconds()), **_kept_how(request))


def _kept_how(request: Request) -> dict[str, Any]:
    return {"path": "/", "httponly": True, "samesite": "strict", "secure": request.url.scheme == "https"}


def _host(request: Request) -> str:
    return request.url.hostname or ""


def _at(request: Request) -> dict[str, str]:
    """Where the page is, as an authenticator is told."""
    return {"host": _host(request), "origin": f"{request.url.scheme}://{request.headers.get('host', '')}"}


def _from(request: Request) -> dict[str, str]:
    """From where somebody asks, and with what."""
    return {"address": address_of(request.scope), "agent": request.headers.get("user-agent", "")}
