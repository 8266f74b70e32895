"""The almanac's cover: a mill between two tides, drawn here."""

import io

from PIL import Image, ImageDraw

SIDE = 1_200
SKY, WATER, WALL, ROOF, DOOR = "#e3e6e2", "#34506a", "#6b5640", "#7d3b2a", "#26221e"


def almanac() -> bytes:
    """The bytes of a square JPEG picture. The same every time."""
    picture = Image.new("RGB", (SIDE, SIDE), SKY)
    draw = ImageDraw.Draw(picture)
    for wave in range(12):
        edge, low = 40 * wave, 620 + 52 * wave
        draw.arc((60 - edge, low, SIDE - 60 + edge, low + 900), 195, 345, fill=WATER, width=6 + wave)
    draw.rectangle((470, 300, 730, 640), fill=WALL)
    draw.polygon([(440, 300), (760, 300), (600, 170)], fill=ROOF)
    draw.rectangle((570, 520, 630, 640), fill=DOOR)
    draw.ellipse((690, 470, 910, 690), outline=WALL, width=16)
    for spoke in range(4):
        draw.pieslice((690, 470, 910, 690), 45 * spoke, 45 * spoke + 3, fill=WALL)
        draw.pieslice((690, 470, 910, 690), 45 * spoke + 180, 45 * spoke + 183, fill=WALL)
    written = io.BytesIO()
    picture.save(written, "JPEG", quality=88)
    return written.getvalue()
