"""The description that the page's types are made from tells every answer: failures, changes, and words from one definition."""

import unittest
from typing import get_args

from ispettore.core.audio.formats import FORMAT_NAMES, WRITABLE
from ispettore.core.plan.preferences import PREFERENCES
from ispettore.core.spec.verdict import Position
from ispettore.studio.events import Notice
from ispettore.studio.tables import WorkKind, WorkState
from ispettore.web.app import build

FAILED = {"$ref": "#/components/schemas/Failed"}


class Description(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.told = build().openapi()
        cls.schemas = cls.told["components"]["schemas"]

    def test_every_operation_tells_how_it_fails(self):
        for path, operations in self.told["paths"].items():
            for operation in operations.values():
                for status in ("422", "default"):
                    with self.subTest(path=path, status=status):
                        self.assertEqual(operation["responses"][status]["content"]["application/json"]["schema"], FAILED)
        self.assertNotIn("HTTPValidationError", self.schemas)
        self.assertEqual(self.schemas["Failed"]["required"], ["error"])

    def test_changes_are_told_as_a_stream_of_notices(self):
        answer = self.told["paths"]["/api/events"]["get"]["responses"]["200"]["content"]
        self.assertEqual(answer["text/event-stream"]["schema"]["$ref"], "#/components/schemas/Notice")
        self.assertEqual(set(self.schemas["Notice"]["properties"]), set(Notice.model_fields))

    def test_figures_in_addresses_have_bounds_that_leave_room_for_what_pages_send(self):
        asked = self.told["paths"]["/api/recordings/{recording_id}/draft/sound"]["get"]["parameters"]
        bounds = {one["name"]: one["schema"] for one in asked}
        milliseconds_since_1970 = 10**13  # a page's turn
        self.assertGreater(bounds["turn"]["maximum"], milliseconds_since_1970)
        self.assertLessEqual(bounds["number"]["maximum"], 2**31 - 1)
        self.assertEqual(bounds["at_s"]["minimum"], 0)

    def test_words_that_are_chosen_from_come_from_their_one_definition(self):
        request = self.schemas["ConformRequest"]["properties"]
        self.assertEqual(request["preference"]["anyOf"][0]["enum"], list(PREFERENCES))
        self.assertEqual(request["container"]["anyOf"][0]["enum"], list(FORMAT_NAMES))
        self.assertEqual(list(WRITABLE), list(FORMAT_NAMES))
        self.assertEqual(self.schemas["WorkState"]["enum"], list(WorkState))
        self.assertEqual(self.schemas["WorkKind"]["enum"], list(WorkKind))
        self.assertEqual(self.schemas["LimitVerdict"]["properties"]["position"]["enum"], list(get_args(Position)))
        self.assertEqual(self.schemas["WorkView"]["properties"]["state"]["$ref"], "#/components/schemas/WorkState")


if __name__ == "__main__":
    unittest.main()
