"""The tests of the core need nothing but Python: no service, no database, no browser."""

import ast
import unittest
from pathlib import Path

ALLOWED = {"ispettore.core", "ispettore.demo", "ispettore.cli", "ispettore.commands"}


class Imports(unittest.TestCase):
    def test_none_asks_for_more_than_the_core_and_made_up_recordings(self):
        for path in sorted(Path(__file__).parent.glob("*.py")):
            for node in ast.walk(ast.parse(path.read_text())):
                asked = [f"{node.module}.{each.name}" for each in node.names] if isinstance(node, ast.ImportFrom) else []
                asked += [each.name for each in node.names] if isinstance(node, ast.Import) else []
                for name in asked:
                    if name.startswith("ispettore"):
                        with self.subTest(file=path.name, name=name):
                            self.assertIn(".".join(name.split(".")[:2]), ALLOWED)


if __name__ == "__main__":
    unittest.main()
