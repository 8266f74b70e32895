"""The level ribbon at every zoom: RMS and peak of each cell, and of 4, 16, 64 … cells, in tiles that can be fetched one by one.

A packed pyramid is a line of JSON (columns of each level, and where each of its tiles ends in what follows) and then the tiles,
each a packed `Ribbon` by itself.
"""

import json
from collections.abc import Iterator
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import ribbon
from ispettore.core.measure.grid import stretches
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.ribbon import LOWEST_DB

FACTOR = 4
TILE = 1024
"""Columns of a tile."""
FEWEST = 512
"""No coarser level is made of one that has no more columns than this."""

Levels = tuple[NDArray[np.float32], NDArray[np.float32]]
"""Mean square and peak amplitude of columns, shape (columns,) each."""


def write(measured: Measured, file: IO[bytes]) -> None:
    """Pack the pyramid of a whole file, the channels together, level by level from the finest."""
    cells = measured.meters.cells
    counts: list[int] = [len(cells)]
    ends: list[list[int]] = [[]]
    tiles: list[bytes] = []
    at = 0

    def put(levels: Levels) -> None:
        nonlocal at
        for tile in _tiles(levels):
            tiles.append(tile)
            at += len(tile)
            ends[-1].append(at)

    # The finest level is as long as the file, so it is coded in stretches; they hold whole tiles but for the last.
    coarser: list[Levels] = []
    held: Levels = (np.zeros(0, dtype=np.float32), np.zeros(0, dtype=np.float32))
    for first, last, _, _ in stretches(len(cells)):
        power, peak = cells.power.part(first, last).mean(axis=0), cells.peak.part(first, last).max(axis=0)
        coarser.append(_reduced((power, peak)))
        held = (np.concatenate((held[0], power)), np.concatenate((held[1], peak)))
        whole = held[0].size // TILE * TILE
        put((held[0][:whole], held[1][:whole]))
        held = (held[0][whole:], held[1][whole:])
    put(held)
    levels: Levels = (
        np.concatenate([power for power, _ in coarser] or [held[0]]),
        np.concatenate([peak for _, peak in coarser] or [held[1]]),
    )
    while counts[-1] > FEWEST:
        counts.append(levels[0].size)
        ends.append([])
        put(levels)
        levels = _reduced(levels)
    header = {"columns": counts, "ends": ends, "factor": FACTOR, "tile": TILE, "lowest_db": LOWEST_DB}
    file.write(json.dumps(header).encode() + b"\n")
    for tile in tiles:
        file.write(tile)


def place(header: dict[str, Any], level: int, index: int) -> tuple[int, int] | None:
    """Where a tile starts and ends after the line of JSON; None where there is no such tile."""
    ends: list[list[int]] = header["ends"]
    if not (0 <= level < len(ends) and 0 <= index < len(ends[level])):
        return None
    before = ends[level][index - 1] if index else (ends[level - 1][-1] if level else 0)
    return before, ends[level][index]


def unpacked(tile: bytes) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """RMS and peak levels in dBFS of a tile's columns, to a third of a decibel."""
    found = ribbon.unpacked(tile)
    return found.rms_dbfs, found.peak_dbfs


def _reduced(levels: Levels) -> Levels:
    power, peak = levels
    starts = np.arange(0, power.size, FACTOR)
    if not starts.size:
        return levels
    sizes = np.diff(np.append(starts, power.size))
    return (np.add.reduceat(power, starts) / sizes).astype(np.float32), np.maximum.reduceat(peak, starts)


def _tiles(levels: Levels) -> Iterator[bytes]:
    power, peak = levels
    for first in range(0, power.size, TILE):
        columns = slice(first, first + TILE)
        yield ribbon.of_levels(power[columns].astype(np.float64), peak[columns].astype(np.float64)).packed()
