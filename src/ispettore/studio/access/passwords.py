"""Passwords: which are good enough, their hashes, and how often one may be tried (OWASP ASVS 5, chapter 6)."""

import threading
from datetime import timedelta
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlmodel import Session, col, delete, func, select
from zxcvbn import zxcvbn

from ispettore.studio.access.errors import PasswordTooWeak, TooManyTries
from ispettore.studio.tables import SignInTry, now

LEAST, MOST = 12, 128
GUESSES = 3
"""On zxcvbn's scale of 0 to 4: safe from anybody who can only try."""
WINDOW = timedelta(minutes=15)
MOST_TRIES = 5
"""For one sign-in name within the window."""
MOST_FROM_ONE_ADDRESS = 40
_hasher = PasswordHasher()
_AT_ONCE = threading.BoundedSemaphore(2)
"""Each takes 64 MB: many at once must not take all memory."""


def check(password: str, *, of: tuple[str, ...] = ()) -> None:
    """Whether a password will do; `of` are words about its owner that make it easy to guess. Raises PasswordTooWeak."""
    if len(password) < LEAST:
        raise PasswordTooWeak(what="short", least=LEAST, most=MOST)
    if len(password) > MOST:
        raise PasswordTooWeak(what="long", least=LEAST, most=MOST)
    if zxcvbn(password[:72], user_inputs=[*of, "ispettore"])["score"] < GUESSES:
        raise PasswordTooWeak(what="easy to guess", least=LEAST, most=MOST)


def hashed(password: str) -> str:
    """Its Argon2id hash (RFC 9106), with salt and cost in it."""
    with _AT_ONCE:
        return _hasher.hash(password)


def matches(kept: str | None, password: str) -> bool:
    """Whether a password is the kept one. Where none is kept it takes as long: the time tells nobody who has an account."""
    with _AT_ONCE:
        try:
            return _hasher.verify(kept or _nobodys(), password) and kept is not None
        except (VerificationError, InvalidHashError):
            return False


def outdated(kept: str) -> bool:
    """Whether a hash was made at another cost than one made now."""
    return _hasher.check_needs_rehash(kept)


@cache
def _nobodys() -> str:
    return _hasher.hash("nobody's")


def begin_try(session: Session, sign_in: str, address: str) -> SignInTry:
    """Count a try before it is answered, so that many at once count as many. Raises TooManyTries."""
    since = now() - WINDOW
    session.execute(delete(SignInTry).where(col(SignInTry.at) < since))
    session.execute(select(func.pg_advisory_xact_lock(0x51616, func.hashtext(sign_in))))
    count = select(func.count(), func.min(SignInTry.at))
    for which, most in ((SignInTry.sign_in == sign_in, MOST_TRIES), (SignInTry.address == address, MOST_FROM_ONE_ADDRESS)):
        tries, first = session.exec(count.where(which)).one()
        if tries >= most and first is not None:
            raise TooManyTries(sign_in=sign_in, minutes=max(1, round((first - since).total_seconds() / 60)))
    found = SignInTry(sign_in=sign_in, address=address)
    session.add(found)
    return found


def succeeded(session: Session, sign_in: str) -> None:
    """Forget the failed tries of somebody who is in by now."""
    session.execute(delete(SignInTry).where(col(SignInTry.sign_in) == sign_in))
