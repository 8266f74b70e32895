"""Everything that can be said to a person when something goes wrong.

Each failure is a class of its own; its docstring is the sentence that reaches the command line and the screen. Words in braces
are its fields, typed, and given by name when it is raised: a class whose sentence and fields differ can't be made, and a call that
misses one does not pass the type check.
"""

import string
from dataclasses import dataclass, fields
from typing import Any, dataclass_transform


@dataclass_transform(kw_only_default=True, eq_default=False)
class IspettoreError(Exception):
    """Something went wrong that a person should hear of in a sentence."""

    def __init_subclass__(cls) -> None:
        dataclass(kw_only=True, eq=False, repr=False)(cls)
        named = {name for _, name, _, _ in string.Formatter().parse(cls.__doc__ or "") if name}
        known = {field.name for field in fields(cls)}  # type: ignore[arg-type]
        if named != known:
            raise TypeError(f"the sentence and the fields of {cls.__name__} differ: {', '.join(sorted(named ^ known))}")

    @property
    def facts(self) -> dict[str, Any]:
        """The fields by their names."""
        return {field.name: getattr(self, field.name) for field in fields(self)}  # type: ignore[arg-type]

    @property
    def sentence(self) -> str:
        return " ".join((type(self).__doc__ or "").split()).format(**self.facts)

    def __str__(self) -> str:
        return self.sentence

    def __reduce__(self) -> tuple[Any, ...]:
        return _rebuild, (type(self), self.facts)


def _rebuild(kind: type[IspettoreError], facts: dict[str, Any]) -> IspettoreError:
    return kind(**facts)


class FileMissing(IspettoreError):
    """There is no file “{file}”. Check the name and the folder."""

    file: str


class FileUnreadable(IspettoreError):
    """“{file}” can't be opened: {reason}. Check its permissions."""

    file: str
    reason: str


class FileEmpty(IspettoreError):
    """“{file}” is empty (0 bytes). Export or copy it again; the copy was probably cut off."""

    file: str


class NotAudio(IspettoreError):
    """“{file}” is not an audio file Ispettore can read: {reason}. Use WAV, FLAC, MP3, AIFF, CAF, Ogg Vorbis or Opus."""

    file: str
    reason: str


class NoSamples(IspettoreError):
    """“{file}” has the header of a {container} file but no audio. Export it again from where it was recorded."""

    file: str
    container: str


class BadSamples(IspettoreError):
    """“{file}” has sample values that are not numbers (first at {at_s:.3f} s), so it can't be measured. Export it again."""

    file: str
    at_s: float


class TooManyChannels(IspettoreError):
    """“{file}” has {channels} channels; Ispettore measures up to 6. Export just the voice track."""

    file: str
    channels: int


class RateOutOfRange(IspettoreError):
    """“{file}” says its sample rate is {rate} Hz; Ispettore measures 8,000 to 192,000 Hz. Export it at 44.1 or 48 kHz."""

    file: str
    rate: int


class TooLong(IspettoreError):
    """“{file}” decodes to more than {hours} hours of sound, the most that is measured. Split it, then try again."""

    file: str
    hours: int


class BadSpan(IspettoreError):
    """“{text}” is not a valid room-tone range. Give its start and end in seconds, such as 12.5-14."""

    text: str


class RoomToneOutside(IspettoreError):
    """The room tone set manually is outside “{file}”, which is {duration_s:.2f} s long. Choose a range inside it."""

    file: str
    duration_s: float


class NothingToFillWith(IspettoreError):
    """“{file}” has no room tone to fill gaps with: no pause has {least_ms:.0f} ms of it. Set it manually, or record half a minute
    of the empty room."""

    file: str
    least_ms: float


class NoRoomTone(IspettoreError):
    """“{file}” has no room tone to learn the noise from: no pause has {least_ms:.0f} ms of it. Set it manually."""

    file: str
    least_ms: float


class RoomToneLength(IspettoreError):
    """The selection in “{file}” is {length_s:.2f} s long. Select between {least_ms:.0f} ms and {most_s:.0f} s."""

    file: str
    length_s: float
    least_ms: float
    most_s: float


class UnknownSpecification(IspettoreError):
    """There is no specification “{name}”. Known here: {known}."""

    name: str
    known: str


class BadSpecification(IspettoreError):
    """The specification in “{file}” can't be used: {reason}."""

    file: str
    reason: str


class BadTreatment(IspettoreError):
    """The treatment in “{file}” can't be used: {reason}."""

    file: str
    reason: str


class BadBounds(IspettoreError):
    """The bounds in “{file}” can't be used: {reason}."""

    file: str
    reason: str


class UnsupportedOutput(IspettoreError):
    """“{file}” can't be written: {reason}."""

    file: str
    reason: str


class WouldOverwrite(IspettoreError):
    """“{file}” is the recording itself, which is never changed. Choose another file for the result."""

    file: str


class NothingToLengthenWith(IspettoreError):
    """The {end} of “{file}” has to be extended with the recording's own room tone, but none of at least {need_ms:.0f} ms was found.
    Record half a second of the empty room and attach it."""

    end: str
    file: str
    need_ms: float


class NotACertificate(IspettoreError):
    """“{file}” is not an Ispettore certificate: {reason}."""

    file: str
    reason: str


class BadKey(IspettoreError):
    """The key in “{file}” can't be used: {reason}."""

    file: str
    reason: str


class KeyExposed(IspettoreError):
    """The private key “{file}” can be read by others (mode {mode}), so its seals prove nothing. Restrict it to its owner (chmod
    600); if somebody may have copied it, move it away and a new one is made."""

    file: str
    mode: str


class ContentChanged(IspettoreError):
    """“{file}” is damaged: its bytes no longer match its SHA-256. Add the same file again to repair it."""

    file: str


class Cancelled(IspettoreError):
    """Cancelled. Nothing was written."""
