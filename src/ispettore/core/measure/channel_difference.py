"""How the channels differ: identical, one silent, one inverted, or different; from the sums of their products."""

from typing import Literal

import numpy as np

from ispettore.core.measure.cells import Cells, Milliseconds
from ispettore.core.measure.grid import Seconds
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, FindingKind

Relation = Literal["one", "identical", "silent", "inverted", "different"]
ALIKE_DB = -50.0
SILENT_AMPLITUDE = 10 ** (-90 / 20)


class ChannelDifference:
    """Feed seconds; every channel is compared with the first one that sounds."""

    def __init__(self, *, channels: int) -> None:
        self._products = np.zeros((channels, channels))
        self.relation: Relation = "one"
        """The relation as a fact of the file, once it was read."""

    def feed(self, sound: Seconds, _milliseconds: Milliseconds) -> None:
        """Take in shape (channels, frames)."""
        fresh = sound.fresh
        if len(fresh) > 1:
            for one in range(len(fresh)):
                for other in range(one, len(fresh)):
                    product = float(np.dot(fresh[one], fresh[other]))
                    self._products[one, other] += product
                    self._products[other, one] = self._products[one, other]

    def read(self, heard: Heard) -> Read:
        self.relation, findings = self.result(heard.cells, duration_s=heard.duration_s)
        return (), findings

    def result(self, cells: Cells, *, duration_s: float) -> tuple[Relation, list[Finding]]:
        """The relation as a fact, and findings for what a listener would not expect."""
        count = len(self._products)
        if count == 1:
            return "one", []
        silent = [channel for channel in range(count) if cells.peak_amplitude[channel] <= SILENT_AMPLITUDE]
        sounding = [channel for channel in range(count) if channel not in silent]
        findings = [_finding("silent-channel", channel, duration_s) for channel in silent if sounding]
        alike, inverted = [], []
        for channel in sounding[1:]:
            own, first = self._products[channel, channel], self._products[sounding[0], sounding[0]]
            shared = self._products[sounding[0], channel]
            floor = (own + first) * 10 ** (ALIKE_DB / 10)
            if own + first - 2 * shared <= floor:
                alike.append(channel)
            elif own + first + 2 * shared <= floor:
                inverted.append(channel)
        findings += [_finding("identical-channels", channel, duration_s, severity="note") for channel in alike]
        findings += [_finding("inverted-channel", channel, duration_s, severity="serious") for channel in inverted]
        if inverted:
            return "inverted", findings
        if silent and sounding:
            return "silent", findings
        return ("identical" if len(alike) == len(sounding) - 1 else "different"), findings


def _finding(
    kind: FindingKind, channel: int, duration_s: float, severity: Literal["note", "warning", "serious"] = "warning"
) -> Finding:
    return Finding(kind=kind, start_s=0.0, end_s=duration_s, channel=channel + 1, severity=severity)
