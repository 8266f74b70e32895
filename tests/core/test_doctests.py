"""Every example in a docstring runs."""

import doctest
import importlib
import pkgutil
import unittest

import numpy as np

import ispettore.core
import ispettore.studio.conformings


def load_tests(_loader: unittest.TestLoader, tests: unittest.TestSuite, _pattern: str | None) -> unittest.TestSuite:
    names = [module.name for module in pkgutil.walk_packages(ispettore.core.__path__, "ispettore.core.")]
    for name in [*names, "ispettore.studio.conformings"]:
        tests.addTests(doctest.DocTestSuite(importlib.import_module(name), extraglobs={"np": np}))
    return tests
