"""What comes before any treatment: the conversions that are asked for, and what would cancel in them."""

from ispettore.core.audio.facts import FileFacts
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.figures import clock, exact, number
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.bounds import Obstacle
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Role
from ispettore.core.treat import channels
from ispettore.core.treat.channels import Channels
from ispettore.core.treat.treatment import Step, Treatment

MOST_MONO_LOSS_DB = 6.0
"""Of what is delivered; twice what is lost of two channels that have nothing in common."""


def preparation(inspection: Inspection, specification: Specification, *, role: Role, form: OutputFormat) -> Treatment:
    """The conversions of channels and sample rate that the specification, the output format and the channels themselves ask for."""
    steps, facts = [], inspection.facts
    wanted = _wanted_channels(inspection, specification, form)
    if wanted is not None:
        mix = channels.decided(inspection, wanted)
        first = channels.told(mix, facts.channels)
        asked = f"The recording is {_count(facts.channels)}; {specification.name} requires {_count(wanted)}"
        reason = first[:1].upper() + first[1:] if wanted == facts.channels else f"{asked}: {first}" if first else asked
        steps.append(Step(kind="channels", settings=mix.model_dump(mode="json"), reason=f"{reason}."))
    rate = _wanted_rate(facts, specification, role, form)
    if rate is not None:
        steps.append(
            Step(
                kind="sample-rate",
                settings={"sample_rate_hz": rate},
                reason=f"The recording is at {exact(facts.sample_rate_hz / 1000)} kHz; "
                f"the delivered file must be {exact(rate / 1000)} kHz.",
            )
        )
    return Treatment(steps=tuple(steps))


def _wanted_channels(inspection: Inspection, specification: Specification, form: OutputFormat) -> int | None:
    """The number to bring the channels to; None where they stay as they are. A dead or inverted side is mended at their number."""
    have = inspection.facts.channels
    limit = specification.limit("channels")
    most = int(limit.high) if limit and limit.high is not None else 6
    least = int(limit.low) if limit and limit.low is not None else 1
    most = min(most, form.written.most_channels)
    wanted = min(max(have, least), most)
    if wanted == have:
        return have if channels.needed(inspection) else None
    return min(wanted, 2)


def _wanted_rate(facts: FileFacts, specification: Specification, role: Role, form: OutputFormat) -> int | None:
    rate = facts.sample_rate_hz
    limit = specification.limit("sample_rate_hz")
    if limit is not None and (role == "deliverable" or limit.applies_to == "recording"):
        if limit.low is not None and rate < limit.low:
            return int(limit.low)
        if limit.high is not None and rate > limit.high:
            return int(limit.high)
    fitting = form.rate_for(rate)
    return fitting if fitting != rate else None


def _count(number_of: int) -> str:
    return {1: "mono", 2: "stereo"}.get(number_of, f"{number_of} channels")


def cancelling(recording: Inspection, prepared: Inspection, treatment: Treatment) -> Obstacle | None:
    """What would cancel where it is mixed to mono, by the recording or by a listener, and no conversion mends."""
    step = treatment.find("channels")
    mix = Channels.model_validate(step.settings) if step is not None else None
    if mix is not None and mix.live is None:
        mix = channels.decided(recording, mix.channels)
    mended = mix is not None and bool(mix.turned or len(mix.live or ()) == 1)
    read = prepared if mended or prepared.facts.channels > 1 else recording
    loss = read.readings.get("mono_loss_db")
    if loss is None or loss.value is None or loss.value <= MOST_MONO_LOSS_DB:
        return None
    return Obstacle(
        limits=("mono_loss_db", "mono_loss_db"),
        shortfall_db=loss.value - MOST_MONO_LOSS_DB,
        advice=f"Left and right cancel each other from {clock(loss.start_s)} to {clock(loss.end_s)}: mixed to mono, the voice "
        f"loses {number(loss.value, 1)} dB there, and it vanishes on a single speaker. Flip the polarity of one channel in "
        "that part, or add the channel with the voice as a mono file.",
    )
