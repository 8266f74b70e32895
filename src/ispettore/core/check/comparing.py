"""One take check against an earlier one, in sentences: what became of the room, the input and what hums."""

from ispettore.core.check.advice import TakeCheck
from ispettore.core.figures import number

ROOM_DB, INPUT_DB, DECAY_S = 2.0, 3.0, 0.1
"""Less than this is not told: no two readings are alike."""


def compared(now: TakeCheck, before: TakeCheck, *, when: str) -> list[str]:
    """What is otherwise than it was `when` ("on 22 November"). The room is held against the voice, as turning the input moves
    both.

    >>> from ispettore.core.check.advice import TakeCheck
    >>> some = dict(ready=True, turn_db=0, gain_db=0, peak_dbfs=-11, true_peak_dbtp=-11, hum_db=None, hum_hz=None, decay_s=None)
    >>> some |= dict(clipped=0, nearer_cm=0, distances=(), advice=())
    >>> quiet, loud = (TakeCheck(speech_dbfs=-24, room_dbfs=room, **some) for room in (-66, -62))
    >>> compared(loud, quiet, when="on 22 November")
    ['Against the voice, the room is 4 dB louder than on 22 November.']
    """
    found = []
    room = _ratio(before, now)
    if room is not None and abs(room) >= ROOM_DB:
        found.append(f"Against the voice, the room is {number(abs(room), 0)} dB {'louder' if room > 0 else 'quieter'} than {when}.")
    if now.hum_hz is not None and before.hum_hz is None:
        found.append(f"It hums at {now.hum_hz} Hz; {when} it did not.")
    if now.hum_hz is None and before.hum_hz is not None:
        found.append(f"What hummed at {before.hum_hz} Hz {when} is gone.")
    if now.speech_dbfs is not None and before.speech_dbfs is not None:
        louder = now.speech_dbfs - before.speech_dbfs
        if abs(louder) >= INPUT_DB:
            found.append(f"The voice comes in {number(abs(louder), 0)} dB {'louder' if louder > 0 else 'softer'} than {when}.")
    if now.decay_s is not None and before.decay_s is not None and abs(now.decay_s - before.decay_s) >= DECAY_S:
        longer = "longer" if now.decay_s > before.decay_s else "shorter"
        found.append(f"The room rings {longer}: {number(now.decay_s, 1)} s, {when} {number(before.decay_s, 1)} s.")
    return found or [f"Room and level are as {when}."]


def _ratio(before: TakeCheck, now: TakeCheck) -> float | None:
    """By how much the voice stood further above the room before, in dB."""
    levels = (before.speech_dbfs, before.room_dbfs, now.speech_dbfs, now.room_dbfs)
    if any(level is None for level in levels):
        return None
    speech, room, speech_now, room_now = (level for level in levels if level is not None)
    return (speech - room) - (speech_now - room_now)
