"""What a take check measures: ten seconds of the room, then a few sentences, each by the meters that measure files."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.errors import IspettoreError
from ispettore.core.measure import decibels, hum
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.reading import Finding, Reading, Span
from ispettore.core.spec.quantities import QUANTITIES

LEAST_ROOM_S, LEAST_VOICE_S = 3.0, 5.0
EDGE_S = 0.3
"""At the ends of the room's part somebody may have touched a key."""
STEP_S = 0.5
UNSTEADY_DB = 6.0
OF_THE_ROOM = ("hum_db", "rumble_db")


class CheckTooShort(IspettoreError):
    """The take check needs {room_s:.0f} s of the room and {voice_s:.0f} s of reading at least. Start it again, and let it run to
    its end."""

    room_s: float
    voice_s: float


@dataclass(frozen=True)
class Checked:
    """Both parts measured. `inspection` is that of the sentences, with the room's levels and findings taken from the room's own
    part; `without_hum_dbfs` is the noise floor that would be left if what hums were switched off; `unsteady` is where in the
    room's part something sounded, in seconds, and by how many dB it stood above the rest."""

    inspection: Inspection
    room_s: float
    without_hum_dbfs: float | None
    unsteady: tuple[float, float] | None

    @property
    def room_dbfs(self) -> float | None:
        return self.inspection.value("noise_floor_dbfs")


def check(room: NDArray[np.floating], voice: NDArray[np.floating], *, sample_rate_hz: int) -> Checked:
    """Measure the room and the sentences, both of shape (frames, channels), full scale 1.0. Raises CheckTooShort."""
    room_s, voice_s = len(room) / sample_rate_hz, len(voice) / sample_rate_hz
    if room_s < LEAST_ROOM_S or voice_s < LEAST_VOICE_S:
        raise CheckTooShort(room_s=LEAST_ROOM_S, voice_s=LEAST_VOICE_S)
    alone = measure_array(room, sample_rate_hz=sample_rate_hz, room_tone=[Span(start_s=EDGE_S, end_s=room_s - EDGE_S)])
    read = measure_array(voice, sample_rate_hz=sample_rate_hz).inspection
    taken = {name: reading for name, reading in alone.inspection.readings.items() if _of_the_room(name)}
    speech, floor = read.readings["active_speech_level_dbfs"], taken["noise_floor_dbfs"]
    readings = {**read.readings, **taken, "signal_to_noise_db": _above(speech, floor)}
    findings = [*(one for one in alone.inspection.findings if one.kind in ("hum", "rumble")), *_of_the_voice(read.findings)]
    return Checked(
        inspection=read.model_copy(update={"readings": readings, "findings": findings}),
        room_s=room_s,
        without_hum_dbfs=_without_hum(alone),
        unsteady=_unsteady(room, sample_rate_hz),
    )


def _of_the_room(name: str) -> bool:
    return name in OF_THE_ROOM or QUANTITIES[name].is_room


def _of_the_voice(findings: Sequence[Finding]) -> list[Finding]:
    return [one for one in findings if one.kind not in ("hum", "rumble")]


def _above(speech: Reading, floor: Reading) -> Reading:
    value = speech.value - floor.value if speech.value is not None and floor.value is not None else None
    method = "active speech level of the sentences less the noise floor of the room"
    note = None if value is not None else "the speech or the room has no level"
    return Reading(quantity="signal_to_noise_db", value=value, unit="dB", method=method, note=note)


def _without_hum(alone: Measured) -> float | None:
    """The noise floor of the worst channel less what the mains adds to it."""
    low = hum.spectrum(alone.meters.low_rate, alone.passages)
    floor = alone.inspection.readings["noise_floor_dbfs"]
    if low is None or floor.value is None:
        return floor.value
    left = []
    for channel, level in enumerate(floor.per_channel):
        if level is None:
            continue
        power = 10 ** (level / 10)
        added = max(hum.family_power(low, base)[channel] for base in hum.BASES_HZ)
        left.append(max(power - added, power * 1e-4))
    return decibels.of_power(max(left, default=0.0))


def _unsteady(room: NDArray[np.floating], sample_rate_hz: int) -> tuple[float, float] | None:
    """The loudest half second of the room, where it stands out of the others."""
    size = round(STEP_S * sample_rate_hz)
    first = round(EDGE_S * sample_rate_hz)
    count = (len(room) - 2 * first) // size
    pieces = np.asarray(room[first : first + count * size], dtype=np.float64).reshape(count, size, -1)
    levels = decibels.levels(pieces.var(axis=1).max(axis=1))
    loudest = int(np.argmax(levels))
    above = float(levels[loudest] - np.median(levels))
    return (EDGE_S + (loudest + 0.5) * STEP_S, above) if above > UNSTEADY_DB else None
