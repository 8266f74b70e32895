"""What mends a finding: a step, another take, or nothing, and why."""

from collections import Counter
from typing import TYPE_CHECKING

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import FindingKind

if TYPE_CHECKING:  # whoever only asks for advice need not wait for every step to be loaded
    from ispettore.core.treat.treatment import Treatment

REMEDIES: dict[FindingKind, str] = {
    "asymmetry": "The waveform is lopsided, as with many voices; a linear-phase filter keeps it from costing headroom.",
    "band-limited": "The spectrum ends too early for this sample rate: the file was encoded with loss or brought up from a lower "
    "rate before. Nothing restores the missing band; go back to the original recording.",
    "breath": "Lower it by a few decibels where it distracts; cutting to silence sounds worse than the breath.",
    "broken-off": "The file ends before its header says it should. Copy or export it again.",
    "click": "Click repair rebuilds the sound under it; if it is still audible in a word, record the sentence again.",
    "clipping": "The recording was clipped; no step restores it. Record the passage again with the input 6 dB lower.",
    "clipping-suspected": "The peaks look clipped before the file was encoded or resampled. If it is audible, record it again "
    "with the input lower.",
    "dc-offset": "A rumble filter removes it; check for a faulty cable or interface.",
    "dead-silence": "Room tone fill puts the recording's own room tone there; a gate or an edit removed it.",
    "dropout": "The computer lost samples here while recording. Record the sentence again, with a larger buffer.",
    "hum": "A hum filter removes narrow bands; better still, find the mains cable or lamp that causes it.",
    "identical-channels": "Both channels are identical: deliver it as mono, unless stereo is required.",
    "inter-sample-over": "Between samples the waveform exceeds full scale; a true-peak limiter keeps it below.",
    "inverted-channel": "One channel is inverted, so the voice vanishes in mono. Flip it, or deliver only the other channel.",
    "level-jump": "The voice changes level here: raise or lower one side by the difference, or use level riding.",
    "long-pause": "Shorten it unless the pause is intended.",
    "mark": "Cut out what was misread, from where it is read again back to where it was begun; under Edits cuts are proposed.",
    "mark-set": "Listen to what stands here. Where words were read again behind it, the cut is proposed under Edits.",
    "mouth-noise": "Replace it with room tone if it is audible; drinking water and a little more distance help.",
    "noise-in-pause": "Something else sounded here: a chair, a page, a door. Replace it with room tone.",
    "plosive": "A burst of air hit the microphone: a rumble filter softens it; speak across it or use a pop filter.",
    "repeated-buffer": "The computer repeated some samples while recording. Record the sentence again, with a larger buffer.",
    "repeated-words": "Listen whether it is meant: if not, cut out what was read first; under Edits the cut is proposed.",
    "room-echo": "The room rings on after the words, and no processing removes it cleanly. Record closer, in a softer room.",
    "room-tone-jump": "The room changes here, as at an edit: use one room tone on both sides, or a longer cross-fade.",
    "rumble": "A rumble filter removes it; isolate the microphone stand from the desk and floor.",
    "sibilance": "A de-esser lowers these bursts; a little more distance and angle to the microphone avoids them.",
    "silent-channel": "This channel is silent: deliver the other one as mono, or check the cable.",
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


def left(inspection: Inspection, treatment: "Treatment") -> tuple[Left, ...]:
    """What a treatment leaves of what was found, but for mere notes; in the order in which it was found."""
    steps = {step.kind for step in treatment.steps if step.on}
    found = Counter(
        finding.kind
        for finding in inspection.findings
        if finding.severity != "note" and not steps & MENDED_BY.get(finding.kind, frozenset())
    )
    return tuple(Left(kind=kind, count=count, advice=advice(kind)) for kind, count in found.items())
