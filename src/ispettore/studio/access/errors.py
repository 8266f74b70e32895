"""What is refused to whom, as sentences for a person."""

from ispettore.core.errors import IspettoreError


class NotSignedIn(IspettoreError):
    """You are not signed in{why}. {how}"""

    why: str
    how: str


class NotAllowed(IspettoreError):
    """This needs the role {role}; you have {have}. Ask an administrator for it, or ask somebody who has it to do this."""

    role: str
    have: str


class TokenNotAllowed(IspettoreError):
    """The token “{token}” may not do this: it can only {rights}. Make one that may, under Account."""

    token: str
    rights: str


class SignInRefused(IspettoreError):
    """“{sign_in}” can't sign in with this password. Check both; an administrator can send a new link."""

    sign_in: str


class PasskeyRefused(IspettoreError):
    """This passkey was not accepted: {reason}. Try again, or sign in with your password."""

    reason: str


class TooManyTries(IspettoreError):
    """There were too many failed tries for “{sign_in}”. Wait {minutes} min, then try again."""

    sign_in: str
    minutes: int


class TooManyAtOnce(IspettoreError):
    """You already have {most} {what} under way here, the most for one browser. Close some pages, then try again."""

    most: int
    what: str


class PasswordTooWeak(IspettoreError):
    """This password is too {what}. Use {least} to {most} characters; several words in a row are easy to keep and hard to guess."""

    what: str
    least: int
    most: int


class InvitationEnded(IspettoreError):
    """This link {reason}. Ask an administrator for a new one."""

    reason: str


class SignInTaken(IspettoreError):
    """“{sign_in}” is somebody's sign-in name already. Choose another."""

    sign_in: str


class SignInUnusable(IspettoreError):
    """“{sign_in}” can't be a sign-in name. Use 2 to 64 letters, digits and these: . _ @ + - (no spaces)."""

    sign_in: str


class LastAdministrator(IspettoreError):
    """“{name}” is the only administrator who can sign in. Make somebody else one first; nothing was changed."""

    name: str


class FirstAdministrator(IspettoreError):
    """The first account must be an administrator's: without one nobody could make others. Give “{name}” that role too."""

    name: str


class OpenToOthers(IspettoreError):
    """Ispettore does not start: at {host} other machines would reach it, and ISPETTORE_ACCESS is “{access}”. Let people sign in
    (ISPETTORE_ACCESS=accounts), or stay on 127.0.0.1."""

    host: str
    access: str


class NobodyCanSignIn(IspettoreError):
    """Ispettore does not start: people have to sign in at {host}, and there is no administrator yet. Invite one first
    (ispettore invite SIGN-IN-NAME --role administrator)."""

    host: str


class NotEncrypted(IspettoreError):
    """Ispettore does not start: at {host} passwords would cross the network in the clear. Set ISPETTORE_TLS_CERTIFICATE and
    ISPETTORE_TLS_KEY, or stay on 127.0.0.1 behind a proxy named in ISPETTORE_TRUSTED_PROXIES."""

    host: str


class NamesMissing(IspettoreError):
    """Ispettore does not start: at {host} it has to know by which names it is reached. Name them in ISPETTORE_ALLOWED_HOSTS,
    with commas between; “{given}” won't do."""

    host: str
    given: str
