"""Every quantity a limit can be set on: what it is called, its unit, and whether gain moves it.

A limit is drawn, edited, judged and printed from this table; a new meter needs one line here.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Literal

from ispettore.core.audio.facts import CODECS, CONTAINERS, FileFacts

Group = Literal["level", "between", "health", "file"]
Fact = float | str | None


@dataclass(frozen=True)
class Quantity:
    """`decimals` is how a figure is shown; `accuracy` how far two honest meters may differ, in the unit.

    `choices` names every value of a quantity that is a word; `usual` bounds what a limit on a number may ask for, by its unit
    where nothing else is said. `where` ends a sentence about it: "RMS level at least −23 dBFS over the whole file".
    """

    name: str
    title: str
    unit: str
    group: Group
    decimals: int = 1
    accuracy: float = 0.1
    moves_with_gain: bool = False
    is_level: bool = False
    fact: Callable[[FileFacts], Fact] | None = None
    choices: tuple[str, ...] = ()
    usual: tuple[float, float] | None = None
    where: str = ""

    @property
    def range(self) -> tuple[float, float]:
        """The least and most a bound can sensibly be, in the unit."""
        return self.usual or USUAL.get(self.unit, (0.0, 1e6))

    @property
    def difference_unit(self) -> str:
        """The unit of a distance between two readings: two levels in dBFS differ by dB, two loudnesses by LU."""
        return {"dBFS": "dB", "dBTP": "dB", "LUFS": "LU"}.get(self.unit, self.unit)


USUAL: dict[str, tuple[float, float]] = {
    "dBFS": (-100, 0),
    "dBTP": (-100, 6),
    "LUFS": (-70, 0),
    "LU": (0, 60),
    "dB": (-100, 100),
    "s": (0, 24 * 3600),
    "%": (0, 100),
    "Hz": (0, 192_000),
    "kbit/s": (0, 40_000),
    "bit": (1, 64),
}


def _level(name: str, title: str, unit: str, *, is_level: bool = False, where: str = "") -> Quantity:
    return Quantity(name, title, unit, "level", moves_with_gain=True, is_level=is_level, where=where)


def _between(name: str, title: str, where: str = "") -> Quantity:
    return Quantity(name, title, "dBFS", "between", accuracy=1.0, moves_with_gain=True, where=where)


def _once(names: Iterable[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(names))


_ALL = (
    _level("rms_dbfs", "RMS level", "dBFS", is_level=True, where="over the whole file"),
    _level("integrated_loudness_lufs", "Integrated loudness", "LUFS", is_level=True, where="over the whole file"),
    _level("momentary_max_lufs", "Loudest moment", "LUFS", where="in any 0.4 s"),
    _level("short_term_max_lufs", "Loudest 3 s", "LUFS", where="in any 3 s"),
    _level("sample_peak_dbfs", "Peak", "dBFS", where="anywhere"),
    _level("true_peak_dbtp", "True peak", "dBTP", where="anywhere"),
    _level("active_speech_level_dbfs", "Active speech level", "dBFS", is_level=True, where="while there is speech"),
    Quantity("speech_activity_percent", "Speech activity", "%", "level", decimals=0, accuracy=2.0),
    Quantity("loudness_range_lu", "Loudness range", "LU", "level", accuracy=1.0),
    Quantity("crest_factor_db", "Crest factor", "dB", "level"),
    Quantity("speech_crest_db", "Speech crest", "dB", "level"),
    Quantity("peak_to_loudness_db", "Peak to loudness", "LU", "level"),
    Quantity("inter_sample_overs", "Inter-sample overs", "places", "level", decimals=0, accuracy=0.0),
    _between("noise_floor_dbfs", "Noise floor", "between the words"),
    _between("noise_floor_quietest_dbfs", "Quietest half second"),
    _between("noise_floor_worst_pause_dbfs", "Worst pause", "in any pause"),
    Quantity("signal_to_noise_db", "Signal to noise", "dB", "between", accuracy=1.0),
    Quantity("head_s", "Head", "s", "between", decimals=2, accuracy=0.06, where="before the first word"),
    Quantity("tail_s", "Tail", "s", "between", decimals=2, accuracy=0.06, where="after the last word"),
    Quantity("longest_pause_s", "Longest pause", "s", "between", decimals=2, accuracy=0.1),
    Quantity("digital_silence_s", "Dead silence", "s", "between", decimals=2, accuracy=0.01),
    Quantity("clipped_runs", "Clipped runs", "runs", "health", decimals=0, accuracy=0.0),
    Quantity("dc_offset_percent", "DC offset", "%", "health", decimals=2, accuracy=0.01, usual=(-100, 100)),
    Quantity("asymmetry_db", "Asymmetry", "dB", "health", usual=(-60, 60)),
    Quantity("hum_db", "Hum", "dB", "health", accuracy=2.0),
    Quantity("rumble_db", "Rumble", "dB", "health", accuracy=2.0),
    Quantity("decay_s", "Room decay", "s", "health", decimals=2, accuracy=0.1),
    Quantity("bandwidth_hz", "Bandwidth", "Hz", "health", decimals=0, accuracy=200.0),
    Quantity("duration_s", "Duration", "s", "file", decimals=1, accuracy=0.0, fact=lambda f: f.duration_s),
    Quantity("container", "File format", "", "file", fact=lambda f: f.container, choices=_once(CONTAINERS.values())),
    Quantity("codec", "Codec", "", "file", fact=lambda f: f.codec, choices=(*_once(codec for codec, _ in CODECS.values()), "flac")),
    Quantity("sample_rate_hz", "Sample rate", "Hz", "file", decimals=0, accuracy=0, fact=lambda f: f.sample_rate_hz),
    Quantity("bit_depth", "Bit depth", "bit", "file", decimals=0, accuracy=0, fact=lambda f: f.bit_depth),
    Quantity("channels", "Channels", "", "file", decimals=0, accuracy=0, fact=lambda f: f.channels, usual=(1, 64)),
    Quantity("bit_rate_kbps", "Bit rate", "kbit/s", "file", decimals=0, accuracy=0, fact=lambda f: f.bit_rate_kbps),
    Quantity(
        "channel_relation",
        "How the channels differ",
        "",
        "file",
        fact=lambda f: f.channel_relation,
        choices=("one", "identical", "silent", "inverted", "different"),
    ),
    Quantity(
        "bit_rate_kind",
        "Bit rate kind",
        "",
        "file",
        fact=lambda f: _rate_kind(f.bit_rate_constant),
        choices=("constant", "variable"),
    ),
)
QUANTITIES: dict[str, Quantity] = {quantity.name: quantity for quantity in _ALL}


def quantity(name: str) -> Quantity:
    """What is known of a quantity; a stand-in with its bare name for one that this program does not know (any more).

    >>> quantity("rms_dbfs").title, quantity("warmth_db").title
    ('RMS level', 'Warmth db')
    """
    return QUANTITIES.get(name) or Quantity(name, name.replace("_", " ").capitalize(), "", "file")


LOUDNESS = frozenset({"integrated_loudness_lufs", "momentary_max_lufs", "short_term_max_lufs"})


def _rate_kind(constant: bool | None) -> str | None:
    return None if constant is None else ("constant" if constant else "variable")
