"""A whole production through the queue: inspected and conformed to MP3 by one worker and by two, with the memory of each."""

import os
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from uuid import UUID

import numpy as np
import soundfile
from sqlmodel import col, func, select

from ispettore.core.measure.inspecting import inspect
from ispettore.core.plan.conform import conform
from ispettore.core.spec import catalogue
from ispettore.studio.catalogue import conformings, productions, recordings
from ispettore.studio.database import transaction
from ispettore.studio.tables import Conforming, Work, WorkState
from tests import speakers
from tests.support import Application

RATE = 44_100
CHAPTERS = 30
ON_ONE_CORE = 6
"""So many chapters are enough to tell how fast one worker is that is held to one core."""
LOOK_S = 0.5


def written(path: Path, number: int, minutes: float) -> Path:
    """A chapter: one of two voices, its own level and room; every sixth has a room that has to be cleaned."""
    laid = speakers.laid(("wren", "reed")[number % 2], rate=RATE, seconds=60)
    noise = speakers.room(laid.wave.size, rate=RATE, dbfs=-54 if number % 6 == 0 else -72, kind="white", seed=number + 1)
    wave = np.clip((laid.wave + noise) * 10 ** (-(number % 5) / 20), -1, 1).astype(np.float32)
    with soundfile.SoundFile(path, "w", RATE, 1, "PCM_16") as file:
        for _ in range(max(1, round(minutes * 60 * RATE / wave.size))):
            file.write(wave)
    return path


def tree(pid: int) -> Iterator[int]:
    yield pid
    for listing in Path(f"/proc/{pid}/task").glob("*/children"):
        try:
            children = listing.read_text().split()
        except OSError:
            continue
        for child in children:
            yield from tree(int(child))


def held_mb(pid: int) -> float:
    """What a process and all below it hold, shared pages counted once between those who share them (PSS)."""
    total = 0
    for one in tree(pid):
        try:
            rollup = Path(f"/proc/{one}/smaps_rollup").read_text()
        except OSError:
            continue
        total += next(int(line.split()[1]) for line in rollup.splitlines() if line.startswith("Pss:"))
    return total / 1024


@contextmanager
def watched(pids: list[int]) -> Iterator[dict[int, float]]:
    """The most that each of some processes holds meanwhile, in MB."""
    most, ended = dict.fromkeys(pids, 0.0), threading.Event()

    def look() -> None:
        while not ended.wait(LOOK_S):
            for pid in pids:
                most[pid] = max(most[pid], held_mb(pid))

    thread = threading.Thread(target=look)
    thread.start()
    try:
        yield most
    finally:
        ended.set()
        thread.join()


def all_done() -> float:
    """Wait until nothing waits or runs; how long that took, in seconds."""
    begun = time.perf_counter()
    while True:
        with transaction() as session:
            left = session.exec(
                select(func.count()).select_from(Work).where(col(Work.state).in_([WorkState.WAITING, WorkState.RUNNING]))
            ).one()
        if not left:
            return time.perf_counter() - begun
        time.sleep(LOOK_S / 2)


def run(paths: list[Path], workers: int, cores: set[int]) -> tuple[float, float, float]:
    """Inspecting all and conforming all, in seconds; the most that one worker held, in MB."""
    application = Application().start()
    own = os.sched_getaffinity(0)
    try:
        production: UUID = productions.create("Ten hours", "audiobook-retail")
        there = [recordings.add(production, path.name, application.store.put_file(path)) for path in paths]
        os.sched_setaffinity(0, cores)  # what is started now keeps to these
        pids = [application.worker().pid for _ in range(workers)]
        os.sched_setaffinity(0, own)
        with watched(pids) as most:
            inspecting = all_done()
            for recording in there:
                conformings.ask(recording)
            conforming = all_done()
        with transaction() as session:
            made = session.exec(select(func.count()).select_from(Conforming).where(col(Conforming.sha256).is_not(None))).one()
        assert made == len(paths), f"{made} of {len(paths)} were conformed: {application.log()[-2000:]}"
        return inspecting, conforming, max(most.values())
    finally:
        os.sched_setaffinity(0, own)
        application.stop()


def core_share(path: Path, folder: Path) -> float:
    """How many times faster than real time the core inspects and conforms on one core, but for encoding (to WAV)."""
    specification = catalogue.shipped()["audiobook-retail"]
    conform(path, specification, folder / "first.wav", known=inspect(path).basis)  # or the first pays for loading the kernels
    begun = time.process_time()
    found = inspect(path)
    conform(path, specification, folder / "out.wav", known=found.basis)
    return float(found.inspection.facts.duration_s / (time.process_time() - begun))


def main(hours: float = 10.0) -> None:
    every = os.sched_getaffinity(0)
    one = {min(every)}
    with tempfile.TemporaryDirectory(prefix="ispettore-bench-") as held:
        folder = Path(held)
        paths = [written(folder / f"{number + 1:02}.wav", number, hours * 60 / CHAPTERS) for number in range(CHAPTERS)]
        print(f"core, all but encoding: {core_share(paths[1], folder):.0f} times real time on one core (goal 60)")
        print("| workers, cores | chapters | inspecting | conforming to MP3 | times real time | most memory of a worker |")
        print("| --- | --- | --- | --- | --- | --- |")
        rates = []
        for workers, cores, these in ((1, one, paths[:ON_ONE_CORE]), (1, every, paths), (2, every, paths)):
            inspecting, conforming, most = run(these, workers, cores)
            rates.append(hours * 3600 * len(these) / CHAPTERS / (inspecting + conforming))
            cells = (f"{workers}, {len(cores)}", f"{len(these)}", f"{inspecting:.0f} s", f"{conforming:.0f} s")
            print(f"| {' | '.join(cells)} | {rates[-1]:.0f} | {most:.0f} MB (goal 600) |", flush=True)
        alone, shared, both = rates
        print(f"two workers on {len(every)} cores: {both / alone:.2f} times one worker on one (goal 1.9),")
        print(f"and {both / shared:.2f} times one worker on all, which works on several threads by itself")
