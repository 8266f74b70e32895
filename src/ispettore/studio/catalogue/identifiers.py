"""Identifiers from names, for what is kept in versions."""

import re
from collections.abc import Collection


def free(name: str, taken: Collection[str], *, otherwise: str) -> str:
    """An identifier from a name that nothing has yet; `otherwise` where the name holds no letter for it.

    >>> free("Harbour, daily (new)", [], otherwise="x"), free("Mine", ["mine", "mine-2"], otherwise="x")
    ('harbour-daily-new', 'mine-3')
    """
    base = re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-")[:56].strip("-") or otherwise
    found, count = base, 1
    while found in taken:
        count += 1
        found = f"{base}-{count}"
    return found
