"""One row tells everything of a quantity: a made-up one follows everywhere from its row alone, and nothing asks by names."""

import ast
import json
import re
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np

from ispettore.core.certify.drawing import drawn_limits
from ispettore.core.measure import meters, tracks
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.reading import Reading
from ispettore.core.plan import window
from ispettore.core.spec import quantities
from ispettore.core.spec.breaches import breaches
from ispettore.core.spec.objections import objections
from ispettore.core.spec.quantities import QUANTITIES, Quantity, Run
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.spread import spreads
from ispettore.core.spec.standing import bounds, reading
from ispettore.core.spec.verdict import judge, reading_for, values
from ispettore.core.spec.wording import sentence
from tests import signals

RATE = 44_100
SOURCE = Path(quantities.__file__).parents[2]
ROOT = Path(__file__).parents[2]
BURST = Quantity(
    "burst_max_lufs",
    "Loudest burst",
    "LUFS",
    "level",
    decimals=2,
    where="in any burst",
    on_ribbon=True,
    k_weighted=True,
    moved_by=quantities.GAIN,
    taken=Run("momentary_lufs", 0.4),
    never_above=(("true_peak_dbtp", 1.0),),
)


def read(heard: Heard) -> Read:
    """The meter: what the loudest moment reads, under another name."""
    return (heard.readings["momentary_max_lufs"].model_copy(update={"quantity": BURST.name}),), ()


class AMadeUpMeter(unittest.TestCase):
    """A function, its line and its row: all else comes of them."""

    def setUp(self):
        self.enterContext(patch.dict(QUANTITIES, {BURST.name: BURST}))
        self.enterContext(patch.object(meters, "READ", (*meters.READ, read)))
        wave = signals.voice_like(12, rms_dbfs=-24, rate=RATE, room_dbfs=-70)
        wave[int(5.0 * RATE) : int(5.5 * RATE)] *= 3
        measured = measure_array(wave[:, None], sample_rate_hz=RATE)
        self.inspection = measured.inspection
        self.tracks, self.value = tracks.of(measured), self.inspection.value(BURST.name)

    def specification(self, limit: Limit, *, two_loudspeakers: bool = False) -> Specification:
        return Specification(id="trial", name="Trial", limits=(limit,), mono_on_two_loudspeakers=two_loudspeakers)

    def test_it_is_limited_told_and_judged(self):
        limit = Limit(quantity=BURST.name, high=round(self.value) - 3)
        self.assertEqual(sentence(limit), f"Loudest burst at most −{-limit.high:g} LUFS in any burst")
        [judged] = judge(self.inspection, self.specification(limit), role="recording").limits
        self.assertEqual((judged.position, reading(judged)), ("over", f"−{-self.value:.2f}"))
        self.assertEqual(bounds(judged), f"at most −{-limit.high:g} LUFS")

    def test_mono_on_two_loudspeakers_raises_it(self):
        plain = self.specification(Limit(quantity=BURST.name, high=-20))
        raised = plain.model_copy(update={"mono_on_two_loudspeakers": True})
        found = [reading_for(BURST.name, self.inspection, one) for one in (plain, raised)]
        self.assertAlmostEqual(found[1] - found[0], 3.01, places=2)

    def test_it_is_placed_in_time(self):
        specification = self.specification(Limit(quantity=BURST.name, high=self.value - 3))
        verdict = judge(self.inspection, specification, role="recording")
        found = breaches(verdict, self.inspection, self.tracks)
        self.assertTrue(found)
        self.assertTrue(all(4.5 < place.start_s < place.end_s < 6.0 for place in found), found)

    def test_what_no_file_can_meet_is_objected_to(self):
        limits = [{"quantity": BURST.name, "low": -3}, {"quantity": "true_peak_dbtp", "high": -6}]
        [found] = objections({"id": "x", "name": "X", "limits": limits})
        self.assertIn("In any file Loudest burst is at most True peak", found.sentence)

    def test_gain_is_planned_by_it(self):
        gains = window.gain_window(self.inspection, self.specification(Limit(quantity=BURST.name, high=self.value - 3)))
        self.assertAlmostEqual(gains.high_db, -3.0)

    def test_it_is_drawn_and_spread(self):
        specification = self.specification(Limit(quantity=BURST.name, high=-20))
        _, [(limit, bound)] = drawn_limits(judge(self.inspection, specification, role="recording").limits)
        self.assertEqual((limit.title, bound), ("Loudest burst", -20))
        self.assertEqual(
            [one.title for one in spreads([values(self.inspection, specification)] * 2, specification)], ["Loudest burst"]
        )
        self.assertEqual(quantities.page()[BURST.name]["on_ribbon"], True)


