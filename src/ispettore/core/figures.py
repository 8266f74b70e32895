"""How figures are written for a person: the one writer for sentences, prints, tables and the command line.

The page has the same in `frontend/src/lib/format.ts`; both pass the cases in `tests/figures.json`. Ties go away from zero,
nothing is "−0", the minus sign is a real one, thousands are set apart by commas.
"""

from decimal import ROUND_HALF_UP, Context, Decimal

_WIDE = Context(prec=400, rounding=ROUND_HALF_UP)  # no finite figure is too large to be written
MOST_DECIMALS = 6
"""So many decimals a bound that somebody wrote is read back with."""


def number(value: float, decimals: int) -> str:
    """A figure with so many decimals.

    >>> number(-3.04, 1), number(-0.04, 1), number(0.25, 1), number(22050, 0)
    ('−3.0', '0.0', '0.3', '22,050')
    """
    rounded = _rounded(value, decimals)
    return f"{rounded + 0:,f}".replace("-", "−") if rounded else f"{abs(rounded):f}"


def _rounded(value: float, decimals: int) -> Decimal:
    return Decimal(value).quantize(Decimal(1).scaleb(-decimals), context=_WIDE)


def exact(value: float) -> str:
    """A figure with no more decimals than it needs: what somebody asked for is never rounded to something else.

    >>> exact(-23.0), exact(0.25), exact(1.8300000000000005)
    ('−23', '0.25', '1.83')
    """
    text = number(value, MOST_DECIMALS)
    return text.rstrip("0").rstrip(".")


def clock(seconds: float, decimals: int = 0) -> str:
    """A length or a place in time as minutes and seconds, with hours where there are any.

    >>> clock(2.997, 2), clock(5400), clock(59.7)
    ('0:03.00', '1:30:00', '1:00')
    """
    sign = "−" if seconds < 0 else ""
    total = _rounded(abs(seconds), decimals)
    minutes, rest = divmod(total, 60)
    hours, left = divmod(int(minutes), 60)
    tail = f"{rest:0{3 + decimals if decimals else 2}f}"
    shown = f"{hours}:{left:02}:{tail}" if hours else f"{left}:{tail}"
    return f"{sign if total else ''}{shown}"


def with_unit(value: float | None, unit: str, decimals: int = 1) -> str:
    """A figure and its unit; "silence" where there is none.

    >>> with_unit(-3.04, "dBFS"), with_unit(None, "dBFS")
    ('−3.0 dBFS', 'silence')
    """
    return "silence" if value is None else f"{number(value, decimals)} {unit}".strip()
