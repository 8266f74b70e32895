"""Runs tests: by their names for a person, or module by module as a lane of `tests.everything`.

A lane reads names of modules from its input, one a line, and answers each with a line of JSON: how many passed, what failed and how
long each test took. All modules of a lane share one process, and so its database server and its browser.
"""

import io
import json
import os
import sys
import time
import unittest


class Timed(unittest.TextTestResult):
    """Counts subtests' failures with their test, and remembers how long each test took."""

    def __init__(self, *arguments, **named) -> None:
        super().__init__(*arguments, **named)
        self.times: list[tuple[float, str]] = []

    def startTest(self, test):  # noqa: N802
        self._begun = time.monotonic()
        super().startTest(test)

    def stopTest(self, test):  # noqa: N802
        super().stopTest(test)
        self.times.append((time.monotonic() - self._begun, test.id()))

    def bad(self) -> set[str]:
        """The tests that failed, each once."""
        found = {str(getattr(test, "test_case", test)) for test, _ in [*self.failures, *self.errors]}
        return found | {str(test) for test in self.unexpectedSuccesses}


def run(names: list[str], stream) -> Timed:
    """Run modules, classes or tests; what there is to say goes to the stream."""
    found = unittest.TestLoader().loadTestsFromNames(names)
    return unittest.TextTestRunner(resultclass=Timed, stream=stream, verbosity=1).run(found)


def lane() -> int:
    answers = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)  # what tests print goes the way of errors
    for line in sys.stdin:
        told = io.StringIO()
        done = run([line.strip()], told)
        bad = len(done.bad())
        answer = {"passed": done.testsRun - bad, "failed": bad, "told": told.getvalue() if bad else "", "times": done.times}
        print(json.dumps(answer), file=answers, flush=True)
    return 0


def main() -> int:
    if sys.argv[1:] == ["--lane"]:
        return lane()
    done = run(sys.argv[1:], sys.stdout)
    for seconds, name in sorted(done.times, reverse=True)[:6]:
        print(f"{seconds:7.1f} s  {name}")
    bad = len(done.bad())
    print(f"{done.testsRun - bad} passed, {bad} failed")
    return 1 if bad or not done.testsRun else 0


if __name__ == "__main__":
    sys.exit(main())
