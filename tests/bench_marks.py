"""Marks made in the read and words read again: how many are found, over speakers, rates and rooms, and what looking costs."""

import statistics
import time
from collections.abc import Iterable

import numpy as np

from ispettore.core.measure import repeats
from ispettore.core.measure.inspecting import measure_array
from tests import corpus, misread, speakers
from tests.misread import Mistakes

ROOMS_DBFS = (-65, -52)


def main() -> None:
    print("| marks: who speaks | made | found | false | recall | precision |")
    print("| --- | --- | --- | --- | --- | --- |")
    _marks("the real speaker", (speakers.REAL,))
    _marks("the others", [name for name in speakers.NAMES if name != speakers.REAL])
    print("\n| words read again | mistakes | right | another beginning | not found | elsewhere |")
    print("| --- | --- | --- | --- | --- | --- |")
    for marked in (True, False):
        how = "behind a mark" if marked else "without one"
        _mistakes(f"{how}: the real speaker’s six words", (speakers.REAL,), marked=marked)
        _mistakes(f"{how}: four synthetic speakers", misread.TWICE, marked=marked)
    _midway()
    _keys()
    _cost()


def _midway() -> None:
    readings = (
        misread.midway(misread.spoken_twice(name, rate), rate=rate, seed=seed)
        for name in misread.TWICE
        for seed, rate in enumerate(corpus.RATES, 301)
    )
    _row("behind a mark, from the midst of a line: four synthetic speakers", misread.summed(readings, marked=True, near_s=0.2))


def _keys() -> None:
    for who, names in (("the real speaker’s six words", (speakers.REAL,)), ("four synthetic speakers", misread.TWICE)):
        for when in misread.PRESSED:
            readings = [
                misread.keyed_of(name, rate, when=when, seed=seed) for name in names for seed, rate in enumerate(corpus.RATES, 201)
            ]
            _row(f"near a key pressed {when}: {who}", Mistakes(*np.sum(readings, axis=0).tolist()))


def _marks(who: str, names: Iterable[str]) -> None:
    total = misread.marks_of(
        misread.marked(name, rate=rate, seed=seed - room, room_dbfs=room)
        for name in names
        for seed, rate in enumerate(corpus.RATES, 101)
        for room in ROOMS_DBFS
    )
    precision = total.found / (total.found + total.false)
    print(
        f"| {who} | {total.made} | {total.found} | {total.false} | {total.found / total.made:.3f} | {precision:.3f} |", flush=True
    )


def _mistakes(who: str, names: Iterable[str], *, marked: bool) -> None:
    readings = (
        misread.misread(misread.lines_of(name, rate), rate=rate, seed=seed - room, with_marks=marked, room_dbfs=room)
        for name in names
        for seed, rate in enumerate(corpus.RATES, 201)
        for room in ROOMS_DBFS
    )
    _row(who, misread.summed(readings, marked=marked))


def _row(who: str, total: Mistakes) -> None:
    missed = total.made - total.right - total.wrong
    print(f"| {who} | {total.made} | {total.right} | {total.wrong} | {missed} | {total.false} |", flush=True)


def _cost() -> None:
    where = speakers.laid("wren", rate=44_100, seconds=900, pause_s=0.5)
    wave = where.over(speakers.room(where.wave.size, rate=44_100, dbfs=-62)).wave[:, None].astype(np.float32)
    measure_array(wave[: 44_100 * 40], sample_rate_hz=44_100)
    shares = []
    for _ in range(3):
        began = time.process_time()
        seen = measure_array(wave, sample_rate_hz=44_100)
        whole = time.process_time() - began
        began = time.process_time()
        repeats.find(seen.meters.spectra, seen.meters.cells, seen.passages, [])
        shares.append((time.process_time() - began) / whole)
    print(f"\nLooking for words read again: {statistics.median(shares):.2f} of all measuring")
