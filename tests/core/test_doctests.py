"""Every example in a docstring runs."""

import doctest
import importlib
import pkgutil
import unittest

import numpy as np

import ispettore.core


def load_tests(_loader: unittest.TestLoader, tests: unittest.TestSuite, _pattern: str | None) -> unittest.TestSuite:
    names = [module.name for module in pkgutil.walk_packages(ispettore.core.__path__, "ispettore.core.")]
    services = [f"ispettore.studio.{name}" for name in ("conformings", "computing", "room_tones")]
    for name in [*names, *services]:
        tests.addTests(doctest.DocTestSuite(importlib.import_module(name), extraglobs={"np": np}))
    return tests
