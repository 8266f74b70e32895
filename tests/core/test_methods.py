"""The text that explains every figure has an entry for each, in the words of the tables, and the figures of the code."""

import re
import unittest
from pathlib import Path
from typing import get_args

from ispettore.core.measure import clipping, ends, level_jumps, noise_floor, speech
from ispettore.core.measure.reading import FindingKind
from ispettore.core.plan.remedies import REMEDIES
from ispettore.core.spec.methods import methods, title_of_finding
from ispettore.core.spec.quantities import QUANTITIES


class Explanations(unittest.TestCase):
    def test_every_quantity_has_one_with_its_own_title_definition_and_source(self):
        self.assertEqual(set(methods()["readings"]), set(QUANTITIES))
        for name, entry in methods()["readings"].items():
            with self.subTest(name=name):
                self.assertEqual(entry.title, QUANTITIES[name].title)
                self.assertTrue(entry.definition and entry.source)
                self.assertTrue(entry.formula or QUANTITIES[name].group == "file")

    def test_every_kind_of_finding_has_one_and_a_remedy(self):
        self.assertEqual(set(methods()["findings"]), set(get_args(FindingKind)))
        self.assertEqual(set(REMEDIES), set(get_args(FindingKind)))

    def test_each_is_told_in_two_sentences(self):
        for group in methods().values():
            for entry in group.values():
                with self.subTest(name=entry.name):
                    self.assertEqual(len(re.findall(r"[.?](?= |$)", entry.meaning.replace("about 0.45", ""))), 2, entry.meaning)

    def test_an_unknown_kind_keeps_its_name(self):
        self.assertEqual(title_of_finding("something-new"), "something-new")

    def test_the_document_is_the_same_file(self):
        shown = Path(__file__).parents[2] / "docs" / "METHODS.md"
        self.assertEqual(shown.resolve(), (Path(speech.__file__).parents[1] / "spec" / "methods.md").resolve())

    def test_its_figures_are_those_of_the_code(self):
        findings, readings = methods()["findings"], methods()["readings"]
        for text, figure in (
            (findings["level-jump"].definition, f"more than {level_jumps.JUMP_LU:g} LU"),
            (findings["long-pause"].definition, f"More than {ends.OVER_LONG_S:g} s"),
            (findings["dead-silence"].definition, f"at least {ends.DEAD_WORTH_SAYING_CELLS * 5} ms"),
            (readings["digital_silence_s"].definition, f"at least {speech.DEAD_CELLS * 5} ms"),
            (readings["noise_floor_quietest_dbfs"].definition, f"any {noise_floor.WINDOW_CELLS * 5} ms"),
            (findings["clipping"].definition, "a quarter of a second" if clipping.JOIN_S == 0.25 else "?"),
        ):
            with self.subTest(figure=figure):
                self.assertIn(figure, text)
