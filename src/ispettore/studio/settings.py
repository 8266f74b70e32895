"""Where everything is and how much is allowed, from `ISPETTORE_…` in the environment."""

import os
from functools import lru_cache
from pathlib import Path
from typing import Literal

from pydantic_settings import BaseSettings, SettingsConfigDict

from ispettore.studio.locations import PAGE, home


class Settings(BaseSettings):
    model_config = SettingsConfigDict(env_prefix="ISPETTORE_")

    database_url: str = "postgresql+psycopg://ispettore@127.0.0.1:5432/ispettore"
    store: str = str(home() / "store")
    cache: Path = home() / "cache"
    """Copies of files of a store that lies elsewhere, and how large they may be together."""
    cache_bytes: int = 20 * 1024**3
    incoming: Path = home() / "incoming"
    delivered: Path = home() / "delivered"
    """Where packages are written on the server's side, each in a folder of its own."""
    watched: Path | None = None
    """Inside which folder others may be watched; None: anywhere on the machine of whoever is alone here."""
    desk: str = ""
    """The address of an intake desk that packages are handed to; empty where there is none."""
    desk_token: str = ""
    desk_tries: int = 8
    work: Path = home() / "work"
    keys: Path | None = None
    frontend: Path = PAGE
    host: str = "127.0.0.1"
    port: int = 8710
    allowed_hosts: str = "127.0.0.1,localhost,[::1]"
    """By which names it is reached; of any other it answers nothing."""
    access: Literal["", "open", "start", "accounts"] = ""
    """Who is let in (`access/binding.py`); empty for what is right where it is bound to."""
    idle_after_s: float = 12 * 3600
    """After how long without use somebody has to sign in again."""
    tls_certificate: Path | None = None
    tls_key: Path | None = None
    trusted_proxies: str = ""
    """Addresses of proxies that are believed when they say for whom they ask, with commas between."""
    largest_upload_bytes: int = 8 * 1024**3
    largest_archive_bytes: int = 512 * 1024**3
    job_memory_bytes: int = 6 * 1024**3
    job_cpu_s: int = 3 * 3600
    job_disk_bytes: int = 40 * 1024**3
    heartbeat_s: float = 10.0
    stalled_after_s: float = 30.0


@lru_cache(maxsize=1)
def settings() -> Settings:
    return Settings()


def keep_to_oneself() -> None:
    """Read the settings, and take from the environment what processes that are started by this one have no use for."""
    settings()
    for name in ("ISPETTORE_DATABASE_URL", "ISPETTORE_DESK_TOKEN"):
        os.environ.pop(name, None)
