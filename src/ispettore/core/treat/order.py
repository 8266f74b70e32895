"""The order in which steps belong, and what another order risks, in a sentence each."""

from collections.abc import Sequence

from ispettore.core.treat.treatment import STEPS, Step, Treatment

GROUPS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("Convert", ("channels", "sample-rate")),
    ("Repair", ("clip-repair", "click-repair", "room-tone-fill")),
    ("Clean", ("rumble-filter", "hum-filter", "noise-reduction", "breath-softening", "expander")),
    ("Bring to a known level", ("reference-level",)),
    ("Shape the tone", ("tone", "resonance-search", "tone-match", "de-esser")),
    ("Even out", ("level-riding", "spot-gain", "multiband-compressor", "compressor")),
    ("Set the level and hold peaks", ("gain", "final-level", "true-peak-limiter")),
    ("Finish", ("head-and-tail",)),
)
"""The order of work as a person is offered it."""

STAGES: tuple[tuple[str, ...], ...] = (
    ("channels", "sample-rate"),
    ("clip-repair", "click-repair", "room-tone-fill"),
    ("rumble-filter", "hum-filter"),
    ("noise-reduction",),
    ("breath-softening", "expander"),
    ("reference-level",),
    ("tone", "resonance-search", "tone-match", "de-esser"),
    ("level-riding", "spot-gain"),
    ("multiband-compressor", "compressor"),
    ("bed",),
    ("gain", "final-level", "true-peak-limiter"),
    ("head-and-tail",),
)
CLEANED_AT_ANY_LEVEL = ("noise-reduction", "breath-softening", "expander")
"""Learned or set at whatever level comes in: a constant gain before them takes nothing from them."""

RISKS: dict[str, str] = {
    "channels": "mixing channels afterwards moves the levels and peaks that were set before",
    "sample-rate": "converting the rate afterwards can lift peaks above what was set before",
    "clip-repair": "the flat tops it looks for have been rounded or moved by then",
    "click-repair": "a click has driven what came before it, and is longer and lower than it was",
    "room-tone-fill": "the room has been moved by then, and what is filled in no longer fits what is around it",
    "rumble-filter": "until then rumble drives what listens to the level, and taking it away later moves peaks again",
    "hum-filter": "until then hum drives what listens to the level, and later its strength is no longer steady",
    "noise-reduction": "the noise has been moved by then, so what is learned in pauses no longer fits what lies under the voice",
    "breath-softening": "breaths have been lifted or lowered by then, so the amount is no longer what it says",
    "expander": "pauses and soft speech have been brought together by then, and no threshold lies between them",
    "reference-level": "thresholds set before it meet another level than they are set for",
    "tone": "what it raises was not heard by the dynamics before it and comes out uncontrolled",
    "resonance-search": "a resonance has driven the dynamics before it already",
    "tone-match": "the dynamics before it answered to another tone than comes out",
    "de-esser": "sibilance has driven the dynamics before it already, and was lifted by them",
    "level-riding": "the dynamics before it worked on uneven levels, harder in one passage than in another",
    "spot-gain": "the dynamics before it did not know the gain that follows",
    "multiband-compressor": "it moves peaks and level after they were set",
    "compressor": "it moves peaks and level after they were set",
    "bed": "the mix is louder, and peaks higher, than what was set before",
    "gain": "it moves the level after it was set",
    "final-level": "it moves the level after it was set",
    "true-peak-limiter": "what was laid at the ends is limited with the rest",
    "head-and-tail": "what follows changes the room tone laid at the ends",
}
"""What is risked when a step stands after one that belongs behind it."""


def stage_of(kind: str) -> int:
    return next(number for number, kinds in enumerate(STAGES) if kind in kinds)


def objections(treatment: Treatment) -> list[str]:
    """For each step that stands after one it belongs before, a sentence; none for the usual order. Any order runs.

    A limiter before a level is one too: gain after it lifts its peaks.
    """
    return list(by_place([step.kind for step in treatment.steps if step.on]).values())


def by_place(kinds: Sequence[str]) -> dict[int, str]:
    """The objections by the place of the step they concern, among the kinds of steps that are on. Kinds that are not known are
    passed over.

    >>> by_place(["gain", "harp", "rumble-filter"])[2].partition(":")[0]
    'Rumble filter comes after gain'
    """
    said = {}
    for number, kind in enumerate(kinds):
        later = [before for before in kinds[:number] if before in STEPS and kind in STEPS and _belongs_before(kind, before)]
        if later:
            said[number] = f"{STEPS[kind].title} comes after {STEPS[later[0]].title.lower()}: {RISKS[kind]}."
    return said


def place_for(kind: str, kinds: Sequence[str]) -> int:
    """Where a new step belongs among others: behind the last that belongs before it.

    >>> place_for("compressor", ["rumble-filter", "gain", "true-peak-limiter"])
    1
    """
    before = [number for number, other in enumerate(kinds) if other in STEPS and not _belongs_before(kind, other)]
    return before[-1] + 1 if before else 0


def with_bed(steps: Sequence[Step], bed: Step | None) -> tuple[Step, ...]:
    """Steps with a bed laid under what comes out of them: before the last that only set the level and hold peaks, which then hold
    those of the mix. Ends that were behind it come before it: they are filled with room tone, and the bed has none.

    >>> steps = [Step(kind=kind) for kind in ("de-esser", "final-level", "head-and-tail")]
    >>> [step.kind for step in with_bed(steps, Step(kind="bed"))]
    ['de-esser', 'head-and-tail', 'bed', 'final-level']
    """
    if bed is None:
        return tuple(steps)
    at = len(steps)
    while at and stage_of(steps[at - 1].kind) > stage_of("bed"):
        at -= 1
    behind = steps[at:]
    ends = [step for step in behind if step.typed.at_ends]
    return (*steps[:at], *ends, bed, *(step for step in behind if not step.typed.at_ends))


def _belongs_before(kind: str, other: str) -> bool:
    if kind in ("gain", "final-level") and other == "true-peak-limiter":
        return True
    if kind in CLEANED_AT_ANY_LEVEL and other == "reference-level":
        return False
    return stage_of(kind) < stage_of(other)
