"""What is shipped of others is listed with its licence, and in a bill of materials that others' tools read."""

import json
import sys
import unittest

from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator

from ispettore.studio.locations import ROOT

sys.path.insert(0, str(ROOT / "tools"))
import list_supply


class Supply(unittest.TestCase):
    def test_every_locked_part_stands_in_the_list_with_its_licence(self):
        self.assertEqual((ROOT / "docs" / "LICENCES.md").read_text(), list_supply.listed(), "run tools/list_supply.py")
        parts = [*list_supply.python_parts(), *list_supply.page_parts()]
        self.assertGreater(len(parts), 120)
        for part in parts:
            with self.subTest(part=part.name):
                self.assertNotIn(part.licence, ("", "not said", "not installed on this system"))
        locked = [line.split("==")[0] for line in (ROOT / "requirements" / "app.lock").read_text().splitlines() if "==" in line]
        self.assertEqual(sorted(part.name for part in parts if part.kind == "pypi"), sorted(map(str.lower, locked)))

    def test_the_bill_of_materials_fits_its_standard_and_names_what_files_hash_to(self):
        told = list_supply.bill("1.2.3")
        self.assertIsNone(JsonStrictValidator(SchemaVersion.V1_6).validate_str(told))
        bill = json.loads(told)
        self.assertEqual((bill["specVersion"], bill["metadata"]["component"]["version"]), ("1.6", "1.2.3"))
        known = {part["purl"]: part for part in bill["components"]}
        for name in ("pypi/argon2-cffi", "pypi/mutagen", "npm/svelte", "npm/%40fontsource-variable/instrument-sans"):
            [part] = [part for purl, part in known.items() if purl.startswith(f"pkg:{name}@")]
            self.assertTrue(part["hashes"] and part["licenses"])


if __name__ == "__main__":
    unittest.main()
