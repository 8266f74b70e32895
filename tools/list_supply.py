#!/usr/bin/env python3
"""Everything of others that is shipped or installed with Ispettore, from the lock files.

tools/list_supply.py               write docs/LICENCES.md
tools/list_supply.py --check       only say whether it is current
tools/list_supply.py --bill FILE   write a bill of materials (CycloneDX 1.6, JSON)
"""

import base64
import json
import re
import sys
from dataclasses import dataclass, field
from importlib import metadata
from pathlib import Path

from cyclonedx.model import HashAlgorithm, HashType
from cyclonedx.model.bom import Bom
from cyclonedx.model.component import Component, ComponentType
from cyclonedx.model.contact import OrganizationalEntity
from cyclonedx.model.license import DisjunctiveLicense
from cyclonedx.output.json import JsonV1Dot6
from packageurl import PackageURL

ROOT = Path(__file__).parent.parent
LISTED = ROOT / "docs" / "LICENCES.md"
PINNED = re.compile(r"^([A-Za-z0-9._-]+)==([^ ;\\]+)(.*?)(?=^[A-Za-z]|\Z)", re.MULTILINE | re.DOTALL)
CLASSIFIER = "License :: OSI Approved :: "
UNSAID = {"combine-errors": "MIT", "colorama": "BSD-3-Clause", "tzdata": "Apache-2.0"}
"""Licences that stand in the package's own text and not where tools look, or of what is installed on other systems alone."""
HEAD = """# Licences of what is shipped

Ispettore itself stands under the GNU General Public License, version 3 or later ([LICENSE](../LICENSE)); why, is in
[DECISIONS.md](DECISIONS.md), Documents. This list is written by `tools/list_supply.py` from the lock files; a test keeps it
current, and `./run package` writes the same as a bill of materials (CycloneDX) beside the wheel. Installed beside it from Debian
and not shipped: PostgreSQL (PostgreSQL License), Python (PSF).
"""


@dataclass(frozen=True)
class Part:
    """Something of others: by which registry it is known, and what its files hash to (algorithm, hexadecimal)."""

    kind: str
    name: str
    version: str
    licence: str
    hashes: tuple[tuple[str, str], ...] = field(default=(), repr=False)


def python_parts() -> list[Part]:
    """What the application needs, as it is locked."""
    found = []
    for name, version, rest in PINNED.findall((ROOT / "requirements" / "app.lock").read_text()):
        hashes = tuple(("SHA-256", digest) for digest in re.findall(r"--hash=sha256:([0-9a-f]{64})", rest))
        found.append(Part("pypi", name.lower(), version, _python_licence(name), hashes))
    return found


def page_parts() -> list[Part]:
    """What is built into the page, as it is locked."""
    locked = json.loads((ROOT / "frontend" / "package-lock.json").read_text())["packages"]
    found = []
    for place, told in locked.items():
        if not place or told.get("dev") or told.get("optional"):
            continue
        name = place.rpartition("node_modules/")[2]
        algorithm, _, digest = told.get("integrity", "").partition("-")
        hashes = ((algorithm.upper().replace("SHA", "SHA-"), base64.b64decode(digest).hex()),) if digest else ()
        found.append(Part("npm", name, told["version"], str(told.get("license") or UNSAID.get(name, "not said")), hashes))
    return found


def _python_licence(name: str) -> str:
    try:
        told = metadata.metadata(name)
    except metadata.PackageNotFoundError:
        return UNSAID.get(name, "not installed on this system")
    if said := told.get("License-Expression"):
        return str(said)
    classified = [each.removeprefix(CLASSIFIER) for each in told.get_all("Classifier") or [] if each.startswith(CLASSIFIER)]
    short = (told.get("License") or "").strip().splitlines()
    return " or ".join(classified) or (short[0][:80] if short else "not said")


def listed() -> str:
    """The list as it is to be."""
    lines = [HEAD]
    for title, parts in (("Python packages", python_parts()), ("Built into the page", page_parts())):
        lines += [f"\n## {title}\n", "| name | version | licence |", "| --- | --- | --- |"]
        lines += [f"| {part.name} | {part.version} | {part.licence} |" for part in sorted(parts, key=lambda part: part.name)]
    return "\n".join(lines) + "\n"


def bill(version: str) -> str:
    """The bill of materials as JSON."""
    whole = Bom()
    itself = Component(name="ispettore", version=version, type=ComponentType.APPLICATION)
    itself.supplier = OrganizationalEntity(name="Ispettore")
    whole.metadata.component = itself
    for part in (*python_parts(), *page_parts()):
        group, _, name = part.name.rpartition("/")
        url = PackageURL(part.kind, group or None, name, part.version)
        whole.components.add(
            Component(
                name=part.name,
                version=part.version,
                type=ComponentType.LIBRARY,
                purl=url,
                bom_ref=url.to_string(),
                licenses=[DisjunctiveLicense(name=part.licence)],
                hashes=[HashType(alg=HashAlgorithm(algorithm), content=digest) for algorithm, digest in part.hashes],
            )
        )
    whole.register_dependency(itself, whole.components)
    return JsonV1Dot6(whole).output_as_string(indent=1)


def main() -> int:
    if "--bill" in sys.argv:
        Path(sys.argv[sys.argv.index("--bill") + 1]).write_text(bill(metadata.version("ispettore")), encoding="utf-8")
    elif "--check" not in sys.argv:
        LISTED.write_text(listed(), encoding="utf-8")
    elif LISTED.read_text(encoding="utf-8") != listed():
        print("docs/LICENCES.md is not current: run tools/list_supply.py.")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