class Rows(unittest.TestCase):
    def test_they_speak_of_one_another_by_names_that_exist(self):
        for about in QUANTITIES.values():
            named = [name for name, _ in about.never_above] + list(about.difference or ())
            named += [about.exactly_where.quantity] if about.exactly_where else []
            self.assertLessEqual(set(named), set(QUANTITIES), about.name)

    def test_every_reading_of_an_inspection_has_one_with_its_unit(self):
        wave = signals.voice_like(12, rms_dbfs=-24, rate=RATE)
        readings = measure_array(wave[:, None], sample_rate_hz=RATE).inspection.readings
        self.assertEqual({name: one.unit for name, one in readings.items()}, {name: QUANTITIES[name].unit for name in readings})
        of_the_file = {name for name, about in QUANTITIES.items() if about.fact}
        self.assertEqual(set(readings) | of_the_file, {name for name, about in QUANTITIES.items() if not about.of_package})

    def test_what_can_never_be_exceeded_is_not_on_any_signal(self):
        rising = signals.steps(997, [(-30, 2), (-12, 2), (-3, 2)], rate=RATE)
        for wave in (rising, signals.voice_like(12, rms_dbfs=-24, rate=RATE), signals.noise(4, rms_dbfs=-20, rate=RATE)):
            inspection = measure_array(np.pad(wave, RATE)[:, None], sample_rate_hz=RATE).inspection
            specification = Specification(id="x", name="X", limits=())
            for about in QUANTITIES.values():
                value = reading_for(about.name, inspection, specification)
                for other, factor in about.never_above:
                    bound = reading_for(other, inspection, specification)
                    if isinstance(value, float | int) and isinstance(bound, float | int):
                        slack = about.accuracy + QUANTITIES[other].accuracy
                        self.assertLessEqual(factor * value, bound + slack, (about.name, other))

    def test_a_limit_on_the_room_is_met_by_dead_silence(self):
        silence = measure_array(np.zeros((RATE * 6, 1)), sample_rate_hz=RATE).inspection
        for name in quantities.ROOM_LEVELS:
            with self.subTest(name=name):
                silent = Reading(quantity=name, value=None, unit="dBFS", method="", silence=True)
                inspection = silence.model_copy(update={"readings": {name: silent}})
                limit = Limit(quantity=name, high=-60)
                [judged] = judge(inspection, Specification(id="x", name="X", limits=(limit,)), role="recording").limits
                self.assertTrue(judged.passes)


def compared(node: ast.AST) -> list[ast.expr]:
    """What stands on both sides of a comparison, or in a case; what stands in a list is among it."""
    sides = (
        [node.left, *node.comparators]
        if isinstance(node, ast.Compare)
        else [node.value]
        if isinstance(node, ast.MatchValue)
        else []
    )
    return [each for side in sides for each in (side.elts if isinstance(side, ast.Tuple | ast.List | ast.Set) else [side])]


class NobodyAsksByName(unittest.TestCase):
    """A comparison with a quantity's name is a fact of it that ought to stand in its row."""

    def test_in_the_core_and_the_services(self):
        found = []
        for folder in ("core/spec", "core/plan", "core/certify", "studio", "web"):
            for path in (SOURCE / folder).rglob("*.py"):
                for node in ast.walk(ast.parse(path.read_text())):
                    names = {each.value for each in compared(node) if isinstance(each, ast.Constant)} & set(QUANTITIES)
                    found += [(path.name, node.lineno, name) for name in names]
        self.assertEqual(found, [])

    def test_on_the_page(self):
        for path in (ROOT / "frontend/src").rglob("*.*"):
            if path.name != "api-types.d.ts":
                compared = set(re.findall(r"[!=]== '(\w+)'", path.read_text())) & set(QUANTITIES)
                self.assertEqual(compared, set(), path.name)

    def test_the_page_has_the_rows_of_now(self):
        self.assertEqual(json.loads((ROOT / "docs/quantities.json").read_text()), quantities.page())


if __name__ == "__main__":
    unittest.main()
