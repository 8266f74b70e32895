"""Pictures that stand for covers."""

import io

from PIL import Image


def picture(width: int = 600, height: int = 600, kind: str = "JPEG", mode: str = "RGB") -> bytes:
    """The bytes of a picture of noise."""
    written = io.BytesIO()
    Image.effect_noise((width, height), 60).convert(mode).save(written, kind)
    return written.getvalue()
