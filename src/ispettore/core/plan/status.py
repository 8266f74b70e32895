"""Where the work on a recording stands, in one word, and what of it counts for its production."""

from dataclasses import dataclass
from typing import Literal

Status = Literal["unmeasured", "running", "stuck", "outside", "inside", "planned", "conformed", "certified", "delivered"]
ORDER: dict[Status, str] = {
    "unmeasured": "to be measured",
    "running": "running",
    "stuck": "stuck",
    "outside": "outside",
    "inside": "inside",
    "planned": "planned",
    "conformed": "conformed",
    "certified": "certified",
    "delivered": "delivered",
}
"""Every status with its word, the least done first."""
COUNTS: tuple[Status, ...] = ("certified", "delivered")
"""What counts as certified."""


@dataclass(frozen=True)
class Known:
    """What is known of the work on a recording.

    `passes` says whether the recording as it is meets its limits; None where it is not measured. `stuck`: measuring it failed, or
    nothing conforms it, or the attempt to do so failed. The last three are of the file that counts: it meets the specification of
    now and was made for it, has a certificate for it, and was delivered.
    """

    passes: bool | None
    running: bool = False
    stuck: bool = False
    planned: bool = False
    conformed: bool = False
    certified: bool = False
    delivered: bool = False


def status(known: Known) -> Status:
    """The one word. What is there already is not lost by what runs or fails beside it.

    >>> status(Known(passes=False, planned=True)), status(Known(passes=False, planned=True, running=True))
    ('planned', 'running')
    >>> status(Known(passes=False, running=True, conformed=True, certified=True))
    'certified'
    """
    if known.conformed:
        return "delivered" if known.delivered else "certified" if known.certified else "conformed"
    if known.running:
        return "running"
    if known.stuck:
        return "stuck"
    if known.passes is None:
        return "unmeasured"
    if known.planned:
        return "planned"
    return "inside" if known.passes else "outside"
