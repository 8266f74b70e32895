"""Every example in a docstring of the services runs."""

import doctest
import importlib
import pkgutil
import unittest

import ispettore.demo
import ispettore.studio

WITH_EFFECTS = {"ispettore.studio.worker.warm"}
"""Modules that do something when they are loaded."""


def load_tests(_loader: unittest.TestLoader, tests: unittest.TestSuite, _pattern: str | None) -> unittest.TestSuite:
    for package in (ispettore.demo, ispettore.studio):
        for module in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
            if module.name not in WITH_EFFECTS:
                tests.addTests(doctest.DocTestSuite(importlib.import_module(module.name)))
    return tests
