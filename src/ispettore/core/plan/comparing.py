"""Two versions of a recording against one another: what was asked differently, what was done differently, and what both read."""

from collections.abc import Sequence
from typing import Literal

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.spec.changes import Change
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.shown import Shown, shown
from ispettore.core.treat.changes import steps_changed
from ispettore.core.treat.treatment import Step


class Inputs(BaseModel):
    """What a version was made from, each in words; empty where it does not apply."""

    model_config = ConfigDict(frozen=True)

    specification: str
    made_by: str
    format: str
    alike: str
    bounds: str
    room_tone: str
    edits: str
    methods: str
    software: str


TITLES = {
    "specification": "Specification",
    "made_by": "Made by",
    "format": "Format",
    "alike": "To be like",
    "bounds": "Bounds",
    "room_tone": "Room tone",
    "edits": "Edits",
    "methods": "Methods",
    "software": "Software",
}


class Pair(Shown):
    """One quantity in both, None where it has no value. `alike` says that they read the same as far as figures are shown."""

    one: float | None
    other: float | None
    alike: bool

    @property
    def difference(self) -> float | None:
        """How much more the other reads."""
        return self.other - self.one if self.one is not None and self.other is not None else None


def asked(one: Inputs, other: Inputs) -> list[Change]:
    """What was asked differently, in a fixed order.

    >>> said = {"alike": "", "bounds": "", "room_tone": "", "edits": "", "methods": "1", "software": "1"}
    >>> plain = Inputs(specification="A", made_by="light plan", format="MP3", **said)
    >>> [(change.about, change.after) for change in asked(plain, plain.model_copy(update={"format": "FLAC"}))]
    [('Format', 'FLAC')]
    """
    found = []
    for name, title in TITLES.items():
        was, now = getattr(one, name), getattr(other, name)
        if was != now:
            found.append(Change(kind=_kind(was, now), about=title, before=was, after=now))
    return found


def _kind(was: str, now: str) -> Literal["added", "removed", "changed"]:
    if was and now:
        return "changed"
    return "removed" if was else "added"


def done(one: Sequence[Step], other: Sequence[Step]) -> list[Change]:
    """What was done differently; what steps learned by themselves is told by their own entries, not here."""
    return steps_changed(one, other)


def pairs(one: Inspection, other: Inspection) -> list[Pair]:
    """Every quantity that both or either of two files read as a number, in the order of the quantities."""
    found = []
    for name, about in QUANTITIES.items():
        was, now = one.value(name), other.value(name)
        if was is None and now is None:
            continue
        alike = was is not None and now is not None and round(was, about.decimals) == round(now, about.decimals)
        found.append(Pair(**shown(name), one=was, other=now, alike=alike))
    return found
