"""Every quantity a limit can be set on, a row each: all that is known of it but how it is measured and what it means.

A limit on it is judged, placed in time, drawn, edited, objected to, planned for, printed and verified from its row; nothing else
asks for a quantity by its name to know one of these things. A new meter needs one row here (and its entry in `methods.md`). The
page reads the same rows from `docs/quantities.json`, which `tools/describe_web.py` writes.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

from ispettore.core.audio.facts import CODECS, CONTAINERS, FileFacts
from ispettore.core.audio.formats import Abilities, Able
from ispettore.core.measure.reading import TRACK_STEP_S

if TYPE_CHECKING:  # a row is read by those who measure nothing, and quickly
    from ispettore.core.measure.inspection import Inspection
    from ispettore.core.measure.tracks import Track

Group = Literal["level", "between", "health", "file", "package"]
Fact = float | str | None
Place = tuple[float, float, float | None]
"""Start and end in seconds, and the reading there."""
Mover = Literal["gain", "limiter", "evening", "cleaning", "repair", "filling", "offset", "ends", "conversion", "format"]
"""What a treatment can move a quantity with: a constant gain (dB for dB), a limiter (down), evening (loud and soft nearer to one
another, by riding, compression and limiting: down), cleaning (the room down, against the voice), clip repair, filling dead silence
with room tone, taking an offset away, head and tail, a conversion of channels or sample rate, the format that is written."""


@dataclass(frozen=True)
class Run:
    """Where it is taken: all along the file, as a track says; each value of the track is that of `window_s`."""

    track: "Track"
    window_s: float = TRACK_STEP_S


@dataclass(frozen=True)
class Spans:
    """Where it is taken: in stretches that an inspection tells."""

    of: "Callable[[Inspection], Iterable[Place]]"


@dataclass(frozen=True)
class Tie:
    """It is this word exactly where another quantity, a count, has this value."""

    word: str
    quantity: str
    value: float


@dataclass(frozen=True)
class Quantity:
    """One row. All figures are in the quantity's unit.

    How it is told: `decimals` is how a figure is shown, `clock` that it is written as a time, `where` ends a sentence about it
    ("RMS level at least −23 dBFS over the whole file"), `on_ribbon` that its limits are drawn in the picture of level. `choices`
    names every value of one that is a word; `usual` bounds what a limit on a number may ask for, by its unit where nothing is
    said.

    How it is measured: `accuracy` is how far two honest meters may differ, `elsewhere` how far one of another's making may, where
    that is more; `remeasured` how near this program's own must come to a certified figure, `taken` where in time it passes a bound
    (None: where its one reading was taken). A `k_weighted` one reads higher where mono is played on two loudspeakers. `fact` is the
    fact of the file that it is, `able` what files in a format can be.

    `first` is what a limit on it asks when it is added: the least and the most, where these are not those of its range.

    `of_package` marks one that is of a production as a whole and of none of its files: a limit on it bounds its value, where any
    other limit on a production bounds how far recordings differ.

    What moves it: `moved_by`. `is_level` marks a level that a treatment aims for, `averaged` that silence added at the ends lowers
    it. `reserve` is kept free inside an upper bound, for other people's meters. `counts` is what it counts the places of, and the
    value above which it does.

    What it can't be: `never_above` are quantities that it, times the factor, exceeds in no file; `difference` are the two of which
    it is the first less the second by definition;
    `exactly_where` ties one of its words to a count.
    """

    name: str
    title: str
    unit: str
    group: Group
    decimals: int = 1
    clock: bool = False
    where: str = ""
    on_ribbon: bool = False
    choices: tuple[str, ...] = ()
    usual: tuple[float, float] | None = None
    accuracy: float = 0.1
    remeasured: float = 0.05
    elsewhere: float | None = None
    taken: Run | Spans | None = None
    k_weighted: bool = False
    fact: Callable[[FileFacts], Fact] | None = None
    able: Callable[[Abilities], Able] | None = None
    moved_by: frozenset[Mover] = frozenset()
    is_level: bool = False
    averaged: bool = False
    reserve: float = 0.0
    counts: tuple[str, float] | None = None
    never_above: tuple[tuple[str, float], ...] = ()
    difference: tuple[str, str] | None = None
    exactly_where: Tie | None = None
    first: tuple[float | None, float | None] | None = None

    @property
    def of_package(self) -> bool:
        return self.group == "package"

    @property
    def range(self) -> tuple[float, float]:
        """The least and most a bound can sensibly be, in the unit."""
        return self.usual or USUAL.get(self.unit, (0.0, 1e6))

    @property
    def difference_unit(self) -> str:
        """The unit of a distance between two readings: two levels in dBFS differ by dB, two loudnesses by LU."""
        return {"dBFS": "dB", "dBTP": "dB", "LUFS": "LU"}.get(self.unit, self.unit)

    @property
    def sides(self) -> tuple[str, str]:
        """What is said of a reading below what is allowed, and of one above it."""
        if self.clock or self.unit == "s":
            return "too short", "too long"
        if self.unit == "MB":
            return "too small", "too large"
        if self.unit in COUNTED and not self.decimals:
            return "too few", "too many"
        return "too low", "too high"

    @property
    def moves_with_gain(self) -> bool:
        return "gain" in self.moved_by

    @property
    def is_peak(self) -> bool:
        """Whether a limiter holds it down."""
        return "limiter" in self.moved_by

    @property
    def is_room(self) -> bool:
        """Whether it is a level of what is heard between the words, which silence keeps below any bound."""
        return self.moved_by >= ROOM


COUNTED = ("", "runs", "places")
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
    "MB": (0, 1e6),
}
GAIN: frozenset[Mover] = frozenset({"gain"})
PEAK: frozenset[Mover] = frozenset({"gain", "limiter"})
ROOM: frozenset[Mover] = frozenset({"gain", "cleaning"})
CLEANING: frozenset[Mover] = frozenset({"cleaning"})
EVENED: frozenset[Mover] = frozenset({"evening"})
ENDS: frozenset[Mover] = frozenset({"ends"})
CONVERSION: frozenset[Mover] = frozenset({"conversion"})
FORMAT: frozenset[Mover] = frozenset({"format"})


def _level(name: str, title: str, unit: str, where: str, **row: Any) -> Quantity:
    """A level: gain moves it, and its limits stand in the picture of level."""
    return Quantity(name, title, unit, "level", **{"where": where, "on_ribbon": True, "moved_by": GAIN, **row})


def _room(name: str, title: str, where: str = "", **row: Any) -> Quantity:
    """A level of what is heard between the words."""
    return Quantity(name, title, "dBFS", "between", where=where, on_ribbon=True, accuracy=1.0, moved_by=ROOM, **row)


def _spread(name: str, title: str, unit: str, peak: str, level: str) -> Quantity:
    """How far a peak stands over a level."""
    return Quantity(name, title, unit, "level", difference=(peak, level), moved_by=EVENED)


def _end(name: str, title: str, where: str) -> Quantity:
    """The time at an end of the file."""
    bound = (("duration_s", 1.0),)
    return Quantity(name, title, "s", "between", decimals=2, accuracy=0.06, where=where, moved_by=ENDS, never_above=bound)


def _file(name: str, title: str, unit: str, fact: Callable[[FileFacts], Fact], **row: Any) -> Quantity:
    """A fact of the file."""
    return Quantity(name, title, unit, "file", fact=fact, **{"decimals": 0, "accuracy": 0.0, **row})


def _whole(name: str, title: str, unit: str = "", **row: Any) -> Quantity:
    """What a production is as a whole; a count where it has no unit."""
    usual = (0, 9_999) if not unit else None
    return Quantity(name, title, unit, "package", where="in the package", **{"decimals": 0, "accuracy": 0.0, "usual": usual, **row})


def _once(names: Iterable[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(names))


def _pauses(inspection: "Inspection") -> Iterable[Place]:
    return ((pause.start_s, pause.end_s, pause.level_dbfs) for pause in inspection.pauses)


def _gaps(inspection: "Inspection") -> Iterable[Place]:
    """The time between one stretch of speech and the next."""
    between = zip(inspection.speech, inspection.speech[1:], strict=False)
    return ((one.end_s, other.start_s, other.start_s - one.end_s) for one, other in between)


_ALL = (
    _level(
        "rms_dbfs",
        "RMS level",
        "dBFS",
        "over the whole file",
        is_level=True,
        averaged=True,
        never_above=(("sample_peak_dbfs", 1.0), ("active_speech_level_dbfs", 1.0), ("true_peak_dbtp", 1.0)),
    ),
    _level(
        "integrated_loudness_lufs",
        "Integrated loudness",
        "LUFS",
        "over the whole file",
        is_level=True,
        k_weighted=True,
        never_above=(("momentary_max_lufs", 1.0),),
        elsewhere=0.2,
    ),
    _level(
        "momentary_max_lufs",
        "Loudest moment",
        "LUFS",
        "in any 0.4 s",
        k_weighted=True,
        taken=Run("momentary_lufs", 0.4),
        moved_by=GAIN | EVENED,
    ),
    _level(
        "short_term_max_lufs",
        "Loudest 3 s",
        "LUFS",
        "in any 3 s",
        k_weighted=True,
        taken=Run("short_term_lufs", 3.0),
        moved_by=GAIN | EVENED,
    ),
    _level(
        "sample_peak_dbfs",
        "Peak",
        "dBFS",
        "anywhere",
        moved_by=PEAK,
        taken=Run("sample_peak_dbfs"),
        never_above=(("true_peak_dbtp", 1.0),),
    ),
    # Other people's true-peak meters differ by so much on dense peaks.
    _level(
        "true_peak_dbtp", "True peak", "dBTP", "anywhere", moved_by=PEAK, taken=Run("true_peak_dbtp"), reserve=0.2, elsewhere=0.2
    ),
    _level(
        "active_speech_level_dbfs",
        "Active speech level",
        "dBFS",
        "while there is speech",
        is_level=True,
        never_above=(("sample_peak_dbfs", 1.0),),
    ),
    Quantity("speech_activity_percent", "Speech activity", "%", "level", decimals=0, accuracy=2.0),
    Quantity("loudness_range_lu", "Loudness range", "LU", "level", accuracy=1.0, moved_by=EVENED),
    _spread("crest_factor_db", "Crest factor", "dB", "sample_peak_dbfs", "rms_dbfs"),
    _spread("speech_crest_db", "Speech crest", "dB", "sample_peak_dbfs", "active_speech_level_dbfs"),
    _spread("peak_to_loudness_db", "Peak to loudness", "LU", "true_peak_dbtp", "integrated_loudness_lufs"),
    Quantity(
        "inter_sample_overs", "Inter-sample overs", "places", "level", decimals=0, accuracy=0.0, counts=("true_peak_dbtp", 0.0)
    ),
    _room(
        "noise_floor_dbfs",
        "Noise floor",
        "between the words",
        remeasured=0.3,
        taken=Spans(_pauses),
        never_above=(("noise_floor_worst_pause_dbfs", 1.0),),
    ),
    _room("noise_floor_quietest_dbfs", "Quietest half second", never_above=(("noise_floor_dbfs", 1.0),), elsewhere=0.5),
    _room("noise_floor_worst_pause_dbfs", "Worst pause", "in any pause", taken=Spans(_pauses)),
    Quantity(
        "signal_to_noise_db",
        "Signal to noise",
        "dB",
        "between",
        accuracy=1.0,
        moved_by=CLEANING,
        difference=("active_speech_level_dbfs", "noise_floor_dbfs"),
    ),
    _end("head_s", "Head", "before the first word"),
    _end("tail_s", "Tail", "after the last word"),
    Quantity(
        "longest_pause_s", "Longest pause", "s", "between", decimals=2, taken=Spans(_gaps), never_above=(("duration_s", 1.0),)
    ),
    Quantity(
        "digital_silence_s",
        "Dead silence",
        "s",
        "between",
        decimals=2,
        accuracy=0.01,
        moved_by=frozenset({"filling"}),
        never_above=(("duration_s", 1.0),),
    ),
    Quantity("clipped_runs", "Clipped runs", "runs", "health", decimals=0, accuracy=0.0, moved_by=frozenset({"repair"})),
    Quantity(
        "dc_offset_percent",
        "DC offset",
        "%",
        "health",
        decimals=2,
        accuracy=0.01,
        usual=(-100, 100),
        moved_by=frozenset({"offset"}),
    ),
    Quantity("asymmetry_db", "Asymmetry", "dB", "health", usual=(-60, 60)),
    Quantity(
        "channel_correlation",
        "Correlation",
        "",
        "health",
        decimals=2,
        where="between left and right",
        usual=(-1, 1),
        accuracy=0.02,
        remeasured=0.005,
        moved_by=CONVERSION,
    ),
    Quantity("mono_loss_db", "Loss in mono", "dB", "health", where="in any 3 s of speech", usual=(0, 60), moved_by=CONVERSION),
    Quantity("hum_db", "Hum", "dB", "health", accuracy=2.0),
    Quantity("rumble_db", "Rumble", "dB", "health", accuracy=2.0),
    Quantity("decay_s", "Room decay", "s", "health", decimals=2),
    Quantity("bandwidth_hz", "Bandwidth", "Hz", "health", decimals=0, accuracy=200.0, never_above=(("sample_rate_hz", 2.0),)),
    _file("duration_s", "Duration", "s", lambda f: f.duration_s, decimals=1, clock=True),
    _file(
        "container",
        "File format",
        "",
        lambda f: f.container,
        choices=_once(CONTAINERS.values()),
        able=lambda form: form.as_container,
        moved_by=FORMAT,
    ),
    _file(
        "codec",
        "Codec",
        "",
        lambda f: f.codec,
        choices=(*_once(codec for codec, _ in CODECS.values()), "flac"),
        able=lambda form: form.as_codec,
        moved_by=FORMAT,
    ),
    _file(
        "sample_rate_hz",
        "Sample rate",
        "Hz",
        lambda f: f.sample_rate_hz,
        able=lambda form: form.as_sample_rate,
        moved_by=CONVERSION,
    ),
    _file("bit_depth", "Bit depth", "bit", lambda f: f.bit_depth, able=lambda form: form.as_bit_depth, moved_by=FORMAT),
    _file("channels", "Channels", "", lambda f: f.channels, usual=(1, 64), able=lambda form: form.as_channels, moved_by=CONVERSION),
    _file("bit_rate_kbps", "Bit rate", "kbit/s", lambda f: f.bit_rate_kbps, able=lambda form: form.as_bit_rate, moved_by=FORMAT),
    _file(
        "channel_relation",
        "How the channels differ",
        "",
        lambda f: f.channel_relation,
        choices=("one", "identical", "silent", "inverted", "different"),
        exactly_where=Tie("one", "channels", 1.0),
    ),
    _file(
        "bit_rate_kind",
        "Bit rate kind",
        "",
        lambda f: _rate_kind(f.bit_rate_constant),
        choices=("constant", "variable"),
        able=lambda form: form.as_rate_kind,
        moved_by=FORMAT,
    ),
    _file("file_size_mb", "File size", "MB", lambda f: f.size_bytes / 1e6, decimals=1, moved_by=FORMAT),
    _whole("opening_credits", "Opening credits", first=(1, 1)),
    _whole("closing_credits", "Closing credits", first=(1, 1)),
    _whole("sample_length_s", "Shop sample", "s", clock=True, usual=(0, 3_600), first=(30, 300)),
    _whole("numbers_missing", "Missing numbers", first=(None, 0)),
    _whole("numbers_repeated", "Repeated numbers", first=(None, 0)),
    _whole("total_duration_s", "Total length", "s", clock=True, usual=(0, 500 * 3_600)),
    _whole("package_size_mb", "Package size", "MB", decimals=1),
)
QUANTITIES: dict[str, Quantity] = {quantity.name: quantity for quantity in _ALL}


def quantity(name: str) -> Quantity:
    """What is known of a quantity; a stand-in with its bare name for one that this program does not know (any more).

    >>> quantity("rms_dbfs").title, quantity("warmth_db").title
    ('RMS level', 'Warmth db')
    """
    return QUANTITIES.get(name) or Quantity(name, name.replace("_", " ").capitalize(), "", "file")


def moved_by(mover: Mover) -> tuple[str, ...]:
    """The quantities that a treatment can move with something.

    >>> moved_by("ends")
    ('head_s', 'tail_s')
    """
    return tuple(name for name, about in QUANTITIES.items() if mover in about.moved_by)


ROOM_LEVELS = tuple(name for name, about in QUANTITIES.items() if about.is_room)
"""The levels of what is heard between the words."""


def page() -> dict[str, dict[str, Any]]:
    """What the page has to know of each quantity before it asks for anything."""
    return {
        name: {
            "clock": about.clock,
            "on_ribbon": about.on_ribbon,
            "is_room": about.is_room,
            "of_package": about.of_package,
            "sides": list(about.sides),
        }
        for name, about in QUANTITIES.items()
    }


def _rate_kind(constant: bool | None) -> str | None:
    return None if constant is None else ("constant" if constant else "variable")
