"""A treatment while somebody works on it: steps that may be wrong, unknown or switched off, and what each change was, in words.

Nothing is refused here: a draft is kept as it is, and what speaks against a step stands beside it. It runs once every step that is
on is sound.
"""

from collections.abc import Callable, Sequence
from typing import Any
from uuid import uuid4

from pydantic import BaseModel, ConfigDict, Field

from ispettore.core.errors import IspettoreError
from ispettore.core.measure.inspection import Inspection
from ispettore.core.treat import order, wording
from ispettore.core.treat.treatment import STEPS, Step, Treatment

MOST_STEPS = 64


class StepNotReady(IspettoreError):
    """Step {number}, {title}, can't run: {reason}"""

    number: int
    title: str
    reason: str


class DraftStep(BaseModel):
    """One step as it stands. `id` stays with it wherever it is moved."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    id: str = Field(default_factory=lambda: uuid4().hex[:12], max_length=40)
    kind: str = Field(max_length=80)
    settings: dict[str, Any] = {}
    on: bool = True
    reason: str = Field("", max_length=2_000)


class ReadStep(DraftStep):
    """A step with how it reads, and what speaks against it: what is wrong with it (`problems`), and where it stands (`order`)."""

    reading: wording.StepReading
    problems: tuple[str, ...] = ()
    order: str = ""


Steps = Sequence[DraftStep]


def of(treatment: Treatment) -> tuple[DraftStep, ...]:
    """A draft that begins with a treatment's steps. A bed is laid under whatever comes out, and is none of them."""
    own = (one for one in treatment.steps if not STEPS[one.kind].adds_sound)
    return tuple(DraftStep(kind=one.kind, settings=one.settings, on=one.on, reason=one.reason) for one in own)


def read(steps: Steps, inspection: Inspection | None = None) -> list[ReadStep]:
    """Every step as it reads, checked against the recording it is for."""
    on = [number for number, step in enumerate(steps) if step.on]
    objections = order.by_place([steps[number].kind for number in on])
    placed = {on[place]: said for place, said in objections.items()}
    found = []
    for number, step in enumerate(steps):
        reading = wording.read(step.kind, step.settings, inspection)
        lacking = STEPS[step.kind].model_validate(step.settings).lacks(inspection) if reading.sound and inspection else ""
        problems = (*reading.problems, *([lacking] if lacking else []))
        found.append(ReadStep(**step.model_dump(), reading=reading, problems=problems, order=placed.get(number, "")))
    return found


def placed(steps: Steps, moved: Callable[[float, float], tuple[float, float] | None]) -> tuple[DraftStep, ...]:
    """Steps of a recording whose places went elsewhere: every entry with a start and an end follows, and goes where `moved` finds
    no place for it; a step that was for such entries alone goes with the last of them.

    >>> spots = [{"start_s": 1, "end_s": 2, "gain_db": -3}, {"start_s": 5, "end_s": 6, "gain_db": 2}]
    >>> one = DraftStep(kind="spot-gain", settings={"spots": spots})
    >>> [later] = placed([one], lambda start, end: (start - 3, end - 3) if start >= 3 else None)
    >>> later.settings["spots"]
    [{'start_s': 2, 'end_s': 3, 'gain_db': 2}]
    >>> placed([one], lambda start, end: None)
    ()
    """
    found = []
    for step in steps:
        settings, gone = dict(step.settings), False
        for name, entries in step.settings.items():
            if not isinstance(entries, list | tuple) or not any(_place(entry) for entry in entries):
                continue
            followed = []
            for entry in entries:
                place = _place(entry)
                times = moved(*place) if place is not None else None
                if times is not None:
                    followed.append({**entry, "start_s": times[0], "end_s": times[1]})
                elif place is None:
                    followed.append(entry)
            settings[name], gone = followed, gone or not followed
        if not gone:
            found.append(step.model_copy(update={"settings": settings}))
    return tuple(found)


def _place(entry: Any) -> tuple[float, float] | None:
    if not isinstance(entry, dict):
        return None
    start, end = entry.get("start_s"), entry.get("end_s")
    return (start, end) if isinstance(start, int | float) and isinstance(end, int | float) else None


