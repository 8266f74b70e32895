"""Words that several modules look for on the page stand in one place, so that changing them changes one line."""

import ast
import unittest
from collections import defaultdict
from pathlib import Path

from ispettore.studio.locations import ROOT

FINDS = frozenset(
    {"get_by_role", "get_by_label", "get_by_text", "to_have_text", "to_contain_text", "filter", "locator", "look_at", "turn_to"}
)
SAID_IN = ("frontend/src/**/*.svelte", "frontend/src/**/*.ts", "src/**/*.py", "src/**/*.md")


def looked_for(path: Path) -> set[str]:
    """Every text of some length that a module looks for by itself, not by its name in `words`."""
    calls = [node for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Call)]
    calls = [call for call in calls if isinstance(call.func, ast.Attribute) and call.func.attr in FINDS]
    named = [keyword.value for call in calls for keyword in call.keywords if keyword.arg in ("name", "has_text")]
    first = [argument for call in calls if call.func.attr not in ("get_by_role", "locator") for argument in call.args]
    return {each.value for each in (*named, *first) if isinstance(each, ast.Constant) and isinstance(each.value, str)}


class Words(unittest.TestCase):
    def test_no_words_of_the_application_are_written_in_two_modules(self):
        said = "\n".join(path.read_text() for pattern in SAID_IN for path in ROOT.glob(pattern) if path.name != "api-types.d.ts")
        where = defaultdict(list)
        for path in sorted(Path(__file__).parent.glob("*.py")):
            for text in looked_for(path):
                where[text].append(path.name)
        twice = {text: names for text, names in where.items() if len(names) > 1 and text[:1].isupper() and text in said}
        self.assertGreater(len(where), 200)
        self.assertEqual(twice, {})


if __name__ == "__main__":
    unittest.main()
