"""Any length of noise from pieces of it, and two stretches laid over one another."""

import numpy as np

from ispettore.core.audio.reading import Block

FADE_S = 0.04


def fill(material: list[Block], frames: int, *, sample_rate_hz: int, seed: int = 1) -> Block:
    """`frames` of room tone from `material` (not empty): pieces in turn, laid over one another at equal power.

    Each turn starts at another place and every second one runs backwards, so that no figure repeats audibly. Seeded: the same
    recording gives the same room.
    """
    random = np.random.default_rng(seed)
    fade = max(1, round(FADE_S * sample_rate_hz))
    out = np.zeros((0, material[0].shape[1]), dtype=np.float32)
    turn = 0
    while len(out) < frames:
        piece = material[turn % len(material)]
        start = int(random.integers(0, max(1, len(piece) // 4)))
        part = piece[start:]
        if turn % 2:
            part = part[::-1]
        out = part.copy() if len(out) == 0 else join(out, part, fade=min(fade, len(part) // 2, len(out)))
        turn += 1
    return np.ascontiguousarray(out[:frames])


def join(first: Block, second: Block, *, fade: int) -> Block:
    """Two stretches of noise with `fade` frames laid over one another at equal power (they are not alike, so powers add)."""
    if fade <= 0:
        return np.concatenate((first, second))
    angle = (np.arange(fade)[:, None] + 0.5) / fade * (np.pi / 2)
    middle = first[-fade:] * np.cos(angle) + second[:fade] * np.sin(angle)
    return np.concatenate((first[:-fade], middle.astype(np.float32), second[fade:]))
