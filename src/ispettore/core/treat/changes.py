"""What one version of a kept treatment changed against another, in words."""

from collections.abc import Sequence

from ispettore.core.spec.changes import Change
from ispettore.core.treat import wording
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.core.treat.treatment import Step

FINISHES = {"given": "Level, peaks and ends as they stand here", "planned": "Level, peaks and ends planned for each recording"}


def changes(before: KeptTreatment, after: KeptTreatment) -> list[Change]:
    """Every difference between two versions, steps in the order of the newer one; empty where they do the same.

    Of several steps of a kind, the first is held against the first.

    >>> one = KeptTreatment(name="A", steps=(Step(kind="gain", settings={"gain_db": 3}),))
    >>> two = one.model_copy(update={"steps": (Step(kind="de-esser"), Step(kind="gain", settings={"gain_db": 4}))})
    >>> [(change.kind, change.before, change.after) for change in changes(one, two)][1]
    ('changed', 'Change the level by 3 dB', 'Change the level by 4 dB')
    """
    found = [
        Change(kind="changed", about=name, before=old, after=new)
        for name, old, new in (
            ("Name", before.name, after.name),
            ("Description", before.description, after.description),
            ("Finish", FINISHES[before.finish], FINISHES[after.finish]),
        )
        if old != new
    ]
    return found + steps_changed(before.steps, after.steps)


def steps_changed(before: Sequence[Step], after: Sequence[Step]) -> list[Change]:
    """Every difference between steps and others, in the order of the newer ones."""
    found = []
    was, now = _numbered(before), _numbered(after)
    for key, step in now.items():
        old_step = was.get(key)
        if old_step is None:
            found.append(Change(kind="added", about=_title(step), before="", after=sentence(step)))
        elif _acts(old_step) != _acts(step):
            old, new = sentence(old_step), sentence(step)
            if old == new:
                old, new = sentence(old_step, whole=True), sentence(step, whole=True)
            found.append(Change(kind="changed", about=_title(step), before=old, after=new))
    found += [
        Change(kind="removed", about=_title(step), before=sentence(step), after="") for key, step in was.items() if key not in now
    ]
    both = [key for key in was if key in now]
    if both != [key for key in now if key in was]:
        found.append(Change(kind="changed", about="Order", before=_order(before), after=_order(after)))
    return found


def sentence(step: Step, *, whole: bool = False) -> str:
    """A step as a sentence, `whole` with all of its further settings; switched off it says so."""
    reading = wording.read(step.kind, step.settings)
    said = wording.text(reading) + (f" ({wording.further_text(reading)})" if whole else "")
    return said if step.on else f"{said} (off)"


def _acts(step: Step) -> tuple[object, bool]:
    return {path: setting.value for path, setting in wording.read(step.kind, step.settings).settings.items()}, step.on


def _title(step: Step) -> str:
    return wording.read(step.kind, step.settings).title


def _numbered(steps: Sequence[Step]) -> dict[tuple[str, int], Step]:
    found: dict[tuple[str, int], Step] = {}
    for step in steps:
        found[step.kind, sum(kind == step.kind for kind, _ in found)] = step
    return found


def _order(steps: Sequence[Step]) -> str:
    return ", ".join(_title(step).lower() for step in steps)
