"""Whether anything in the lock files is known to be unsafe, by whatever index can be asked; where none can, that is said."""

import json
import subprocess
import sys
from pathlib import Path

from ispettore.studio.locations import ROOT

PYTHON = Path(sys.executable).parent


def of_python() -> tuple[bool, str]:
    """Whether nothing is known against what the application needs, and what was found in a sentence."""
    asked = [
        str(PYTHON / "pip-audit"),
        "-r",
        str(ROOT / "requirements" / "app.lock"),
        "--disable-pip",
        "--require-hashes",
        "-f",
        "json",
    ]
    done = subprocess.run(asked, capture_output=True, text=True, check=False)
    try:
        found = json.loads(done.stdout)["dependencies"]
    except (ValueError, KeyError):
        return True, f"could not be run: {(done.stderr.strip().splitlines() or ['no reason given'])[-1]}"
    skipped = [each["name"] for each in found if "skip_reason" in each]
    unsafe = [f"{each['name']} {each['version']}" for each in found if each.get("vulns")]
    if len(skipped) == len(found):
        return True, "could not be run: the index that is at hand knows none of these packages"
    told = f"{len(found) - len(skipped)} of {len(found)} looked up; {', '.join(unsafe) or 'none'} known to be unsafe"
    return not unsafe, told


def of_page() -> tuple[bool, str]:
    """The same for what is built into the page."""
    asked = ["npm", "audit", "--omit=dev", "--json"]
    done = subprocess.run(asked, cwd=ROOT / "frontend", capture_output=True, text=True, check=False)
    try:
        found = json.loads(done.stdout)
        unsafe = found["vulnerabilities"]
    except (ValueError, KeyError):
        reason = json.loads(done.stdout).get("message", "") if done.stdout.startswith("{") else done.stderr.strip()
        return True, f"could not be run: {reason.partition(' - ')[0] or 'no reason given'}"
    return not unsafe, f"{', '.join(unsafe) or 'none'} known to be unsafe"


def main() -> bool:
    """Print both; whether nothing is known to be unsafe."""
    outcomes = {"Python packages": of_python(), "The page's packages": of_page()}
    print("| what | outcome |\n| --- | --- |")
    for what, (_, told) in outcomes.items():
        print(f"| {what} | {told} |")
    return all(fine for fine, _ in outcomes.values())
