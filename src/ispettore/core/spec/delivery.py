"""Which of the formats that are written here meets what a specification asks of the file."""

from collections.abc import Sequence

from ispettore.core.audio.formats import WRITABLE, FormatName, Writable
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.errors import IspettoreError
from ispettore.core.spec.specification import Limit, Specification

USUAL: FormatName = "mp3"


class NotWritable(IspettoreError):
    """“{specification}” asks for {asked}. Ispettore can check such files but not write them: make them elsewhere, or change that
    limit."""

    specification: str
    asked: str


def asked_for(specification: Specification) -> OutputFormat:
    """What is handed over: the first format the specification names that is written here, MP3 where it names none.

    Raises NotWritable.
    """
    container = specification.limit("container")
    names = [name for wanted in container.one_of for name in _in(wanted)] if container else [USUAL, *WRITABLE]
    for name in names:
        form = fitting(name, specification)
        if form is not None:
            return form
    raise NotWritable(specification=specification.name, asked=asked_in_words(specification.limits))


def chosen(name: FormatName, specification: Specification) -> OutputFormat:
    """A format by its name, with a depth and bit rate that the specification allows where it can have one."""
    return fitting(name, specification) or _nearest(WRITABLE[name], name, specification)


def qualities(name: FormatName, specification: Specification) -> list[OutputFormat]:
    """Every way of writing a format that meets the specification's limits on the file, the usual first; [] where none does."""
    usual = fitting(name, specification)
    if usual is None:
        return []
    written = WRITABLE[name]
    depths: list[int | None] = [*_allowed(written.depths, specification.limit("bit_depth"))]
    rates: list[int | None] = [*_allowed(written.bit_rates_kbps, specification.limit("bit_rate_kbps"))]
    forms = [
        OutputFormat(container=name, bit_depth=depth, bit_rate_kbps=rate) for depth in depths or [None] for rate in rates or [None]
    ]
    return [usual, *(form for form in forms if form != usual)]


def fitting(name: FormatName, specification: Specification) -> OutputFormat | None:
    """A format as the specification's limits on the file ask for it, or None where it can't meet them."""
    written = WRITABLE[name]
    if any(not _meets(written, limit) for limit in specification.limits if limit.applies_to != "production"):
        return None
    return _nearest(written, name, specification)


def asked_in_words(limits: Sequence[Limit]) -> str:
    """What limits ask of the file, for a sentence: "File format aiff and Codec pcm"."""
    told = [f"{limit.about.title} {' or '.join(limit.one_of)}" for limit in limits if limit.one_of and limit.about.able]
    return " and ".join(told) or "a file"


def _in(container: str) -> list[FormatName]:
    return [name for name, written in WRITABLE.items() if written.container == container]


def _nearest(written: Writable, name: FormatName, specification: Specification) -> OutputFormat:
    depths = _allowed(written.depths, specification.limit("bit_depth")) or list(written.depths)
    rates = _allowed(written.bit_rates_kbps, specification.limit("bit_rate_kbps")) or list(written.bit_rates_kbps)
    usual = written.usual_kbps
    return OutputFormat(
        container=name,
        bit_depth=depths[0] if depths else None,
        bit_rate_kbps=(usual if usual in rates else min(rates, key=lambda value: abs(value - (usual or 0)))) if rates else None,
    )


def _allowed(values: Sequence[int], limit: Limit | None) -> list[int]:
    return [value for value in values if limit is None or _inside(value, limit)]


def _meets(written: Writable, limit: Limit) -> bool:
    """Whether a file in this format can meet a limit; one on anything but the file it can't break."""
    able = limit.about.able
    return able is None or able(written.abilities).meets(low=limit.low, high=limit.high, one_of=limit.one_of)


def _inside(value: float, limit: Limit) -> bool:
    return (limit.low is None or value >= limit.low) and (limit.high is None or value <= limit.high)
