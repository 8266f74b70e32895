"""Limits as sentences: "RMS level between −23 and −18 dBFS over the whole file"."""

from typing import Literal

from pydantic import BaseModel, ConfigDict

from ispettore.core.figures import clock, exact
from ispettore.core.spec.quantities import Quantity
from ispettore.core.spec.specification import Limit

Part = Literal["words", "low", "high", "both", "choices"]


class Piece(BaseModel):
    """A piece of a limit's sentence: words, or one of the limit's own values, to be read as `text` or edited in its place.

    `both` is the lower and the upper bound where they are the same.
    """

    model_config = ConfigDict(frozen=True)

    part: Part
    text: str


def figure(value: float, about: Quantity) -> str:
    """A bound as it is read, with no more decimals than it needs; durations of files as a clock.

    >>> from ispettore.core.spec.quantities import QUANTITIES
    >>> figure(-23.0, QUANTITIES["rms_dbfs"]), figure(5400, QUANTITIES["duration_s"])
    ('−23', '1:30:00')
    """
    return clock(value) if about.clock else exact(value)


def pieces(limit: Limit) -> list[Piece]:
    """A limit's sentence in pieces. Whether it must be met is not part of it.

    >>> "".join(piece.text for piece in pieces(Limit(quantity="rms_dbfs", low=-23, high=-18)))
    'RMS level between −23 and −18 dBFS over the whole file'
    >>> "".join(piece.text for piece in pieces(Limit(quantity="container", one_of=("mp3", "wav"), applies_to="deliverable")))
    'File format mp3 or wav in the delivered file'
    >>> "".join(piece.text for piece in pieces(Limit(quantity="rms_dbfs", high=2, applies_to="production")))
    'RMS level within 2 dB of each other in all recordings'
    """
    about = limit.about
    end = f" {about.where}" if about.where else ""
    if limit.applies_to == "deliverable":
        end += " in the delivered file"
    if limit.one_of:
        return _joined(f"{about.title} ", ("choices", " or ".join(limit.one_of)), end)
    spread = limit.applies_to == "production" and not about.of_package
    if spread and limit.high == 0 and limit.low is None:
        return _joined(f"{about.title} within ", ("high", "0"), f"{_unit(about.difference_unit)}: the same in all recordings")
    if spread:
        bound = figure(limit.high, about) if limit.high is not None else "?"
        return _joined(f"{about.title} within ", ("high", bound), f"{_unit(about.difference_unit)} of each other in all recordings")
    unit = "" if about.clock else _unit(about.unit)
    if limit.low is not None and limit.low == limit.high:
        return _joined(f"{about.title} exactly ", ("both", figure(limit.low, about)), f"{unit}{end}")
    if limit.low is not None and limit.high is not None:
        low, high = figure(limit.low, about), figure(limit.high, about)
        return _joined(f"{about.title} between ", ("low", low), " and ", ("high", high), f"{unit}{end}")
    if limit.low is not None:
        return _joined(f"{about.title} at least ", ("low", figure(limit.low, about)), f"{unit}{end}")
    return _joined(f"{about.title} at most ", ("high", figure(limit.high or 0.0, about)), f"{unit}{end}")


def sentence(limit: Limit) -> str:
    """The whole sentence as text; advice says so.

    >>> sentence(Limit(quantity="sample_peak_dbfs", high=-6, severity="advice"))
    'Peak at most −6 dBFS anywhere (advice)'
    """
    text = "".join(piece.text for piece in pieces(limit))
    return f"{text} (advice)" if limit.severity == "advice" else text


def _unit(unit: str) -> str:
    return f" {unit}" if unit else ""


def _joined(*parts: str | tuple[Part, str]) -> list[Piece]:
    found = [Piece(part="words", text=part) if isinstance(part, str) else Piece(part=part[0], text=part[1]) for part in parts]
    return [piece for piece in found if piece.text]
