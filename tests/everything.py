"""Every check and every test, side by side, each counted; ends with the line `N passed, N failed`.

`quick` leaves out what takes long: the browser and the heavier modules. Any other words choose checks and modules whose names hold
one of them. Modules go to lanes, one more than there are cores, the longest first; whatever is done, a lane takes the next.
"""

import json
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
PYTHON = sys.executable
BIN = Path(PYTHON).parent
FRONT = ROOT / "frontend"
LANE = (PYTHON, "-W", "ignore::ResourceWarning", "-m", "tests.suite", "--lane")
SLOWEST = 12


@dataclass(frozen=True)
class Check:
    """One command that passes or fails; or one that runs tests of its own and tells of them as JSON."""

    name: str
    command: tuple[str, ...]
    folder: Path = ROOT
    counts: bool = False

    def told(self, status: int, said: str) -> tuple[int, int, str]:
        """How much passed and failed, and what is to be read of it. Tests that never ran failed."""
        if not self.counts:
            return int(status == 0), int(status != 0), said
        try:
            found = json.loads(said[said.index("{") :])
        except ValueError:
            return 0, 1, said
        passed, failed = int(found["numPassedTests"]), int(found["numTotalTests"]) - int(found["numPassedTests"])
        tests = [test for file in found["testResults"] for test in file["assertionResults"] if test["status"] != "passed"]
        files = [f"{file['name']}: {file['message']}" for file in found["testResults"] if file["message"]]
        wrong = [f"{test['fullName']}: {' '.join(test['failureMessages'])}" for test in tests]
        return passed, failed or int(status != 0), "\n".join([*files, *wrong])


CHECKS = (
    Check("mypy", (f"{BIN}/mypy",)),
    Check("svelte-check", ("npm", "run", "--silent", "check"), FRONT),
    Check("eslint", ("npm", "run", "--silent", "lint"), FRONT),
    Check("prettier", ("npm", "run", "--silent", "format"), FRONT),
    Check("vitest", ("npm", "run", "--silent", "test", "--", "--reporter=json"), FRONT, counts=True),
    Check("import contract", (f"{BIN}/lint-imports",)),
    Check("openapi is current", (PYTHON, "tools/describe_web.py", "--check")),
    Check("ruff", (f"{BIN}/ruff", "check", "src", "tests", "tools", "migrations")),
    Check("ruff format", (f"{BIN}/ruff", "format", "--check", "src", "tests", "tools", "migrations")),
)
SECONDS: dict[str, int] = {
    "tests.ui.test_whole_production": 150,
    "tests.ui.test_take_check": 130,
    "tests.ui.test_takes": 80,
    "tests.studio.test_storm": 150,
    "tests.web.test_hostile": 70,
    "tests.ui.test_markup": 50,
    "tests.studio.test_released_schemas": 25,
    "tests.web.test_access": 50,
    "tests.studio.test_binding": 40,
    "tests.ui.test_people": 35,
    "tests.ui.test_kept_treatments": 35,
    "tests.core.test_one_sound": 70,
    "tests.core.test_keeping": 40,
    "tests.web.test_forecasting": 50,
    "tests.web.test_keeping": 25,
    "tests.studio.test_whole_production": 45,
    "tests.web.test_delivering": 60,
    "tests.web.test_whole_packages": 20,
    "tests.web.test_listening": 15,
    "tests.ui.test_listening": 45,
    "tests.ui.test_certificates": 45,
    "tests.web.test_certificates": 35,
    "tests.web.test_archives": 60,
    "tests.ui.test_archives": 40,
    "tests.core.test_tampering": 15,
    "tests.ui.test_deliver": 40,
    "tests.core.test_tagging": 15,
    "tests.core.test_encoding": 20,
    "tests.ui.test_treating": 170,
    "tests.ui.test_treating_by_keys": 20,
    "tests.core.test_likened": 35,
    "tests.core.test_rehearsal": 40,
    "tests.web.test_drafting": 40,
    "tests.studio.test_working": 150,
    "tests.studio.test_launching": 120,
    "tests.core.test_planning": 60,
    "mypy": 40,
    "tests.core.test_voices_treated": 150,
    "tests.core.test_channels": 80,
    "tests.core.test_cleaning_chosen": 70,
    "tests.core.test_evening": 110,
    "tests.core.test_mending": 70,
    "tests.core.test_mixtures": 110,
    "tests.core.test_voices_findings": 60,
    "tests.core.test_marks": 45,
    "tests.core.test_repeats": 25,
    "tests.core.test_voices_between_the_words": 70,
    "tests.core.test_cleaning": 40,
    "tests.core.test_exactness": 40,
    "tests.core.test_kernels_against_references": 35,
    "tests.web.test_resumable": 32,
    "tests.core.test_tone_and_dynamics": 60,
    "tests.core.test_span_levels": 28,
    "tests.web.test_routes": 26,
    "tests.core.test_findings": 24,
    "tests.core.test_command_line": 45,
    "tests.core.test_treating_in_general": 22,
    "svelte-check": 20,
    "tests.core.test_between_the_words": 18,
    "tests.core.test_measured_once": 15,
    "eslint": 14,
    "tests.core.test_rates_and_noises": 12,
    "tests.core.test_hostile_files": 12,
    "tests.studio.test_isolation": 10,
    "tests.core.test_shaping": 10,
    "tests.core.test_delivery": 10,
    "tests.core.test_plans_in_general": 10,
    "tests.core.test_pyramid": 9,
    "prettier": 9,
    "tests.core.test_steps_against_references": 8,
    "tests.core.test_certifying": 7,
    "tests.core.test_treatments": 7,
    "tests.core.test_every_format": 7,
    "tests.web.test_live": 7,
    "openapi is current": 6,
    "tests.core.test_speech_and_pauses": 5,
    "tests.ui.test_page": 100,
    "tests.ui.test_bench_closely": 60,
    "tests.ui.test_bench": 55,
    "tests.ui.test_uploads": 50,
    "tests.ui.test_access": 50,
    "tests.ui.test_settings": 50,
    "tests.web.test_settings": 20,
    "tests.ui.test_asking": 50,
    "tests.ui.test_look": 90,
    "tests.studio.test_package": 120,
    "tests.studio.test_documents": 30,
    "tests.web.test_telling": 15,
    "vitest": 8,
}
"""What modules and checks took when somebody last looked, where that was long: it orders them, and tells what is not quick."""
QUICK_S = 8


