"""One word for where the work on a recording stands."""

import unittest
from itertools import product

from ispettore.core.plan.status import COUNTS, ORDER, Known, status

FLAGS = ("running", "stuck", "planned", "conformed", "certified", "delivered")


class Statuses(unittest.TestCase):
    def test_the_table(self):
        for known, word in (
            (Known(passes=None), "to be measured"),
            (Known(passes=None, running=True), "running"),
            (Known(passes=None, stuck=True), "stuck"),
            (Known(passes=True), "inside"),
            (Known(passes=False), "outside"),
            (Known(passes=True, planned=True), "planned"),
            (Known(passes=False, planned=True, stuck=True), "stuck"),
            (Known(passes=False, conformed=True, stuck=True, running=True), "conformed"),
            (Known(passes=False, conformed=True, certified=True), "certified"),
            (Known(passes=False, conformed=True, certified=True, delivered=True), "delivered"),
        ):
            with self.subTest(known=known):
                self.assertEqual(ORDER[status(known)], word)

    def test_nothing_counts_without_a_file_that_meets_the_specification_of_now(self):
        for passes, flags in product((True, False, None), product((True, False), repeat=len(FLAGS))):
            known = Known(passes=passes, **dict(zip(FLAGS, flags, strict=True)))
            self.assertIn(status(known), ORDER)
            if not known.conformed:
                self.assertNotIn(status(known), COUNTS)
