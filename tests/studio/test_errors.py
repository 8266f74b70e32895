"""What is said to a person when something goes wrong: every fact in it has a field, and nothing can be raised half."""

import dataclasses
import importlib
import pickle
import pkgutil
import string
import tempfile
import unittest
from pathlib import Path

import mypy.api

import ispettore
from ispettore.core.errors import FileUnreadable, IspettoreError

WITH_EFFECTS = ("ispettore.studio.worker.warm",)
EXAMPLES = {"str": "Chapter.", "int": 7, "float": 1.25}


def kinds(of: type = IspettoreError) -> list[type[IspettoreError]]:
    """Every error of the application, those of errors too."""
    found = [each for each in of.__subclasses__() if each.__module__.startswith("ispettore.")]
    return found + [each for kind in found for each in kinds(kind)]


class Sentences(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        for module in pkgutil.walk_packages(ispettore.__path__, "ispettore."):
            if module.name not in WITH_EFFECTS:
                importlib.import_module(module.name)

    def test_every_error_is_said_whole_with_all_its_facts(self):
        self.assertGreater(len(kinds()), 50)
        for kind in kinds():
            with self.subTest(kind=kind.__name__):
                given = {field.name: EXAMPLES[field.type.__name__] for field in dataclasses.fields(kind)}
                error = kind(**given)
                self.assertNotIn("{", error.sentence)
                self.assertRegex(error.sentence, r"^[A-Z“].*[.?)]$")
                self.assertEqual(str(error), error.sentence)
                back = pickle.loads(pickle.dumps(error))
                self.assertEqual((type(back), back.facts), (kind, given))

    def test_a_fact_that_is_missing_or_misspelt_is_refused_at_once(self):
        for given in ({"file": "a.wav"}, {"file": "a.wav", "reason": "it is a folder", "why": ""}, {"file": "a.wav", "raeson": ""}):
            with self.subTest(given=given), self.assertRaises(TypeError):
                FileUnreadable(**given)

    def test_the_type_check_finds_what_is_missing_misspelt_or_of_another_type(self):
        calls = ('FileUnreadable(file="a", raeson="b")', 'FileUnreadable(file="a")', 'FileUnreadable(file=3, reason="b")')
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "wrong.py"
            path.write_text("\n".join(("from ispettore.core.errors import FileUnreadable", *calls, "")))
            told, _, status = mypy.api.run(["--config-file=", "--strict", f"--cache-dir={folder}", str(path)])
        self.assertEqual(status, 1, told)
        for line, _ in enumerate(calls, start=2):
            self.assertIn(f"wrong.py:{line}: error", told)

    def test_a_sentence_and_fields_that_differ_make_no_error(self):
        for doc in ("“{file}” is late by {late:.1f} s.", "“{file}” is late."):
            with self.subTest(doc=doc), self.assertRaises(TypeError):
                type("Late", (IspettoreError,), {"__doc__": doc, "__annotations__": {"file": str, "by_s": float}})

    def test_each_names_what_it_is_about(self):
        """Almost every sentence names a file or what else is meant; those that do not are listed here."""
        plain = {kind.__name__ for kind in kinds() if not any(name for _, name, _, _ in string.Formatter().parse(kind.__doc__))}
        self.assertEqual(
            plain,
            {
                "Cancelled",
                "ReasonMissing",
                "NameUnreadable",
                "GivenUp",
                "Unexpected",
                "NoServer",
                "NotFailed",
                "StoreAway",
                "CheckEnded",
                "HearingEnded",
                "PieceNotUnderstood",
                "NotUnderstood",
            },
        )


if __name__ == "__main__":
    unittest.main()
