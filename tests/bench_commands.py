"""What the commands cost beside what they do: processor time of whole processes."""

import os
import sys
import tempfile
import time
from pathlib import Path

from ispettore.core.measure.inspecting import inspect
from tests import signals

RATE_HZ = 44_100
SECONDS = 5
FILES = 30
TAKES = 5
COMMANDS = (("--help",), ("specs",), ("specs", "show", "audiobook-retail"), ("inspect", "one.wav"))


def processor_s(*arguments: str, folder: Path) -> float:
    """Processor time of one command, in a process of its own."""
    process = os.posix_spawn(
        sys.executable,
        [sys.executable, "-m", "ispettore.cli", *arguments],
        {**os.environ, "PWD": str(folder)},
        file_actions=[
            (os.POSIX_SPAWN_OPEN, 1, os.devnull, os.O_WRONLY, 0),
            (os.POSIX_SPAWN_OPEN, 2, os.devnull, os.O_WRONLY, 0),
        ],
    )
    _, _, used = os.wait4(process, 0)
    return used.ru_utime + used.ru_stime


def measuring_s(files: list[Path]) -> float:
    """Processor time of measuring alone, where everything is loaded."""
    inspect(files[0])
    began = time.process_time()
    for path in files:
        inspect(path)
    return time.process_time() - began


def main() -> None:
    with tempfile.TemporaryDirectory() as held:
        folder = Path(held)
        (folder / "many").mkdir()
        wave = signals.voice_like(SECONDS, rms_dbfs=-22, rate=RATE_HZ, room_dbfs=-75)
        many = [signals.write(folder / "many" / f"{number}.wav", wave, RATE_HZ) for number in range(FILES)]
        one = signals.write(folder / "one.wav", wave, RATE_HZ)
        print("| command | processor time, s |\n| --- | ---: |")
        for words in COMMANDS:
            named = [str(one) if word == "one.wav" else word for word in words]
            least = min(processor_s(*named, folder=folder) for _ in range(TAKES))
            print(f"| `ispettore {' '.join(words)}` | {least:.2f} |")
        bare = min(processor_s("inspect", str(one), folder=folder) for _ in range(TAKES))
        whole = min(processor_s("inspect", *map(str, many), folder=folder) for _ in range(3))
        alone = min(measuring_s(many) for _ in range(3))
        print(f"| `ispettore inspect` of {FILES} files of {SECONDS} s | {whole:.2f} |")
        print(f"| measuring them where everything is loaded | {alone:.2f} |")
        print(f"\nThe command of {FILES} files takes {whole / alone:.2f} times their measuring, its start included; without it")
        print(f"(that of one file, less its measuring) {(whole - bare + alone / FILES) / alone:.2f} times.")


if __name__ == "__main__":
    main()