class Work:
    """What is left to do. Modules of the interface go to one lane, as they share a browser; it helps with the others afterwards."""

    def __init__(self, checks: Iterable[Check], modules: Iterable[str]) -> None:
        tasks: list[Check | str] = sorted(
            [*checks, *modules], key=lambda task: -SECONDS.get(task if isinstance(task, str) else task.name, 0)
        )
        self._lock = threading.Lock()
        self._interface = deque(task for task in tasks if isinstance(task, str) and task.startswith("tests.ui."))
        self._others = deque(task for task in tasks if not (isinstance(task, str) and task.startswith("tests.ui.")))

    def next(self, *, interface: bool) -> Check | str | None:
        with self._lock:
            if interface and self._interface:
                return self._interface.popleft()
            return self._others.popleft() if self._others else None


class Tally:
    def __init__(self) -> None:
        self.passed = self.failed = 0
        self.times: list[tuple[float, str]] = []
        self._lock = threading.Lock()

    def note(self, name: str, passed: int, failed: int, seconds: float, told: str) -> None:
        with self._lock:
            self.passed += passed
            self.failed += failed
            if failed:
                print(told)
            print(f"{'FAIL' if failed else 'ok  '} {name}: {passed} passed, {failed} failed, {seconds:.0f} s", flush=True)

    def check(self, check: Check) -> None:
        began = time.monotonic()
        done = subprocess.run(
            check.command, cwd=check.folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, check=False
        )
        passed, failed, told = check.told(done.returncode, done.stdout)
        self.note(check.name, passed, failed, time.monotonic() - began, told)


class Lane:
    """A process that runs one module after the other; should it die, the module failed, and the next has another process."""

    def __init__(self, tally: Tally) -> None:
        self._tally = tally
        self._process: subprocess.Popen[str] | None = None
        self._said = tempfile.TemporaryFile("w+", errors="replace")  # noqa: SIM115 - as long as the lane

    def module(self, name: str) -> None:
        began = time.monotonic()
        if self._process is None:
            self._said.truncate(0)
            self._process = subprocess.Popen(
                LANE, cwd=ROOT, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=self._said, text=True
            )
        assert self._process.stdin is not None and self._process.stdout is not None
        self._process.stdin.write(f"{name}\n")
        self._process.stdin.flush()
        line = self._process.stdout.readline()
        seconds = time.monotonic() - began
        if not line:
            status = self._process.wait()
            self._process = None
            self._said.seek(0)
            self._tally.note(name, 0, 1, seconds, f"{name} ended its process with status {status}:\n{self._said.read()[-4000:]}")
            return
        answer = json.loads(line)
        self._tally.times += [(took, test) for took, test in answer["times"]]
        self._tally.note(name, answer["passed"], answer["failed"], seconds, answer["told"])

    def end(self) -> None:
        if self._process is not None:
            assert self._process.stdin is not None
            self._process.stdin.close()
            self._process.wait()
            self._process = None


def work_off(work: Work, tally: Tally, *, interface: bool) -> None:
    """One lane's share, until nothing is left."""
    lane = Lane(tally)
    before = ""
    while (task := work.next(interface=interface)) is not None:
        if isinstance(task, Check):
            tally.check(task)
            continue
        if before.startswith("tests.ui.") and not task.startswith("tests.ui."):
            lane.end()  # and with it the browser
        lane.module(task)
        before = task
    lane.end()


def modules() -> list[str]:
    """Every module of tests."""
    return [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in sorted((ROOT / "tests").rglob("test_*.py"))]


def main() -> int:
    wanted = sys.argv[1:]
    quick = wanted == ["quick"]
    checks, chosen = [*CHECKS], modules()
    if quick:
        chosen = [name for name in chosen if not name.startswith("tests.ui.") and SECONDS.get(name, 0) <= QUICK_S]
    elif wanted:
        checks = [check for check in checks if any(word in check.name for word in wanted)]
        chosen = [name for name in chosen if any(word in name or word in name.replace(".", "/") for word in wanted)]
    work, tally = Work(checks, chosen), Tally()
    lanes = [
        threading.Thread(target=work_off, args=(work, tally), kwargs={"interface": number == 0})
        for number in range((os.cpu_count() or 1) + 1)
    ]
    for lane in lanes:
        lane.start()
    for lane in lanes:
        lane.join()
    for seconds, name in sorted(tally.times, reverse=True)[:SLOWEST]:
        print(f"{seconds:7.1f} s  {name}")
    print(f"{tally.passed} passed, {tally.failed} failed")
    return 1 if tally.failed or not tally.passed else 0


if __name__ == "__main__":
    sys.exit(main())
