"""Heavy corpora: a sample of each in the tests, all of it in `./run bench --corpora`.

A sample holds every case and every rate at least once, but not every pair of them.
"""

import os
from collections.abc import Sequence
from typing import TypeVar

WHOLE = bool(os.environ.get("ISPETTORE_WHOLE_CORPORA"))
RATES = (16_000, 22_050, 32_000, 44_100, 48_000, 88_200, 96_000, 192_000)
USUAL = (44_100, 48_000)
OTHERS = tuple(rate for rate in RATES if rate not in USUAL)
Item = TypeVar("Item")


def rates(case: int) -> tuple[int, ...]:
    """The sample rates a case is tried at: one of the usual two and one of the others, by turns; all of them in the bench.

    >>> rates(0), rates(7)
    ((44100, 16000), (48000, 22050))
    """
    return RATES if WHOLE else (USUAL[case % len(USUAL)], OTHERS[case % len(OTHERS)])


def some(items: Sequence[Item], *, every: int, first: int = 0) -> Sequence[Item]:
    """One of so many items, from the first on; all of them in the bench."""
    return items if WHOLE else items[first::every]
