"""What each container can hold, and which formats are written here and how: asked before a file is expected of either."""

from dataclasses import dataclass
from typing import Literal, get_args

FormatName = Literal["mp3", "opus", "ogg", "wav", "flac", "aiff"]
"""The formats that are written here; what each is stands in `WRITABLE`."""
FORMAT_NAMES: tuple[FormatName, ...] = get_args(FormatName)


@dataclass(frozen=True)
class Able:
    """What one fact of files in a format can be: one of `values`, or a number up to `most`; without either, anything.

    `said` completes a sentence about the format: "MP3 …".
    """

    said: str = ""
    values: tuple[str | float, ...] | None = None
    most: float | None = None

    def meets(self, *, low: float | None, high: float | None, one_of: tuple[str, ...]) -> bool:
        """Whether some value is inside a limit."""
        if self.values is None:
            return self.most is None or low is None or low <= self.most
        return any(
            value in one_of if isinstance(value, str) else (low is None or value >= low) and (high is None or value <= high)
            for value in self.values
        )


@dataclass(frozen=True)
class Abilities:
    """What a file in one format can be. Without `rates_hz`, `most_channels`, `rates_kbps` or `most_kbps` it knows no such bound.

    `depths` is empty where its codecs have no bit depth; `rate_kinds` says whether its bit rate can be constant, variable or both.
    """

    container: str
    codecs: tuple[str, ...]
    depths: tuple[int, ...]
    rate_kinds: tuple[str, ...]
    rates_hz: tuple[int, ...] = ()
    most_channels: int | None = None
    rates_kbps: tuple[int, ...] = ()
    most_kbps: float | None = None

    @property
    def as_container(self) -> Able:
        return Able(f"is {self.container}", (self.container,))

    @property
    def as_codec(self) -> Able:
        return Able(f"holds {' or '.join(self.codecs)}", self.codecs)

    @property
    def as_bit_depth(self) -> Able:
        return Able(f"has a bit depth of {', '.join(map(str, self.depths))}" if self.depths else "has no bit depth", self.depths)

    @property
    def as_sample_rate(self) -> Able:
        return Able("knows no such sample rate", self.rates_hz or None)

    @property
    def as_channels(self) -> Able:
        return Able(f"holds at most {self.most_channels} channels", most=self.most_channels)

    @property
    def as_bit_rate(self) -> Able:
        return Able(f"has at most {self.most_kbps} kbit/s", self.rates_kbps or None, self.most_kbps)

    @property
    def as_rate_kind(self) -> Able:
        return Able(f"has a bit rate that is {' or '.join(self.rate_kinds)}", self.rate_kinds)


_PLAIN = ("pcm", "pcm-float", "u-law", "a-law")
_DEPTHS = (8, 16, 24, 32, 64)
ABILITIES: dict[str, Abilities] = {
    **{name: Abilities(name, _PLAIN, _DEPTHS, ("constant",)) for name in ("wav", "rf64", "w64", "aiff")},
    "caf": Abilities("caf", (*_PLAIN, "alac"), _DEPTHS, ("constant", "variable")),
    "flac": Abilities("flac", ("flac",), (8, 16, 20, 24), ("variable",), most_channels=8),
    # ISO/IEC 11172-3 and 13818-3, with the three lowest rates of a common extension.
    "mp3": Abilities(
        "mp3",
        ("mp3", "mp2", "mp1"),
        (),
        ("constant", "variable"),
        rates_hz=(8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000),
        most_channels=2,
        most_kbps=448,
    ),
    "ogg": Abilities("ogg", ("vorbis", "opus", "flac"), (8, 16, 20, 24), ("constant", "variable")),
}
"""What files of each container can be, whoever writes them."""


@dataclass(frozen=True)
class Writable:
    """One format that is written here: what the written file's facts will say, and how the sound library is asked for it (MP3 is
    written by another, which is asked for rate and bit rate alone).

    `bit_rates_kbps` are the constant rates it can have; `level` is the sound library's "compression level" where the rate varies.
    Without `rates_hz` any sample rate will do.
    """

    title: str
    endings: tuple[str, ...]
    container: str
    codec: str
    file_format: str = ""
    subtype: str = ""
    depths: tuple[int, ...] = ()
    bit_rates_kbps: tuple[int, ...] = ()
    usual_kbps: int | None = None
    level: float | None = None
    rates_hz: tuple[int, ...] = ()
    most_channels: int = 6

    @property
    def lossy(self) -> bool:
        return not self.depths

    @property
    def rate_kind(self) -> str:
        """Whether a written file's bit rate is constant or variable."""
        return "constant" if self.bit_rates_kbps or self.codec == "pcm" else "variable"

    @property
    def abilities(self) -> Abilities:
        """What a file that is written here can be."""
        return Abilities(
            self.container,
            (self.codec,),
            self.depths,
            (self.rate_kind,),
            rates_hz=self.rates_hz,
            most_channels=self.most_channels,
            rates_kbps=self.bit_rates_kbps,
        )


WRITABLE: dict[FormatName, Writable] = {
    "mp3": Writable(
        title="MP3",
        endings=("mp3",),
        container="mp3",
        codec="mp3",
        # MPEG 1 Layer III only.
        bit_rates_kbps=(96, 112, 128, 160, 192, 224, 256, 320),
        usual_kbps=192,
        rates_hz=(32_000, 44_100, 48_000),
        most_channels=2,
    ),
    "opus": Writable(
        title="Opus",
        endings=("opus",),
        container="ogg",
        codec="opus",
        file_format="OGG",
        subtype="OPUS",
        level=0.5,
        rates_hz=(8_000, 12_000, 16_000, 24_000, 48_000),
    ),
    "ogg": Writable(
        title="Ogg Vorbis",
        endings=("ogg",),
        container="ogg",
        codec="vorbis",
        file_format="OGG",
        subtype="VORBIS",
        level=0.3,
    ),
    "wav": Writable(title="WAV", endings=("wav",), container="wav", codec="pcm", file_format="WAV", depths=(24, 16)),
    "flac": Writable(title="FLAC", endings=("flac",), container="flac", codec="flac", file_format="FLAC", depths=(24, 16)),
    "aiff": Writable(title="AIFF", endings=("aiff", "aif"), container="aiff", codec="pcm", file_format="AIFF", depths=(24, 16)),
}
"""Every format that is written, by its name; the one table behind what is offered, objected to, chosen and written.

Depths stand with the preferred one first.
"""
SOUND = frozenset(
    {".wav", ".wave", ".bwf", ".rf64", ".w64", ".flac", ".mp3", ".aif", ".aiff", ".aifc", ".caf", ".ogg", ".oga", ".opus", ".au"}
)
"""Endings of what is taken from a folder; a file that is named is taken whatever it ends in."""


def named_by(ending: str) -> FormatName | None:
    """The format that files with an ending are written in, or None.

    >>> named_by("aif"), named_by("docx")
    ('aiff', None)
    """
    return next((name for name, written in WRITABLE.items() if ending.lower() in written.endings), None)
