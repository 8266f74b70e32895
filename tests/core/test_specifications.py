"""Specifications as data: what speaks against one, how it reads, what a version changed, and its file."""

import json
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from ispettore.core.errors import BadSpecification
from ispettore.core.spec.catalogue import load, parse, schema, shipped
from ispettore.core.spec.changes import changes
from ispettore.core.spec.objections import objections
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.wording import sentence

ROOT = Path(__file__).parents[2]


def draft(*limits: dict, **more) -> dict:
    return {"id": "harbour", "name": "Harbour bulletin", "limits": list(limits), **more}


def limit(quantity: str, **more) -> dict:
    return {"quantity": quantity, **more}


def blocking(data: dict) -> list[tuple[tuple[int, ...], str]]:
    return [(found.limits, found.sentence) for found in objections(data) if found.blocks]


class Objections(unittest.TestCase):
    def test_nothing_speaks_against_what_ships(self):
        for name, specification in shipped().items():
            with self.subTest(name=name):
                self.assertEqual(objections(specification.model_dump(mode="json")), [])
                self.assertTrue(specification.source and specification.description)
                for one in specification.limits:
                    self.assertTrue(one.purpose, f"{name}: nobody says what {one.quantity} is for")

    def test_each_kind_of_error_names_its_limits(self):
        fine = limit("rms_dbfs", low=-23, high=-18)
        for second, expected, words in (
            (limit("true_peak_dbtp", low=-1, high=-3), (1,), "minimum of True peak (−1) is above its maximum (−3)"),
            (limit("true_peak_dbtp"), (1,), "has no value"),
            (limit("loudness"), (1,), "no quantity “loudness”"),
            (limit("true_peak_dbtp", high="loud"), (1,), "“loud” is not a number"),
            (limit("true_peak_dbtp", high=float("inf")), (1,), "“inf” is not a number"),
            (limit("true_peak_dbtp", high=40), (1,), "True peak can't be 40 dBTP. Enter a value between −100 dBTP and 6 dBTP"),
            (limit("duration_s", high=1e9), (1,), "Enter a value between 0:00 and 24:00:00"),
            (limit("integrated_loudness_lufs", low=-19, high=-18.95), (1,), "narrower than the meters' accuracy of 0.1 LU"),
            (limit("noise_floor_dbfs", low=-70, high=-69.5), (1,), "narrower than the meters' accuracy of 1 dB"),
            (limit("rms_dbfs", low=-20, high=-19), (0, 1), "RMS level has two limits"),
            (limit("sample_peak_dbfs", high=-30), (0, 1), "In any file RMS level is at most Peak"),
            (limit("true_peak_dbtp", one_of=["mp3"]), (1,), "True peak is a number"),
            (limit("container", low=3), (1,), "File format is a word"),
            (limit("container", one_of=["tape"]), (1,), "Unknown file format “tape”"),
            (limit("container", one_of=["mp3"], applies_to="production"), (1,), "only numeric limits can apply"),
            (limit("noise_floor_dbfs", low=3, applies_to="production"), (1,), "so it has only a maximum"),
            (limit("noise_floor_dbfs", high=-3, applies_to="production"), (1,), "Enter a value between 0 dBFS and 100 dBFS"),
        ):
            with self.subTest(second=second):
                [(limits, said)] = blocking(draft(fine, second))
                self.assertEqual(limits, expected)
                self.assertIn(words, said)
                self.assertTrue(said.endswith("."), said)

    def test_limits_that_no_file_can_meet_together(self):
        for limits, expected in (
            ((limit("head_s", low=10), limit("duration_s", high=5)), (0, 1)),
            ((limit("bandwidth_hz", low=16_000), limit("sample_rate_hz", high=22_050)), (0, 1)),
            ((limit("integrated_loudness_lufs", low=-14), limit("momentary_max_lufs", high=-20)), (0, 1)),
            ((limit("crest_factor_db", low=25), limit("sample_peak_dbfs", high=-3), limit("rms_dbfs", low=-23)), (0, 1, 2)),
            (
                (
                    limit("signal_to_noise_db", high=20),
                    limit("noise_floor_dbfs", high=-60),
                    limit("active_speech_level_dbfs", low=-24),
                ),
                (0, 1, 2),
            ),
            ((limit("container", one_of=["mp3"]), limit("bit_depth", low=16)), (0, 1)),
            ((limit("sample_rate_hz", low=96_000), limit("container", one_of=["mp3"])), (0, 1)),
            ((limit("container", one_of=["flac"]), limit("bit_rate_kind", one_of=["constant"])), (0, 1)),
            ((limit("container", one_of=["wav", "flac"]), limit("codec", one_of=["opus"])), (0, 1)),
            ((limit("container", one_of=["mp3"]), limit("channels", low=3)), (0, 1)),
            ((limit("container", one_of=["mp3"]), limit("bit_rate_kbps", low=500)), (0, 1)),
            ((limit("channels", high=1), limit("channel_relation", one_of=["identical"])), (0, 1)),
        ):
            with self.subTest(limits=limits):
                [(found, said)] = blocking(draft(*limits))
                self.assertEqual(found, expected)
                self.assertIn("No file can meet", said)

    def test_what_some_file_can_meet_is_left_alone(self):
        for limits in (
            (limit("container", one_of=["mp3", "wav"]), limit("bit_depth", low=16)),
            (limit("container", one_of=["ogg"]), limit("codec", one_of=["opus"])),
            (limit("sample_peak_dbfs", high=-20), limit("rms_dbfs", low=-20)),
            (
                limit("sample_peak_dbfs", high=-3),
                limit("rms_dbfs", low=2, high=1, applies_to="recording") | {"low": -23, "high": -18},
            ),
            (limit("rms_dbfs", low=-23, high=-18), limit("rms_dbfs", high=2, applies_to="production")),
            (limit("crest_factor_db", low=15), limit("sample_peak_dbfs", high=-3), limit("rms_dbfs", low=-23)),
            (limit("channels", low=1, high=2), limit("channel_relation", one_of=["one", "different"])),
            (limit("sample_rate_hz", low=44_100, high=44_100), limit("bandwidth_hz", low=16_000)),
        ):
            with self.subTest(limits=limits):
                self.assertEqual(blocking(draft(*limits)), [])

    def test_a_guard_as_wide_as_the_corridor_is_worth_knowing_and_blocks_nothing(self):
        [found] = objections(draft(limit("rms_dbfs", low=-20, high=-19, guard=0.5)))
        self.assertFalse(found.blocks)
        self.assertIn("would count as near", found.sentence)

    def test_the_whole_needs_a_name_an_identifier_and_a_limit(self):
        self.assertEqual(blocking({"id": "x", "name": "X"}), [((), "There is no list of limits.")])
        said = " ".join(sentence for _, sentence in blocking({"id": "Ä", "name": "", "limits": []}))
        for words in ("Enter a name", "lower-case letters", "no limits yet"):
            self.assertIn(words, said)

    @given(
        st.sampled_from(sorted(QUANTITIES)),
        st.floats(-1e7, 1e7),
        st.floats(-1e7, 1e7),
        st.sampled_from(["recording", "deliverable", "production"]),
    )
    @settings(max_examples=300, deadline=None)
    def test_what_nothing_speaks_against_can_be_judged_and_told(self, quantity, low, high, applies_to):
        data = draft(limit(quantity, low=low, high=high, applies_to=applies_to))
        found = objections(data)
        if not any(objection.blocks for objection in found):
            one = Specification.model_validate(data).limits[0]
            self.assertLessEqual(one.low, one.high)
            self.assertIn(one.about.title, sentence(one))
        for objection in found:
            self.assertRegex(objection.sentence, r"^[A-Z“].*\.$")

    @given(
        st.recursive(
            st.none() | st.booleans() | st.floats() | st.text(max_size=5),
            lambda inner: (
                st.lists(inner, max_size=4)
                | st.dictionaries(st.sampled_from(["id", "name", "limits", "quantity", "low", "one_of"]), inner, max_size=4)
            ),
        )
    )
    @settings(max_examples=200, deadline=None)
    def test_any_json_is_answered_in_words(self, value):
        text = json.dumps(value).encode()
        try:
            parse(text, name="a.json")
        except BadSpecification as error:
            self.assertIn("“a.json”", error.sentence)


