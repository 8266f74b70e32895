"""What one version of a specification changed against another, in words."""

from typing import Literal

from pydantic import BaseModel, ConfigDict

from ispettore.core.figures import exact
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.wording import sentence


class Change(BaseModel):
    """One difference: what was, what is (empty where there was or is nothing), and what it is about."""

    model_config = ConfigDict(frozen=True)

    kind: Literal["added", "removed", "changed"]
    about: str
    before: str
    after: str


def changes(before: Specification, after: Specification) -> list[Change]:
    """Every difference between two versions, limits in the order of the newer one; empty where they ask the same.

    >>> one = Specification(id="a", name="A", limits=(Limit(quantity="rms_dbfs", low=-23, high=-18),))
    >>> two = one.model_copy(update={"version": 2, "limits": (Limit(quantity="rms_dbfs", low=-22, high=-18),)})
    >>> [(change.kind, change.after) for change in changes(one, two)]
    [('changed', 'RMS level between −22 and −18 dBFS over the whole file')]
    """
    found = [
        Change(kind="changed", about=name, before=old, after=new)
        for name, old, new in (
            ("Name", before.name, after.name),
            ("Description", before.description, after.description),
            ("Source", before.source, after.source),
            ("Mono", _mono(before), _mono(after)),
        )
        if old != new
    ]
    old_limits, new_limits = _by_quantity(before), _by_quantity(after)
    for key, limit in new_limits.items():
        was = old_limits.get(key)
        if was is None:
            found.append(Change(kind="added", about=limit.about.title, before="", after=sentence(limit)))
        elif was != limit:
            found.append(Change(kind="changed", about=limit.about.title, before=_in_full(was, limit), after=_in_full(limit, was)))
    found += [
        Change(kind="removed", about=limit.about.title, before=sentence(limit), after="")
        for key, limit in old_limits.items()
        if key not in new_limits
    ]
    return found


def _by_quantity(specification: Specification) -> dict[tuple[str, bool], Limit]:
    return {(limit.quantity, limit.applies_to == "production"): limit for limit in specification.limits}


def _mono(specification: Specification) -> str:
    return "measured as played on two speakers (+3 LU)" if specification.mono_on_two_loudspeakers else "measured as one speaker"


def _in_full(limit: Limit, other: Limit) -> str:
    """The sentence, with the guard and the purpose where these are what differs."""
    text = sentence(limit)
    if (limit.guard, limit.guard_percent) != (other.guard, other.guard_percent):
        text += (
            f"; near when within {exact(limit.guard_percent)} %"
            if limit.guard_percent
            else f"; near when within {exact(limit.guard)}"
        )
    if limit.purpose != other.purpose:
        text += f"; purpose: {limit.purpose or 'none'}"
    return text
