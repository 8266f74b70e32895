"""Whether this installation may be reached from where it is bound to: decided before anything answers."""

from ispettore.studio.access import people
from ispettore.studio.access.errors import NamesMissing, NobodyCanSignIn, NotEncrypted, OpenToOthers
from ispettore.studio.access.letting_in import access, alone
from ispettore.studio.settings import Settings, settings


def check(chosen: Settings | None = None) -> None:
    """Refuse to start where others could do what is not theirs. The database has to be there.

    Raises OpenToOthers, NamesMissing, NotEncrypted and NobodyCanSignIn.
    """
    found = chosen or settings()
    host, lets_in = found.host, access(found)
    if not alone(host):
        if lets_in != "accounts":
            raise OpenToOthers(host=host, access=lets_in)
        names = [name.strip() for name in found.allowed_hosts.split(",")]
        if "*" in names or all(alone(name) for name in names):
            raise NamesMissing(host=host, given=found.allowed_hosts)
        if not encrypted(found) and not found.trusted_proxies:
            raise NotEncrypted(host=host)
    if lets_in == "accounts" and not people.administered():
        raise NobodyCanSignIn(host=host)


def encrypted(found: Settings) -> bool:
    """Whether what is sent is encrypted by this process itself."""
    return found.tls_certificate is not None and found.tls_key is not None


def address(found: Settings, port: int) -> str:
    """Where a browser finds it."""
    host = found.host if alone(found.host) else found.allowed_hosts.split(",")[0].strip()
    return f"{'https' if encrypted(found) else 'http'}://{host}:{port}/"