class Sentences(unittest.TestCase):
    def test_every_limit_of_what_ships_reads_as_one(self):
        said = [sentence(one) for one in shipped()["audiobook-retail"].limits]
        self.assertEqual(
            said,
            [
                "RMS level between −23 and −18 dBFS over the whole file",
                "Peak at most −3 dBFS anywhere",
                "Noise floor at most −60 dBFS between the words",
                "Head between 0.5 and 1 s before the first word",
                "Tail between 1 and 5 s after the last word",
                "Loss in mono at most 2.5 dB in any 3 s of speech (advice)",
                "Correlation at least 0 between left and right (advice)",
                "Duration at most 2:00:00",
                "File format mp3 in the delivered file",
                "Sample rate exactly 44,100 Hz in the delivered file",
                "Bit rate at least 192 kbit/s in the delivered file",
                "Bit rate kind constant in the delivered file",
                "Channels between 1 and 2",
                "Channels within 0: the same in all recordings",
            ],
        )

    def test_every_quantity_can_be_limited_and_told(self):
        for name, quantity in QUANTITIES.items():
            with self.subTest(name=name):
                data = limit(name, one_of=quantity.choices[:1]) if quantity.choices else limit(name, high=quantity.range[1])
                data |= {"applies_to": "production"} if quantity.of_package else {}
                self.assertEqual(objections(draft(data)), [])
                self.assertIn(quantity.title, sentence(Limit.model_validate(data)))


