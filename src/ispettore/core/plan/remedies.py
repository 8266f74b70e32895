"""What mends a finding: a step, another take, or nothing, and why."""

from collections import Counter

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import FindingKind
from ispettore.core.treat.treatment import Treatment

REMEDIES: dict[FindingKind, str] = {
    "asymmetry": "The wave leans to one side, as many voices do; a linear-phase filter keeps it from costing headroom.",
    "band-limited": "The spectrum ends too early for this sample rate: the file was encoded with loss or brought up from a lower "
    "rate before. Nothing brings the missing band back; go back to the original recording.",
    "breath": "Lower it by a few decibels where it distracts; cutting it out to silence sounds worse than the breath.",
    "broken-off": "The file ends before its header says it should. Copy or export it again.",
    "click": "Click repair rebuilds the sound under it; if a long one is still heard inside a word, record the sentence again.",
    "clipping": "The wave was cut off while recording; no step restores it. Record the passage again with the input 6 dB lower.",
    "clipping-suspected": "The tops look cut off before the file was encoded or resampled. If it is heard, record it again "
    "with the input lower.",
    "dc-offset": "A rumble filter takes it away; look for a faulty cable or interface.",
    "dead-silence": "Room tone fill puts the recording's own room tone in its place; a gate or an editor cut the room away.",
    "dropout": "The recording computer lost samples here. Record the sentence again, with a larger buffer.",
    "hum": "A hum filter takes out narrow bands; better still, find the mains cable or the lamp that causes it.",
    "identical-channels": "Both channels carry the same: deliver it as mono, unless stereo is asked for.",
    "inter-sample-over": "Between the samples the wave goes beyond full scale; a true-peak limiter holds it below.",
    "inverted-channel": "One channel is upside down and vanishes in mono. Turn its polarity over, or deliver the other one alone.",
    "level-jump": "The voice changes its level here: raise or lower one side by the difference, or ride the level.",
    "long-pause": "Shorten it if nothing is meant to happen here.",
    "mouth-noise": "Replace it with room tone if it is heard; more water and a little more distance help.",
    "noise-in-pause": "Something else sounded here: a chair, a page, a door. Replace it with room tone.",
    "plosive": "A burst of air hit the microphone: a rumble filter softens it; speak past the microphone, or use a screen.",
    "repeated-buffer": "The recording computer repeated a stretch of samples. Record the sentence again, with a larger buffer.",
    "room-echo": "The room is heard after the words, and no processing takes it away cleanly. Record closer, among soft things.",
    "room-tone-jump": "The room changes here, as at an edit: lay one room tone over both sides, or cross-fade longer.",
    "rumble": "A rumble filter takes it away; stand the microphone on something soft.",
    "sibilance": "A de-esser lowers these bursts; a little more distance and angle to the microphone avoids them.",
    "silent-channel": "This channel holds nothing: deliver the other one as mono, or look for the cable.",
}


def advice(kind: str) -> str:
    """One sentence for a kind of finding; empty where there is nothing to say.

    >>> advice("broken-off")
    'The file ends before its header says it should. Copy or export it again.'
    """
    return next((said for known, said in REMEDIES.items() if known == kind), "")


MENDED_BY: dict[FindingKind, frozenset[str]] = {
    "click": frozenset({"click-repair"}),
    "clipping": frozenset({"clip-repair"}),
    "clipping-suspected": frozenset({"clip-repair"}),
    "dc-offset": frozenset({"rumble-filter"}),
    "dead-silence": frozenset({"room-tone-fill"}),
    "hum": frozenset({"hum-filter"}),
    "identical-channels": frozenset({"channels"}),
    "inter-sample-over": frozenset({"true-peak-limiter"}),
    "inverted-channel": frozenset({"channels"}),
    "level-jump": frozenset({"level-riding"}),
    "rumble": frozenset({"rumble-filter"}),
    "silent-channel": frozenset({"channels"}),
}
"""The steps that mend a finding, where any does."""


class Left(BaseModel):
    """Findings of a kind that a treatment leaves as they are, how many, and what mends them."""

    model_config = ConfigDict(frozen=True)

    kind: str
    count: int
    advice: str


def left(inspection: Inspection, treatment: Treatment) -> tuple[Left, ...]:
    """What a treatment leaves of what was found, but for mere notes; in the order in which it was found."""
    steps = {step.kind for step in treatment.steps if step.on}
    found = Counter(
        finding.kind
        for finding in inspection.findings
        if finding.severity != "note" and not steps & MENDED_BY.get(finding.kind, frozenset())
    )
    return tuple(Left(kind=kind, count=count, advice=advice(kind)) for kind, count in found.items())
