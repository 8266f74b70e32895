"""What one step does to this recording, as a picture can show it: figures over an axis, each with its name, and a sentence that
says the same.

A step that has no picture of its own shows the level before and after it over time. All of it is read from a rehearsal: what comes
into a step and what comes out of it.
"""

from collections.abc import Callable, Sequence
from typing import Any, Literal

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.figures import clock, number, with_unit
from ispettore.core.measure import voice_tone
from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.loudness import windows
from ispettore.core.measure.meters import Measured
from ispettore.core.treat import compressor, expander
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.de_esser import DeEsser
from ispettore.core.treat.expander import Expander
from ispettore.core.treat.head_and_tail import HeadAndTail
from ispettore.core.treat.limiter import TruePeakLimiter
from ispettore.core.treat.rehearsal import Sounding, Stage
from ispettore.core.treat.step import Context
from ispettore.core.treat.tone import Tone, resonance_cuts
from ispettore.core.treat.tone_match import ToneMatch

COLUMNS = 360
FLOOR_DB = -96.0
IMPULSE = 1 << 15
AT_AN_END_S = 6.0
GAINS = ("bell", "low-shelf", "high-shelf")
SAME = 0.03
"""Frequencies nearer than by this share are one."""

MOVED_DB = -0.1
"""Gain that moved by less is not worth telling."""


Of = Literal["before", "after", "step"]
SIDES: tuple[Of, Of] = ("before", "after")


class Line(BaseModel):
    """One run of values over the picture's axis `x`; one of `before` or `after` the step, or neither."""

    model_config = ConfigDict(frozen=True)

    title: str
    x: tuple[float, ...]
    y: tuple[float | None, ...]
    of: Of = "step"


class Mark(BaseModel):
    """A place on an axis. `path` is the setting that it is, to be dragged; `entry` what it would add to the step's list."""

    model_config = ConfigDict(frozen=True)

    title: str
    at: float
    axis: Literal["x", "y"] = "x"
    path: str = ""
    entry: dict[str, Any] | None = None
    level_db: float | None = None
    level_path: str = ""
    """Where it stands on the axis of the response, and the setting that this is."""


class Picture(BaseModel):
    """One picture. `bars` are shares of the recording's time at the levels `x` of the first line, where it is a curve."""

    model_config = ConfigDict(frozen=True)

    form: Literal["curve", "spectrum", "time"]
    said: str
    x_unit: str
    y_unit: str = "dBFS"
    lines: tuple[Line, ...]
    bars: tuple[float, ...] = ()
    marks: tuple[Mark, ...] = ()
    moved_db: tuple[float, ...] = ()
    """The gain that the step moved, over the same time as the lines: the lowest of each column."""


def of(stage: Stage) -> tuple[Picture, ...]:
    """The pictures of a step at work."""
    made = _MADE.get(stage.step.kind)
    return made(stage) if made is not None else (_levels(stage),)


def _compressor(stage: Stage) -> tuple[Picture, ...]:
    settings = stage.step.typed
    assert isinstance(settings, Compressor)
    measured = stage.before.measured()
    levels = _peaks(measured) if settings.detection == "peak" else _powers(measured)
    x = np.arange(-72.0, 1.0)
    gain = compressor.static_curve(x, settings)
    out = x + 20 * np.log10(1 - settings.wet + settings.wet * 10 ** ((gain + settings.make_up_db) / 20))
    above = float(np.mean(levels[measured.speech_mask] > settings.threshold_dbfs)) if measured.speech_mask.any() else 0.0
    deepest = _deepest(stage)
    said = f"{number(100 * above, 0)} % of the speech is above the threshold; it falls by at most {with_unit(-deepest, 'dB')}."
    curve = Picture(
        form="curve",
        said=said,
        x_unit="dBFS",
        lines=(_line("comes out", x, out),),
        bars=_shares(levels[measured.speech_mask], x),
        marks=(Mark(title="threshold", at=settings.threshold_dbfs, path="threshold_dbfs"),),
    )
    return curve, _levels(stage)


