#!/usr/bin/env python3
"""Write what others build on: docs/openapi.json, from which the front end's types are made, docs/quantities.json, by which it draws
and writes figures, and the schemas of a specification and a treatment.

With --check, only say whether they are current.
"""

import json
import sys
from pathlib import Path

from ispettore.core.spec import catalogue, quantities
from ispettore.core.treat import keeping
from ispettore.web.app import build

DOCS = Path(__file__).parent.parent / "docs"


def main() -> int:
    texts = {
        "openapi.json": build().openapi(),
        "quantities.json": quantities.page(),
        "specification.schema.json": catalogue.schema(),
        "treatment.schema.json": keeping.schema(),
    }
    for name, data in texts.items():
        text = json.dumps(data, indent=1, ensure_ascii=False) + "\n"
        if "--check" not in sys.argv:
            (DOCS / name).write_text(text, encoding="utf-8")
        elif (DOCS / name).read_text(encoding="utf-8") != text:
            print(f"docs/{name} is not current: run tools/describe_web.py, then npm run types in frontend/.")
            return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
