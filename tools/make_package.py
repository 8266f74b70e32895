#!/usr/bin/env python3
"""Build a wheel that is a whole installation: the package with the built page and the schema's versions inside it.

    tools/make_package.py FOLDER

The wheel is written to the folder, a bill of materials (CycloneDX) beside it; what it was made from is put together elsewhere and
removed again.
"""

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
PARTS = ("pyproject.toml", "README.md", "LICENSE", "requirements/app.in")
UNWANTED = shutil.ignore_patterns("__pycache__", "*.egg-info", "*.nbi", "*.nbc")


def main(folder: Path) -> None:
    page = ROOT / "frontend" / "dist"
    if not (page / "index.html").is_file():
        sys.exit("The page is not built yet. Run ./run setup first.")
    with tempfile.TemporaryDirectory() as made:
        tree = Path(made)
        for part in PARTS:
            (tree / part).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(ROOT / part, tree / part)
        package = tree / "src" / "ispettore"
        shutil.copytree(ROOT / "src" / "ispettore", package, ignore=UNWANTED)
        shutil.copytree(page, package / "web" / "page")
        shutil.copytree(ROOT / "migrations", package / "studio" / "migrations", ignore=UNWANTED)
        wheel = [sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "--no-build-isolation", "-w", str(folder), str(tree)]
        subprocess.run(wheel, check=True)
    newest = max(folder.glob("ispettore-*.whl"), key=lambda path: path.stat().st_mtime)
    bill = [sys.executable, str(ROOT / "tools" / "list_supply.py"), "--bill", str(newest.with_suffix(".cdx.json"))]
    subprocess.run(bill, check=True)


if __name__ == "__main__":
    if len(sys.argv) != 2:
        sys.exit(__doc__)
    main(Path(sys.argv[1]))
