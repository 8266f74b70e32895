"""Which loudspeaker each channel of a file plays on, by their number, as WAV and FLAC order them; and their downmix."""

from collections.abc import Collection

import numpy as np
from numpy.typing import NDArray

LAYOUTS: dict[int, tuple[str, ...]] = {
    1: ("M",),
    2: ("L", "R"),
    3: ("L", "R", "C"),
    4: ("L", "R", "Ls", "Rs"),
    5: ("L", "R", "C", "Ls", "Rs"),
    6: ("L", "R", "C", "LFE", "Ls", "Rs"),
}
"""L and R left and right, C centre, Ls and Rs surround, LFE the channel for low-frequency effects; M alone."""
NAMES = {
    "M": "the only channel",
    "L": "the left channel",
    "R": "the right channel",
    "C": "the centre channel",
    "LFE": "the low-frequency channel",
    "Ls": "the left surround channel",
    "Rs": "the right surround channel",
}
_HALF_POWER = float(np.sqrt(0.5))
TO_ONE = {"L": _HALF_POWER, "R": _HALF_POWER, "C": 1.0, "Ls": 0.5, "Rs": 0.5}
TO_TWO = (
    {"L": 1.0, "R": 0.0, "C": _HALF_POWER, "Ls": _HALF_POWER, "Rs": 0.0},
    {"L": 0.0, "R": 1.0, "C": _HALF_POWER, "Ls": 0.0, "Rs": _HALF_POWER},
)


def name_of(channel: int, channels: int) -> str:
    """What a channel is called in a sentence; channels count from 1.

    >>> name_of(2, 2), name_of(4, 6)
    ('the right channel', 'the low-frequency channel')
    """
    return NAMES[LAYOUTS[channels][channel - 1]]


def downmix(channels: int, wanted: int, *, live: Collection[int] = (), turned: Collection[int] = ()) -> NDArray[np.float64]:
    """Weights that bring so many channels to one or two, shape (wanted, channels).

    They stand to one another as in ITU-R BS.775-4, annex 4 (L and R to mono alike, the centre to both sides at −3 dB, each surround
    to its side at −3 dB), without the LFE channel, and are scaled so that no sum can pass full scale where its channels do not.
    `live` are the channels that sound (from 1; all, where none is named): the others get no weight, and one that sounds alone is
    taken as it is; where all that sounds belongs to one side, both sides get it. `turned` are those whose polarity is turned.

    >>> downmix(2, 1).tolist(), downmix(2, 2, live=[1]).tolist(), downmix(2, 1, turned=[2]).tolist()
    ([[0.5, 0.5]], [[1.0, 0.0], [1.0, 0.0]], [[0.5, -0.5]])
    """
    layout = LAYOUTS[channels]
    sounding = [name != "LFE" and (not live or number in live) for number, name in enumerate(layout, 1)]
    if not any(sounding):  # nothing but the low-frequency channel
        sounding = [number in live for number in range(1, channels + 1)]
    weights = np.array([[sides.get(name, 1.0) for name in layout] for sides in (TO_TWO if wanted == 2 else (TO_ONE,))])
    weights[:, ~np.array(sounding)] = 0.0
    if (weights.sum(axis=1) == 0).any():
        weights = np.repeat(downmix(channels, 1, live=live), wanted, axis=0)
    weights[:, [number - 1 for number in turned]] *= -1
    return np.asarray(weights / np.abs(weights).sum(axis=1).max())
