"""What can go wrong with a take while it is recorded, in words."""

from ispettore.core.errors import IspettoreError


class TakeElsewhere(IspettoreError):
    """“{file}” goes on in another window, so it ended in this one. Nothing of it is lost."""

    file: str


class TakeGoesOn(IspettoreError):
    """“{file}” is being recorded in another window. Finish it there, or close that window first."""

    file: str


class SoundMissing(IspettoreError):
    """Sound of “{file}” is missing from {at_s:.1f} s on: this browser does not hold it any more. What came before is kept; go on
    with the take, or finish it as it is."""

    file: str
    at_s: float


class TakeOtherwise(IspettoreError):
    """“{file}” was begun at {sample_rate_hz} Hz, and this microphone gives something else. Choose the one it was begun with, or
    finish the take as it is and begin another."""

    file: str
    sample_rate_hz: int


class TakeTooLong(IspettoreError):
    """“{file}” is as long as a take can be here: {hours:.1f} hours. Finish it and begin another."""

    file: str
    hours: float


class TakeEmpty(IspettoreError):
    """Nothing was recorded in “{file}”. Record something, or discard it."""

    file: str
