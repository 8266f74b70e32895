"""One way to write figures: the core and the page pass the same cases."""

import json
import subprocess
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from ispettore.core import figures
from ispettore.core.spec import standing
from ispettore.core.spec.verdict import LimitVerdict

ROOT = Path(__file__).parents[2]
CASES = json.loads((ROOT / "tests" / "figures.json").read_text(encoding="utf-8"))
PAGE = """
import { readFileSync } from 'node:fs';
import { rolldown } from 'rolldown';
const bundle = await rolldown({ input: 'src/lib/format.ts', platform: 'neutral' });
const { output } = await bundle.generate({ format: 'esm' });
const format = await import('data:text/javascript;base64,' + Buffer.from(output[0].code).toString('base64'));
const cases = JSON.parse(readFileSync(0, 'utf8'));
const found = cases.map(([name, ...rest]) => format[name](...rest));
process.stdout.write(JSON.stringify(found));
"""


def judged(limit: dict) -> LimitVerdict:
    return LimitVerdict.model_validate({"title": "", "passes": False, "severity": "must", "applies_to": "recording", **limit})


def written(name: str, arguments: list) -> str:
    """What the core writes."""
    first, *rest = arguments
    if name in ("number", "clock", "exact"):
        return getattr(figures, name)(first, *rest)
    return standing.reading(judged(first), more=rest[0]) if name == "reading" else getattr(standing, name)(judged(first))


def by_the_page(cases: list[list]) -> list[str]:
    """What the page's own writer makes of [name, arguments …], all in one process."""
    done = subprocess.run(
        ["node", "--input-type=module", "-e", PAGE],
        cwd=ROOT / "frontend",
        input=json.dumps(cases),
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        raise AssertionError(done.stderr)
    return json.loads(done.stdout)


class Figures(unittest.TestCase):
    def test_the_core_writes_every_case(self):
        for name, cases in CASES.items():
            for *arguments, expected in cases:
                with self.subTest(name=name, arguments=arguments):
                    self.assertEqual(written(name, arguments), expected)

    def test_the_page_writes_every_case(self):
        flat = [(name, arguments, expected) for name, cases in CASES.items() for *arguments, expected in cases]
        for (name, arguments, expected), found in zip(
            flat, by_the_page([[name, *arguments] for name, arguments, _ in flat]), strict=True
        ):
            with self.subTest(name=name, arguments=arguments):
                self.assertEqual(found, expected)

    @settings(max_examples=5, deadline=None)
    @given(st.lists(st.tuples(st.floats(-1e7, 1e7), st.integers(0, 4)), min_size=200, max_size=400))
    def test_both_write_any_figure_alike(self, drawn):
        cases = [["number", *one] for one in drawn] + [["exact", value] for value, _ in drawn]
        cases += [["clock", abs(value), decimals] for value, decimals in drawn]
        for case, found in zip(cases, by_the_page(cases), strict=True):
            self.assertEqual(found, written(case[0], case[1:]), case)


if __name__ == "__main__":
    unittest.main()