def ready(read_steps: Sequence[ReadStep]) -> bool:
    """Whether the draft can run."""
    return all(step.reading.sound and not step.problems for step in read_steps if step.on)


def treatment(steps: Steps, inspection: Inspection | None = None) -> Treatment:
    """The treatment to run. Raises StepNotReady for the first step that is on and can't.

    >>> [step.kind for step in treatment([DraftStep(kind="gain", settings={"gain_db": 3})]).steps]
    ['gain']
    """
    for number, step in enumerate(read(steps, inspection), 1):
        if step.on and (step.problems or not step.reading.sound):
            wrong = [*step.problems, *(setting.problem for setting in step.reading.settings.values() if setting.problem)]
            raise StepNotReady(number=number, title=step.reading.title.lower(), reason=wrong[0])
    known = [step for step in steps if step.on or wording.read(step.kind, step.settings).sound]
    made = (Step(kind=step.kind, settings=dict(step.settings), on=step.on, reason=step.reason) for step in known)
    return Treatment(steps=tuple(made))


def told(before: Steps, after: Steps) -> str:
    """What one change did, in a few words, as undoing names it; empty where nothing changed.

    >>> one = DraftStep(id="a", kind="gain", settings={"gain_db": 3})
    >>> told([one], [one.model_copy(update={"settings": {"gain_db": 4}})])
    'gain 4 dB'
    >>> told([one], []), told([], [one]), told([one], [one.model_copy(update={"on": False})])
    ('remove gain', 'add gain', 'switch gain off')
    """
    was, now = {step.id: step for step in before}, {step.id: step for step in after}
    added, removed = [step for step in after if step.id not in was], [step for step in before if step.id not in now]
    if len(added) + len(removed) > 1:
        return "replace the treatment"
    if added:
        return f"add {_title(added[0])}"
    if removed:
        return f"remove {_title(removed[0])}"
    differing = [(was[step.id], step) for step in after if was[step.id] != step]
    if len(differing) > 1:
        return "change several steps"
    if differing:
        return _change(*differing[0])
    moved = _moved([step.id for step in before], [step.id for step in after])
    return f"move {_title(now[moved])}" if moved else ""


def differences(before: Steps, after: Steps) -> list[str]:
    """What a treatment became against what it began as, a few words for each step.

    >>> one = DraftStep(id="a", kind="gain", settings={"gain_db": 3})
    >>> differences([one], [one.model_copy(update={"settings": {"gain_db": 4}}), DraftStep(id="b", kind="de-esser")])
    ['gain 4 dB', 'with de-esser']
    """
    was, now = {step.id: step for step in before}, {step.id: step for step in after}
    found = [_change(was[step.id], step) for step in after if step.id in was and was[step.id] != step]
    found += [f"with {_title(step)}" for step in after if step.id not in was]
    found += [f"without {_title(step)}" for step in before if step.id not in now]
    both = [one for one in was if one in now]
    if both != [one for one in now if one in was]:
        found.append("in another order")
    return found


def _title(step: DraftStep) -> str:
    known = STEPS.get(step.kind)
    return known.title.lower() if known else step.kind


def _change(was: DraftStep, now: DraftStep) -> str:
    if was.on != now.on:
        return f"switch {_title(now)} {'on' if now.on else 'off'}"
    old, new = wording.read(was.kind, was.settings), wording.read(now.kind, now.settings)
    if len(old.entries) != len(new.entries):
        return f"{_title(now)}: {'add' if len(new.entries) > len(old.entries) else 'remove'} an entry"
    same = old.settings
    told = [wording.changed(one) for path, one in new.settings.items() if path not in same or same[path].value != one.value]
    if len(told) != 1:
        return f"change {_title(now)}"
    title = _title(now)
    return told[0] if told[0].startswith(title) else f"{title}: {told[0]}"


def _moved(before: Sequence[str], after: Sequence[str]) -> str:
    """The one that was taken out and put elsewhere: without it both orders are alike."""
    for one in after:
        if [other for other in before if other != one] == [other for other in after if other != one] and list(before) != list(
            after
        ):
            return one
    return ""
