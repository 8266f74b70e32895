"""What nobody means well by, in masses: spoilt files, in processes that may crash, and requests made up from the description."""

import os
import tempfile
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path

import numpy as np

from ispettore.core.errors import IspettoreError
from ispettore.core.measure.inspecting import inspect
from tests.requests_made_up import ask_all
from tests.spoilt_files import mutated, originals
from tests.web.test_hostile import Requests

SECONDS = 0.6
BATCH = 250
PROCESSES = os.cpu_count() or 1
SLOWEST_S = 20


def batch(number: int) -> Counter[str]:
    """Inspect so many spoilt files; what came of them."""
    found: Counter[str] = Counter()
    random = np.random.default_rng([2026, number])
    with tempfile.TemporaryDirectory() as held:
        folder, scratch = Path(held), Path(held) / "scratch"
        kinds = list(originals(folder, SECONDS).items())
        scratch.mkdir()
        inspect(folder / f"original.{kinds[0][0]}")  # what is compiled at the first call is no file's fault
        tempfile.tempdir = str(scratch)
        for _ in range(BATCH):
            ending, content = kinds[int(random.integers(len(kinds)))]
            path = folder / f"spoilt.{ending}"
            path.write_bytes(mutated(content, random))
            begun = time.process_time()
            try:
                inspect(path)
                found["measured"] += 1
            except IspettoreError:
                found["refused in words"] += 1
            except Exception as error:
                found[f"fault: {error!r}"] += 1
            if time.process_time() - begun > SLOWEST_S:
                found["fault: slow"] += 1
            if any(scratch.iterdir()):
                found["fault: something left"] += 1
        tempfile.tempdir = None
    return found


def files(count: int) -> Counter[str]:
    """That many spoilt files, a quarter of a thousand a process."""
    found: Counter[str] = Counter()
    waiting = list(range(-(-count // BATCH)))
    while waiting:
        with ProcessPoolExecutor(PROCESSES, max_tasks_per_child=8) as pool:
            begun = {pool.submit(batch, number): number for number in waiting[: PROCESSES * 8]}
            for task, number in begun.items():
                try:
                    found += task.result()
                except BrokenProcessPool:
                    found["fault: a process died"] += 1
                waiting.remove(number)
        faults = {outcome: times for outcome, times in found.items() if outcome.startswith("fault")}
        measured, refused = found["measured"], found["refused in words"]
        print(f"of {count} spoilt files {measured} measured, {refused} refused in words, faults {faults or 'none'}", flush=True)
    return found


def requests(count: int) -> Counter[str]:
    """That many requests, in rounds over all operations."""
    found: Counter[str] = Counter()
    Requests.setUpClass()
    try:
        number = 0
        while sum(found.values()) < count:
            asked = ask_all(Requests.client, Requests.known, each=20, number=number)
            found += Counter({str(status): times for status, times in asked.statuses.items()})
            found += Counter(f"fault: {fault}" for fault in asked.faults)
            number += 1
    finally:
        Requests.doClassCleanups()
    return found


def main(spoilt: int, asked: int) -> bool:
    """Print what came of both; whether nothing did that should not."""
    fine = True
    for what, found in (("spoilt files", files(spoilt)), ("requests", requests(asked))):
        print(f"\n{sum(found.values())} {what}\n\n| outcome | times |\n| --- | ---: |")
        for outcome, times in found.most_common():
            print(f"| {outcome} | {times} |")
        fine = fine and not any(outcome.startswith("fault") for outcome in found)
    return fine
