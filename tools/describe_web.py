#!/usr/bin/env python3
"""Write docs/openapi.json, from which the front end's types are made; with --check, only say whether it is current."""

import json
import sys
from pathlib import Path

from ispettore.web.app import build

TARGET = Path(__file__).parent.parent / "docs" / "openapi.json"


def main() -> int:
    text = json.dumps(build().openapi(), indent=1, ensure_ascii=False) + "\n"
    if "--check" in sys.argv:
        if TARGET.read_text(encoding="utf-8") == text:
            return 0
        print("docs/openapi.json is not current: run tools/describe_web.py, then npm run types in frontend/.")
        return 1
    TARGET.write_text(text, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
