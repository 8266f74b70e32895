"""The picture that stands for a production in players and shops: which kinds and sizes will do (Pillow reads them)."""

import io
from typing import Literal

from PIL import Image, UnidentifiedImageError
from pydantic import BaseModel, ConfigDict

from ispettore.core.errors import IspettoreError

Kind = Literal["image/jpeg", "image/png"]
KINDS: dict[str, Kind] = {"JPEG": "image/jpeg", "PNG": "image/png"}
SMALLEST, LARGEST = 500, 6_000
LARGEST_BYTES = 8 * 1024 * 1024
"""Every file of a production carries the picture once more."""
COLOURS = ("RGB", "RGBA", "L", "P")


class CoverRefused(IspettoreError):
    """“{file}” can't be the cover: {reason}. Export it as a JPEG or PNG picture in RGB, square, from {smallest} to {largest} pixels
    wide, and choose it again."""

    file: str
    reason: str
    smallest: int = SMALLEST
    largest: int = LARGEST


class Cover(BaseModel):
    """A picture's bytes as they are, what they are, and its size in pixels."""

    model_config = ConfigDict(frozen=True)

    kind: Kind
    width: int
    height: int
    content: bytes

    @property
    def advice(self) -> str:
        """What an outlet may object to, in a sentence; empty where nothing stands out."""
        if self.width != self.height:
            return f"The cover is {self.width} by {self.height} pixels; many outlets accept square pictures only."
        return ""


def read(content: bytes, *, name: str) -> Cover:
    """A picture, recognised by its bytes. Raises CoverRefused."""
    if len(content) > LARGEST_BYTES:
        raise CoverRefused(file=name, reason=f"it has more than {LARGEST_BYTES // 1024**2} MB")
    try:
        with Image.open(io.BytesIO(content), formats=tuple(KINDS)) as picture:
            kind, (width, height), colours = picture.format, picture.size, picture.mode
            if max(width, height) <= LARGEST:
                picture.load()  # every line of it: half a picture opens well
    except UnidentifiedImageError:
        raise CoverRefused(file=name, reason="it is neither a JPEG nor a PNG picture") from None
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        raise CoverRefused(file=name, reason="the picture is damaged or cut off") from None
    if not SMALLEST <= min(width, height) <= max(width, height) <= LARGEST:
        raise CoverRefused(file=name, reason=f"it is {width} by {height} pixels")
    if colours not in COLOURS:
        raise CoverRefused(file=name, reason=f"its colours are {colours}, which many players show wrongly or not at all")
    return Cover(kind=KINDS[kind or ""], width=width, height=height, content=content)
