"""Runs one folder of unittest tests and ends with its counts; the slowest are named."""

import sys
import time
import unittest


class Timed(unittest.TextTestResult):
    """Counts subtests' failures with their test, and remembers how long each test took."""

    def startTest(self, test):  # noqa: N802
        self._begun = time.monotonic()
        super().startTest(test)

    def stopTest(self, test):  # noqa: N802
        super().stopTest(test)
        self.times = getattr(self, "times", [])
        self.times.append((time.monotonic() - self._begun, str(test)))


def main() -> int:
    folder, *names = sys.argv[1:]
    loader = unittest.TestLoader()
    suite = loader.loadTestsFromNames(names) if names else loader.discover(folder, top_level_dir=".")
    result = unittest.TextTestRunner(resultclass=Timed, stream=sys.stdout, verbosity=1).run(suite)
    for seconds, name in sorted(getattr(result, "times", []), reverse=True)[:6]:
        print(f"{seconds:7.1f} s  {name}")
    bad = {str(getattr(test, "test_case", test)) for test, _ in [*result.failures, *result.errors]}
    bad |= {str(test) for test in result.unexpectedSuccesses}
    print(f"COUNTS {result.testsRun - len(bad)} {len(bad)}")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
