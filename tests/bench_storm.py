"""Storms, longer than the tests have time for."""

import tempfile
from pathlib import Path

from tests.storm import weather


def main(kills: int, seeds: list[int]) -> bool:
    """So many kills for each seed; whether everything came through."""
    fine = True
    for seed in seeds:
        with tempfile.TemporaryDirectory(prefix="ispettore-storm-") as held:
            found = weather(Path(held), seed=seed, kills=kills)
        print(f"seed {seed}: {', '.join(f'{fault} {count}' for fault, count in sorted(found.faults.items()))}")
        tries = dict(sorted(found.tries.items()))
        print(f"  work by how often it was taken up: {tries}; settled {found.settled_s:.0f} s after the last fault")
        print(f"  failed with a sentence, and done when asked again: {dict(found.failed) or 'nothing'}")
        print(*(f"  WRONG: {wrong}" for wrong in found.wrong), sep="\n" if found.wrong else "")
        fine = fine and not found.wrong
    return fine
