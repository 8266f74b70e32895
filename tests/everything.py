"""Every check and every test, each counted; ends with the line `N passed, N failed`."""

import re
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
PYTHON = sys.executable
BIN = Path(PYTHON).parent
FRONT = ROOT / "frontend"


@dataclass(frozen=True)
class Check:
    """One command; it counts as one unless it prints counts of its own."""

    name: str
    command: tuple[str, ...]
    folder: Path = ROOT


CHECKS = (
    Check("ruff", (f"{BIN}/ruff", "check", "src", "tests", "tools", "migrations")),
    Check("ruff format", (f"{BIN}/ruff", "format", "--check", "src", "tests", "tools", "migrations")),
    Check("mypy", (f"{BIN}/mypy",)),
    Check("import contract", (f"{BIN}/lint-imports",)),
    Check("openapi is current", (PYTHON, "tools/describe_web.py", "--check")),
)
FRONT_CHECKS = (
    Check("svelte-check", ("npm", "run", "--silent", "check"), FRONT),
    Check("eslint", ("npm", "run", "--silent", "lint"), FRONT),
    Check("prettier", ("npm", "run", "--silent", "format"), FRONT),
)
SUITES = tuple(
    Check(f"tests/{name}", (PYTHON, "-W", "ignore::ResourceWarning", "-m", "tests.suite", f"tests/{name}"))
    for name in ("core", "studio", "web", "ui")
)


class Tally:
    def __init__(self) -> None:
        self.passed = self.failed = 0
        self._lock = threading.Lock()

    def run(self, check: Check) -> None:
        began = time.monotonic()
        with tempfile.TemporaryFile("w+") as output:
            done = subprocess.run(check.command, cwd=check.folder, stdout=output, stderr=subprocess.STDOUT, check=False)
            output.seek(0)
            text = output.read()
        counted = re.findall(r"^COUNTS (\d+) (\d+)$", text, re.MULTILINE)
        passed, failed = map(int, counted[-1]) if counted else (int(done.returncode == 0), int(done.returncode != 0))
        if done.returncode != 0 and failed == 0:
            failed = 1
        with self._lock:
            self.passed += passed
            self.failed += failed
            if failed:
                print(text)
            seconds = time.monotonic() - began
            print(f"{'FAIL' if failed else 'ok  '} {check.name}: {passed} passed, {failed} failed, {seconds:.0f} s")
            sys.stdout.flush()


def main() -> int:
    wanted = sys.argv[1:]
    chosen = [check for check in (*CHECKS, *SUITES) if not wanted or any(word in check.name for word in wanted)]
    aside = [check for check in FRONT_CHECKS if not wanted or any(word in check.name for word in wanted)]
    tally = Tally()
    front = threading.Thread(target=lambda: [tally.run(check) for check in aside])
    front.start()
    for check in chosen:
        tally.run(check)
    front.join()
    print(f"{tally.passed} passed, {tally.failed} failed")
    return 1 if tally.failed or not tally.passed else 0


if __name__ == "__main__":
    sys.exit(main())
