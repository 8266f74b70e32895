"""Everything that can be said to a person when something goes wrong.

Each failure is a class of its own; its docstring is the sentence that reaches the command line and the screen. Words in braces
are filled from the arguments the error was raised with.
"""

from typing import Any


class IspettoreError(Exception):
    """Something went wrong with {file}."""

    def __init__(self, **facts: Any) -> None:
        self.facts = facts
        super().__init__(self.sentence)

    @property
    def sentence(self) -> str:
        text = " ".join((type(self).__doc__ or "").split())
        try:
            return text.format(**self.facts)
        except (KeyError, IndexError):
            return text

    def __reduce__(self) -> tuple[Any, ...]:
        return _rebuild, (type(self), self.facts)


def _rebuild(kind: type[IspettoreError], facts: dict[str, Any]) -> IspettoreError:
    return kind(**facts)


class FileMissing(IspettoreError):
    """There is no file “{file}”. Check the name and the folder."""


class FileUnreadable(IspettoreError):
    """“{file}” can't be opened: {reason}. Check that you may read it."""


class FileEmpty(IspettoreError):
    """“{file}” is empty (0 bytes). Export or copy it again; the copy was probably cut off."""


class NotAudio(IspettoreError):
    """“{file}” is not an audio file Ispettore can read: {reason}. Bring WAV, FLAC, MP3, AIFF, CAF, Ogg Vorbis or Opus."""


class NoSamples(IspettoreError):
    """“{file}” has the header of a {container} file but holds no audio. Export it again from where it was recorded."""


class BadSamples(IspettoreError):
    """“{file}” holds sample values that are not numbers (first at {at_s:.3f} s). No reading would be true; export it again."""


class TooManyChannels(IspettoreError):
    """“{file}” has {channels} channels; Ispettore measures voice in up to 6. Export the voice by itself."""


class RateOutOfRange(IspettoreError):
    """“{file}” says its sample rate is {rate} Hz; Ispettore measures 8,000 to 192,000 Hz. Export it at 44.1 or 48 kHz."""


class BadSpan(IspettoreError):
    """“{text}” is not a span of room tone. Write where it starts and ends in seconds, as in 12.5-14."""


class RoomToneOutside(IspettoreError):
    """The room tone marked by hand lies outside “{file}”, which is {duration_s:.2f} s long. Mark a span inside it."""


class NoRoomTone(IspettoreError):
    """“{file}” has no room tone to learn the noise from: no pause holds {least_ms:.0f} ms of it. Choose some by hand."""


class RoomToneLength(IspettoreError):
    """The span chosen in “{file}” is {length_s:.2f} s long. Choose at least {least_ms:.0f} ms and at most {most_s:.0f} s of it."""


class UnknownSpecification(IspettoreError):
    """There is no specification “{name}”. Known here: {known}."""


class BadSpecification(IspettoreError):
    """The specification in “{file}” can't be used: {reason}."""


class BadTreatment(IspettoreError):
    """The treatment in “{file}” can't be used: {reason}."""


class UnsupportedOutput(IspettoreError):
    """“{file}” can't be written: {reason}."""


class WouldOverwrite(IspettoreError):
    """“{file}” is the recording itself. A recording is never changed; name another file for the result."""


class NothingToLengthenWith(IspettoreError):
    """The {end} of “{file}” is to be lengthened with the recording's own room tone, but it holds none of at least {need_ms:.0f} ms.
    Record half a second of the empty room and attach it."""


class NotACertificate(IspettoreError):
    """“{file}” is not an Ispettore certificate: {reason}."""


class BadKey(IspettoreError):
    """The key in “{file}” can't be used: {reason}."""


class KeyExposed(IspettoreError):
    """The private key “{file}” can be read by others (mode {mode}), so what it seals proves nothing. Make it its owner's alone
    (chmod 600); if somebody may have copied it, move it away, and a new one is made."""


class ContentChanged(IspettoreError):
    """“{file}” is damaged: its bytes no longer match its SHA-256. Add the same file again to repair it."""


class Cancelled(IspettoreError):
    """Cancelled. Nothing was written."""
