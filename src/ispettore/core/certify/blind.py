"""Blind comparison: which of two versions a person prefers over several rounds, and whether that could be chance.

In each round both are heard without their names, in an order drawn anew. Whether the count of preferences says anything is a
two-sided binomial test against one half (a sign test; ITU-R BS.1116-3 asks for the like of small impairments).
"""

import secrets
from typing import Literal

import scipy
from pydantic import BaseModel, ConfigDict

Side = Literal["source", "treated"]
SOURCE, TREATED = "the original", "the processed version"
LEVEL = 0.05
FEWEST, MOST = 6, 40
"""Fewer than six rounds can never beat chance at this level."""


class Outcome(BaseModel):
    """`p_value` is how often a coin would be at least as one-sided; `needed` how many of these rounds one side needs."""

    model_config = ConfigDict(frozen=True)

    rounds: int
    treated: int
    p_value: float
    beats_chance: bool
    needed: int
    sentence: str


def draw(rounds: int) -> list[Side]:
    """For each round which version is heard as the first."""
    sides: tuple[Side, Side] = ("source", "treated")
    return [secrets.choice(sides) for _ in range(rounds)]


def outcome(*, rounds: int, treated: int, names: tuple[str, str] = (SOURCE, TREATED)) -> Outcome:
    """What so many preferences for the processed version mean; `names` are what source and treated are called.

    >>> outcome(rounds=10, treated=9).beats_chance, outcome(rounds=10, treated=8).beats_chance
    (True, False)
    """
    p_value = _p(rounds, treated)
    beats = p_value < LEVEL
    needed = next((count for count in range(rounds // 2, rounds + 1) if _p(rounds, count) < LEVEL), rounds + 1)
    ahead = names[1] if 2 * treated > rounds else names[0]
    most = max(treated, rounds - treated)
    if beats:
        sentence = f"You preferred {ahead} in {most} of {rounds} rounds: unlikely to be luck ({_percent(p_value)} odds)."
    elif 2 * treated == rounds:
        sentence = f"You preferred each in {treated} of {rounds} rounds: no preference."
    else:
        sentence = (
            f"You preferred {ahead} in {most} of {rounds} rounds: this may be luck ({_percent(p_value)} odds; "
            f"{needed} of {rounds} would be more)."
        )
    return Outcome(rounds=rounds, treated=treated, p_value=p_value, beats_chance=beats, needed=needed, sentence=sentence)


def _p(rounds: int, count: int) -> float:
    return float(scipy.stats.binomtest(count, rounds).pvalue)


def _percent(p_value: float) -> str:
    return f"{100 * p_value:.0f} %" if p_value >= 0.01 else "under 1 %"
