"""Which version of the methods gave other figures for what.

Whoever changes a meter so that it reads differently adds a line to `CHANGED`. Inspections and certificates carry the version they
were taken by; what changed since may differ from what is measured today, and nothing else may.
"""

CHANGED: dict[int, frozenset[str] | None] = {1: None, 2: None, 3: None}
"""By version: the quantities and facts that read differently from it on, None where any may."""


def current() -> int:
    """The version of the methods of now."""
    return max(CHANGED)


def may_differ(quantity: str, *, since: int) -> bool:
    """Whether a reading or fact taken by an older (or newer) version need not be what is measured now.

    >>> may_differ("rms_dbfs", since=current()), may_differ("rms_dbfs", since=1), may_differ("rms_dbfs", since=current() + 1)
    (False, True, True)
    """
    later = [names for version, names in CHANGED.items() if version > since]
    return since > current() or any(names is None or quantity in names for names in later)