def _expander(stage: Stage) -> tuple[Picture, ...]:
    settings = stage.step.typed
    assert isinstance(settings, Expander)
    measured = stage.before.measured()
    proposed, learned = expander.propose(measured, settings)
    threshold = settings.threshold_dbfs if settings.threshold_dbfs is not None else proposed
    x = np.arange(-90.0, 1.0)
    out = x + np.where(x < threshold, np.maximum((x - threshold) * (settings.ratio - 1), -settings.range_db), 0.0)
    marks = [Mark(title="threshold", at=threshold, path="threshold_dbfs")]
    for name, title in (
        ("loudest_breath_dbfs", "loudest breath"),
        ("room_tone_peaks_dbfs", "room tone"),
        ("softest_speech_dbfs", "softest speech"),
    ):
        if name in learned:
            marks.append(Mark(title=title, at=learned[name]))
    said = (
        f"Below {with_unit(threshold, 'dBFS')} the level falls by up to {with_unit(settings.range_db, 'dB')}. The softest speech "
        f"lies at {with_unit(learned['softest_speech_dbfs'], 'dBFS')}; {with_unit(proposed, 'dBFS')} is proposed."
    )
    curve = Picture(
        form="curve",
        said=said,
        x_unit="dBFS",
        lines=(_line("comes out", x, out),),
        bars=_shares(_peaks(measured), x),
        marks=tuple(marks),
    )
    return curve, _levels(stage)


def _spectrum(stage: Stage) -> tuple[Picture, ...]:
    """Voice and room before and after, by third-octaves."""
    before, after = stage.before.measured().inspection.spectrum, stage.measured().inspection.spectrum
    if before is None or after is None:
        return (_levels(stage),)
    lines = []
    for title, was, now in (
        ("voice", before.speech_dbfs, after.speech_dbfs),
        ("room tone", before.room_tone_dbfs, after.room_tone_dbfs),
    ):
        if was is not None:
            lines.append(Line(title=title, x=before.centres_hz, y=was, of="before"))
        if now is not None:
            lines.append(Line(title=title, x=after.centres_hz, y=now, of="after"))
    response = _response(stage)
    settings = stage.step.typed
    own = voice_tone.of(before)
    if isinstance(settings, ToneMatch) and own is not None and len(settings.voice_db) == len(voice_tone.BANDS_HZ):
        # Where this voice would stand with that tone at its own loudness.
        there = {round(hz, 1): level for hz, level in zip(before.centres_hz, before.speech_dbfs or (), strict=False)}
        aimed = voice_tone.difference(own, settings.voice_db)
        level = tuple(round(there[hz] + by, 2) for hz, by in zip(voice_tone.BANDS_HZ, aimed.tolist(), strict=True))
        lines.append(Line(title="tone aimed for", x=voice_tone.BANDS_HZ, y=level))
    marks = [Mark(title="hum", at=hz) for hz in before.hum_hz[:4]] if stage.step.kind == "hum-filter" else []
    if isinstance(settings, Tone):
        marks += [
            Mark(
                title=f"{band.kind}, {with_unit(band.gain_db, 'dB')}",
                at=band.frequency_hz,
                path=f"bands.{place}.frequency_hz",
                level_db=band.gain_db if band.kind in GAINS else None,
                level_path=f"bands.{place}.gain_db" if band.kind in GAINS else "",
            )
            for place, band in enumerate(settings.bands)
        ]
        named = [band.frequency_hz for band in settings.bands]
        marks += [
            Mark(title=f"resonance, {with_unit(found.stands_out_db, 'dB')}", at=cut.band.frequency_hz, entry=cut.band.model_dump())
            for found, cut in zip(before.resonances, resonance_cuts(before.resonances), strict=True)
            if not any(abs(cut.band.frequency_hz / hz - 1) < SAME for hz in named)
        ]
    if stage.step.kind == "rumble-filter":
        marks.append(Mark(title="corner", at=stage.step.typed.model_dump()["corner_hz"], path="corner_hz"))
    fell = _fell(before.room_tone_dbfs, after.room_tone_dbfs)
    voice = _fell(before.speech_dbfs, after.speech_dbfs)
    told = [f"the room tone {_by(fell)}"] if fell is not None else []
    told += [f"the voice {_by(voice)}"] if voice is not None else []
    said = " and ".join(told) or "There is neither speech nor room tone here"
    picture = Picture(
        form="spectrum",
        said=f"{said[:1].upper()}{said[1:]}.",
        x_unit="Hz",
        lines=(*lines, *([response] if response is not None else [])),
        marks=tuple(marks),
    )
    return (picture,)


