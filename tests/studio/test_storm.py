"""Forty mixed jobs while all they need is killed, stopped, filled up and cut off: nothing is lost, nothing twice, nothing left.

`./run bench --storm` blows longer: 200 kills.
"""

import tempfile
import unittest
from pathlib import Path

from tests.storm import weather

SEED, KILLS = 2026, 24


class Storm(unittest.TestCase):
    def test_forty_jobs_come_through_a_storm(self):
        with tempfile.TemporaryDirectory(prefix="ispettore-storm-") as held:
            found = weather(Path(held), seed=SEED, kills=KILLS)
        self.assertEqual(found.wrong, [], f"{found.faults}, {found.failed}, {found.said}")
        self.assertGreaterEqual(sum(count for fault, count in found.faults.items() if "killed" in fault), KILLS)
        self.assertGreaterEqual(sum(found.tries.values()), 40)
