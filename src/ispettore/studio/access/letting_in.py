"""Who is let in where."""

import ipaddress

from ispettore.studio.access.views import Access
from ispettore.studio.settings import Settings, settings


def access(chosen: Settings | None = None) -> Access:
    """As it is set; else people who sign in where other machines could ask, and whoever has the start token elsewhere."""
    found = chosen or settings()
    return found.access or ("start" if alone(found.host) else "accounts")


def alone(host: str) -> bool:
    """Whether only this machine reaches an address.

    >>> alone("127.0.0.1"), alone("localhost"), alone("0.0.0.0"), alone("::1"), alone("192.0.2.7")
    (True, True, False, True, False)
    """
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return host == "localhost"
