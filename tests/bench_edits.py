"""What edits cost: three hours with a thousand of them opened, heard at random places, read through and measured."""

import json
import random
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from ispettore.core.audio.reading import Source
from ispettore.core.edit import making
from ispettore.core.edit.edits import Edits
from ispettore.core.edit.reading import Edited, EditedSource, open_samples
from ispettore.core.measure.inspecting import inspect

EDITS, PLACES = 1_000, 100


def at_random(path: Path, count: int) -> Edits:
    """So many edits spread over a file: half of them cuts, half room tone of half a second."""
    with Source(path) as source:
        frames, rate = source.claimed_frames, source.sample_rate_hz
    chance = random.Random(7)
    found = making.unedited(sample_rate_hz=rate, frames=frames, room=[(0.0, 0.5)])
    apart = frames / rate / count
    starts = [place * apart + chance.uniform(0, apart / 3) for place in range(count)]
    wishes = [(at, at + chance.uniform(0.1, apart / 3)) for at in starts]
    # From the end, so that those before stay where they are.
    for number, (start, end) in reversed(list(enumerate(wishes))):
        if number % 2:
            found = making.cut(found, start, end, file=path.name)
        else:
            found = making.lengthened(found, start, 0.5, file=path.name)
    return found


def main(hours: float) -> None:
    from tests.bench import material, write

    with tempfile.TemporaryDirectory() as held:
        for ending in ("wav", "flac"):
            path = Path(held) / f"long.{ending}"
            write(path, material(1), hours * 60)
            with Source(path) as source:
                facts = source.facts
            began = time.perf_counter()
            kept = json.dumps(at_random(path, EDITS).model_dump(mode="json"))
            made = time.perf_counter() - began
            began = time.perf_counter()
            sound = Edited(path, Edits.model_validate_json(kept), facts)
            with open_samples(sound) as samples:
                samples(0, facts.sample_rate_hz)
                opened = time.perf_counter() - began
                waits = []
                for _ in range(PLACES):
                    at = random.Random(len(waits)).randrange(sound.edits.length)
                    began = time.perf_counter()
                    samples(at, facts.sample_rate_hz)
                    waits.append(time.perf_counter() - began)
            plain, edited = _read(path), _read(sound)
            print(f"{hours:g} h, {ending}: {EDITS} edits made one by one in {made:.2f} s ({len(kept) / 1024:.0f} kB kept)")
            print(f"  opened, with the first second of sound: {opened:.3f} s")
            print(
                f"  a second at a random place: median {statistics.median(waits) * 1e3:.1f} ms, longest {max(waits) * 1e3:.1f} ms"
            )
            print(f"  read through: {edited:.2f} s of processor, the file alone {plain:.2f} s, ratio {edited / plain:.2f}")
            (Path(held) / "edits.json").write_text(kept)
            for what in ("plain", "edited"):
                asked = [sys.executable, "-W", "ignore", "-m", "tests.bench_edits", what, str(path), f"{held}/edits.json"]
                print(f"  {subprocess.run(asked, capture_output=True, text=True, check=True).stdout.strip()}", flush=True)
            path.unlink()


def _read(sound: Path | Edited) -> float:
    began = time.process_time()
    with EditedSource(sound) if isinstance(sound, Edited) else Source(sound) as source:
        for _ in source.blocks():
            pass
    return time.process_time() - began


def _measured(what: str, path: Path, kept: Path) -> None:
    """In a process of its own, as its largest memory counts."""
    with Source(path) as source:
        facts = source.facts
    edits = Edits.model_validate_json(kept.read_text())
    began = time.process_time()
    inspect(Edited(path, edits, facts) if what == "edited" else path, sha256="")
    taken = time.process_time() - began
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"measured {what}: {taken:.1f} s of processor, at most {most:.0f} MB resident")


if __name__ == "__main__":
    _measured(sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3]))
