"""Figures in addresses, within what any of them can mean: whatever is beyond is refused by name before it is looked at."""

from typing import Annotated

from annotated_types import Ge, Interval, Le
from pydantic import AllowInfNan, BaseModel

LARGEST = 2**31 - 1
"""What the database keeps as a whole number."""
LONGEST_S = 1e7

Number = Annotated[int, Interval(ge=0, le=LARGEST)]
"""A version, a position in a list, an index."""
Count = Annotated[int, Interval(ge=0, le=2**53 - 1)]
"""Samples from the beginning of a file, or a turn that a page took: exact for every reader of JSON."""
Moment = Annotated[float, Ge(0), Le(LONGEST_S), AllowInfNan(False)]
"""Seconds from the beginning of a file."""


class Stretch(BaseModel):
    """A stretch of a file that somebody chose."""

    start_s: Moment
    end_s: Moment