def _response(stage: Stage) -> Line | None:
    """What a step that does the same to every sound does to each frequency, in dB, from an impulse; None for other steps."""
    if stage.step.kind not in ("rumble-filter", "tone", "tone-match"):
        return None
    rate = stage.before.sample_rate_hz
    known = stage.before.measured() if stage.step.typed.learns() else None
    processor = stage.step.typed.start(Context(name="", sample_rate_hz=rate, channels=1, measured=known))
    impulse = np.zeros((IMPULSE, 1), dtype=np.float32)
    impulse[IMPULSE // 2] = 1.0
    out = np.concatenate((processor.feed(impulse), processor.finish()))
    power = np.abs(np.fft.rfft(out[:, 0], 2 * IMPULSE))
    at = np.geomspace(20, 0.49 * rate, 160)
    level = 20 * np.log10(np.maximum(np.interp(at, np.fft.rfftfreq(2 * IMPULSE, 1 / rate), power), 1e-5))
    return _line("response", at, np.maximum(level, -60.0))


def _riding(stage: Stage) -> tuple[Picture, ...]:
    lines = []
    spread = []
    for which, measured in zip(SIDES, (stage.before.measured(), stage.measured()), strict=True):
        power = windows(measured.k_power, cells=600, step=20)
        level = -0.691 + 10 * np.log10(np.maximum(power, 1e-10))
        x = (np.arange(level.size) * 20 + 600) * CELL_S
        lines.append(_line("short-term loudness", x, level, of=which))
        spoken = level[level > level.max(initial=-70) - 20]
        spread.append(float(np.percentile(spoken, 95) - np.percentile(spoken, 10)) if spoken.size else 0.0)
    moved = stage.processor.reduction_db()
    most = f"up to {with_unit(float(moved.max(initial=0)), 'dB')} up and {with_unit(-float(moved.min(initial=0)), 'dB')} down"
    said = f"Passages differ by {with_unit(spread[0], 'LU')}, and by {with_unit(spread[1], 'LU')} after it; the gain moves {most}."
    return (Picture(form="time", said=said, x_unit="s", y_unit="LUFS", lines=tuple(lines), moved_db=columns(moved)),)


def _de_esser(stage: Stage) -> tuple[Picture, ...]:
    settings = stage.step.typed
    assert isinstance(settings, DeEsser)
    moved = _moved(stage)
    x, band = _band(stage.before, settings.frequency_hz)
    places = len(runs(moved < MOVED_DB))
    said = f"Lowers {places} {'burst' if places == 1 else 'bursts'}, by at most {with_unit(-float(moved.min(initial=0)), 'dB')}."
    mark = Mark(title="threshold", at=settings.threshold_dbfs, axis="y", path="threshold_dbfs")
    line = _line(f"above {number(settings.frequency_hz, 0)} Hz", x, band, of="before")
    return (Picture(form="time", said=said, x_unit="s", lines=(line,), marks=(mark,), moved_db=columns(moved)),)


def _band(sound: Sounding, from_hz: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The largest |sample| of what lies above a frequency, in dBFS, for each column."""

    rate = sound.sample_rate_hz
    samples = sound.read(0, sound.frames)
    sections = scipy.signal.butter(4, min(from_hz, 0.49 * rate), "highpass", fs=rate, output="sos")
    band = np.abs(scipy.signal.sosfilt(sections, samples, axis=0)).max(axis=1)
    return _over_time(band, rate)


def _limiter(stage: Stage) -> tuple[Picture, ...]:
    settings = stage.step.typed
    assert isinstance(settings, TruePeakLimiter)
    picture = _levels(stage)
    moved = _moved(stage)
    places = len(runs(moved < MOVED_DB))
    said = (
        f"It touches {places} {'place' if places == 1 else 'places'}; the largest reduction is "
        f"{with_unit(-float(moved.min(initial=0)), 'dB')}."
        if places
        else "No peak reaches the ceiling: it leaves everything as it is."
    )
    mark = Mark(title="ceiling", at=settings.ceiling_dbtp, axis="y", path="ceiling_dbtp")
    return (picture.model_copy(update={"said": said, "marks": (mark,)}),)


def _ends(stage: Stage) -> tuple[Picture, ...]:
    """The first and the last seconds, before and after."""
    settings = stage.step.typed
    assert isinstance(settings, HeadAndTail)
    found = []
    for name, title, path in (("head_s", "first", "head_s"), ("tail_s", "last", "tail_s")):
        lines = []
        for which, sound in zip(SIDES, (stage.before, stage), strict=True):
            rate, frames = sound.sample_rate_hz, sound.frames
            count = min(frames, round(AT_AN_END_S * rate))
            samples = np.abs(sound.read(0 if title == "first" else frames - count, count)).max(axis=1)
            x, level = _over_time(samples, rate)
            lines.append(_line("level", x if title == "first" else x - count / rate, level, of=which))
        was, asked = stage.told().inspection.value(name), settings.model_dump()[name]
        # Of a part of the recording, lengths are the whole's, and become what is asked for.
        now = stage.measured().inspection.value(name) if stage.whole else was if asked is None else asked
        what = "head" if title == "first" else "tail"
        said = f"The {what} is {with_unit(was, 's', 2)} long and becomes {with_unit(now, 's', 2)}."
        at = asked if asked is not None else (was or 0.0)
        marks = (Mark(title=what, at=at if title == "first" else -at, path=path if title == "first" else ""),)
        found.append(Picture(form="time", said=said, x_unit="s", lines=tuple(lines), marks=marks))
    return tuple(found)


def _levels(stage: Stage) -> Picture:
    """The level before and after, over time, and the gain that moved."""
    lines, rms = [], []
    for which, sound in zip(SIDES, (stage.before, stage), strict=True):
        samples = np.abs(sound.read(0, sound.frames)).max(axis=1, initial=0)
        x, level = _over_time(samples, sound.sample_rate_hz)
        lines.append(_line("peak", x, level, of=which))
        rms.append(sound.measured().inspection.value("rms_dbfs"))
    moved = stage.processor.reduction_db()
    change = None if rms[0] is None or rms[1] is None else rms[1] - rms[0]
    said = "There is silence here" if change is None else f"The RMS level {_by(-change)}"
    if moved.size and moved.min(initial=0) < MOVED_DB:
        first = int(np.argmin(moved))
        said += f"; it is lowered most, by {with_unit(-float(moved[first]), 'dB')}, at {clock(first * CELL_S)}"
    return Picture(form="time", said=f"{said}.", x_unit="s", lines=tuple(lines), moved_db=columns(moved))


def _by(fell_db: float) -> str:
    if abs(fell_db) < 0.05:
        return "stays as it is"
    return f"{'falls' if fell_db > 0 else 'rises'} by {with_unit(abs(fell_db), 'dB')}"


def _fell(before: Sequence[float] | None, after: Sequence[float] | None) -> float | None:
    """By how much the power of all bands together fell, in dB."""
    if before is None or after is None:
        return None
    was, now = (float(np.sum(10 ** (np.array(levels) / 10))) for levels in (before, after))
    return 10 * float(np.log10(was / max(now, 1e-12))) if was > 0 else None


def _peaks(measured: Measured) -> NDArray[np.float64]:
    return np.asarray(20 * np.log10(np.maximum(measured.cells.peak.max(axis=0).astype(np.float64), 1e-5)))


def _powers(measured: Measured) -> NDArray[np.float64]:
    return np.asarray(10 * np.log10(np.maximum(measured.cells.power.mean(axis=0).astype(np.float64), 1e-10)))


def _shares(levels: NDArray[np.float64], x: NDArray[np.float64]) -> tuple[float, ...]:
    edges = np.concatenate((x - 0.5, [x[-1] + 0.5]))
    counts, _ = np.histogram(levels, edges)
    return tuple((counts / max(1, levels.size)).round(4).tolist())


def _over_time(samples: NDArray[np.floating], rate: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The middle of each column in seconds, and the largest sample in it, in dBFS."""
    count = max(1, min(COLUMNS, samples.size))
    starts = np.linspace(0, samples.size, count, endpoint=False).astype(np.int64)
    largest = np.maximum.reduceat(samples, starts) if samples.size else np.zeros(1)
    middles = (starts + samples.size / count / 2) / rate
    return middles, 20 * np.log10(np.maximum(largest.astype(np.float64), 10 ** (FLOOR_DB / 20)))


def _moved(stage: Stage) -> NDArray[np.float32]:
    stage.until(np.iinfo(np.int64).max)
    return stage.processor.reduction_db()


def _deepest(stage: Stage) -> float:
    return float(_moved(stage).min(initial=0))


def columns(moved_db: NDArray[np.floating], count: int = COLUMNS, *, of: Callable[..., Any] = np.min) -> tuple[float, ...]:
    """The lowest gain in each of at most so many columns, or another figure of it; empty where nothing worth telling moved."""
    if not moved_db.size or not (np.abs(moved_db) > -MOVED_DB).any():
        return ()
    parts = np.array_split(moved_db, min(count, moved_db.size))
    return tuple(round(float(of(part)), 2) for part in parts)


def _line(title: str, x: NDArray[np.floating], y: NDArray[np.floating], *, of: Of = "step") -> Line:
    return Line(title=title, x=tuple(np.round(x, 3).tolist()), y=tuple(np.round(y, 2).tolist()), of=of)


_MADE: dict[str, Callable[[Stage], tuple[Picture, ...]]] = {
    "compressor": _compressor,
    "expander": _expander,
    "rumble-filter": _spectrum,
    "hum-filter": _spectrum,
    "noise-reduction": _spectrum,
    "tone": _spectrum,
    "resonance-search": _spectrum,
    "tone-match": _spectrum,
    "level-riding": _riding,
    "de-esser": _de_esser,
    "true-peak-limiter": _limiter,
    "head-and-tail": _ends,
}
