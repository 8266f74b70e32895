"""What a plan is made to be: of least touch, steadiest, or between."""

from typing import Literal, get_args

Preference = Literal["light", "balanced", "even"]
PREFERENCES: tuple[Preference, ...] = get_args(Preference)
USUAL_PREFERENCE: Preference = "balanced"
