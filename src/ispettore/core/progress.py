"""How far a long computation is, told to whoever watches."""

from collections.abc import Callable

Progress = Callable[[str, float], None]
"""Called with a stage name and a fraction from 0 to 1; may raise Cancelled."""


def no_progress(_stage: str, _fraction: float) -> None:
    """For callers who do not watch."""
