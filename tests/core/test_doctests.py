"""Every example in a docstring of the core runs; those of the services in tests/studio."""

import doctest
import importlib
import pkgutil
import unittest

import numpy as np

import ispettore.core


def load_tests(_loader: unittest.TestLoader, tests: unittest.TestSuite, _pattern: str | None) -> unittest.TestSuite:
    names = [module.name for module in pkgutil.walk_packages(ispettore.core.__path__, "ispettore.core.")]
    for name in names:
        tests.addTests(doctest.DocTestSuite(importlib.import_module(name), extraglobs={"np": np}))
    return tests