class Changes(unittest.TestCase):
    def test_every_difference_is_told_once(self):
        old = Specification.model_validate(
            draft(limit("rms_dbfs", low=-23, high=-18), limit("head_s", low=0.5), limit("tail_s", low=1))
        )
        new = Specification.model_validate(
            draft(
                limit("rms_dbfs", low=-22, high=-18),
                limit("tail_s", low=1, guard=0.2),
                limit("true_peak_dbtp", high=-1, severity="advice"),
                name="Harbour, second",
                version=2,
                mono_on_two_loudspeakers=True,
            )
        )
        self.assertEqual(
            [(change.kind, change.about) for change in changes(old, new)],
            [
                ("changed", "Name"),
                ("changed", "Mono"),
                ("changed", "RMS level"),
                ("changed", "Tail"),
                ("added", "True peak"),
                ("removed", "Head"),
            ],
        )
        self.assertIn("near when within 0.2", changes(old, new)[3].after)
        self.assertEqual(changes(new, new), [])
        backwards = changes(new, old)
        self.assertEqual({change.kind for change in backwards if change.about == "Head"}, {"added"})


class Files(unittest.TestCase):
    def test_a_specification_goes_out_and_comes_in_the_same(self):
        for specification in shipped().values():
            text = json.dumps({"$schema": "ispettore-specification-1", **specification.model_dump(mode="json")})
            self.assertEqual(parse(text.encode(), name="x.json"), specification)

    def test_a_file_that_cannot_be_used_says_why(self):
        for content, words in (
            (b"\xff\xfe\x00", "it is not JSON"),
            (b"[" * 100_000, "it is not JSON"),
            (b"[]", "not a JSON object"),
            (json.dumps(draft(limit("rms_dbfs", low=-18, high=-23))).encode(), "minimum of RMS level"),
            (json.dumps(draft(limit("rms_dbfs", low=-18, loud=True))).encode(), "Extra inputs"),
        ):
            with tempfile.TemporaryDirectory() as folder, self.subTest(words=words):
                path = Path(folder) / "mine.json"
                path.write_bytes(content)
                with self.assertRaises(BadSpecification) as caught:
                    load(path)
                self.assertIn("“mine.json”", caught.exception.sentence)
                self.assertIn(words, caught.exception.sentence)

    def test_the_published_schema_is_current_and_describes_what_ships(self):
        published = json.loads((ROOT / "docs" / "specification.schema.json").read_text(encoding="utf-8"))
        self.assertEqual(published, json.loads(json.dumps(schema())))
        self.assertEqual(published["$defs"]["Limit"]["properties"]["quantity"]["enum"], list(QUANTITIES))
        self.assertFalse(published["additionalProperties"])
