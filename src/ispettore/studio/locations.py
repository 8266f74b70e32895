"""Where this code lies, and what lies beside it: in a checkout, or installed as a package that carries the built page with it."""

import os
from pathlib import Path

PACKAGE = Path(__file__).parents[1]
ROOT = Path(__file__).parents[3]
"""The checkout. Where the package is installed there is none."""
CHECKOUT = (ROOT / "frontend").is_dir() and (ROOT / "migrations").is_dir()
PAGE = ROOT / "frontend" / "dist" if CHECKOUT else PACKAGE / "web" / "page"
"""The built page."""
MIGRATIONS = ROOT / "migrations" if CHECKOUT else PACKAGE / "studio" / "migrations"
"""The schema's versions."""


def home() -> Path:
    """Where data are kept where nothing else is set: `var/` of a checkout; else in the user's data folder (XDG Base Directory)."""
    if CHECKOUT:
        return ROOT / "var"
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "ispettore"


def state() -> Path:
    """Where what runs is kept: `ISPETTORE_STATE` where that is set, else where all data are."""
    named = os.environ.get("ISPETTORE_STATE")
    return Path(named) if named else home()
