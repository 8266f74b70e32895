"""What each container can hold: asked before a file is expected of it."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Abilities:
    """What a file in one container can be. Without `rates_hz`, `most_channels` or `most_kbps` it knows no such bound.

    `depths` is empty where its codecs have no bit depth; `rate_kinds` says whether its bit rate can be constant, variable or both.
    """

    codecs: tuple[str, ...]
    depths: tuple[int, ...]
    rate_kinds: tuple[str, ...]
    rates_hz: tuple[int, ...] = ()
    most_channels: int | None = None
    most_kbps: float | None = None


_PLAIN = Abilities(("pcm", "pcm-float", "u-law", "a-law"), (8, 16, 24, 32, 64), ("constant",))
ABILITIES: dict[str, Abilities] = {
    "wav": _PLAIN,
    "rf64": _PLAIN,
    "w64": _PLAIN,
    "aiff": _PLAIN,
    "caf": Abilities((*_PLAIN.codecs, "alac"), _PLAIN.depths, ("constant", "variable")),
    "flac": Abilities(("flac",), (8, 16, 20, 24), ("variable",), most_channels=8),
    # ISO/IEC 11172-3 and 13818-3, with the three lowest rates of a common extension.
    "mp3": Abilities(
        ("mp3", "mp2", "mp1"),
        (),
        ("constant", "variable"),
        rates_hz=(8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000),
        most_channels=2,
        most_kbps=448,
    ),
    "ogg": Abilities(("vorbis", "opus", "flac"), (8, 16, 20, 24), ("constant", "variable")),
}
