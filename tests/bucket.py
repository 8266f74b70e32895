"""A bucket on loopback, by a stand-in for S3 from the package registry."""

import os
import socket
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import s3fs

from ispettore.studio.running.cluster import free_port
from tests.support import in_environment, until

BUCKET = "mill"


def _listens(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


@contextmanager
def bucket(folder: Path) -> Iterator[str]:
    """A bucket's address; where it is served and by what keys is in the environment meanwhile."""
    port = free_port()
    with (folder / "bucket.log").open("wb") as log:
        command = [sys.executable, "-m", "moto.server", "-H", "127.0.0.1", "-p", str(port)]
        served = subprocess.Popen(command, stdout=log, stderr=log, env=dict(os.environ))
    told = {
        "AWS_ENDPOINT_URL": f"http://127.0.0.1:{port}",
        "AWS_ACCESS_KEY_ID": "tide",
        "AWS_SECRET_ACCESS_KEY": "mill",
        "AWS_DEFAULT_REGION": "us-east-1",
    }
    try:
        until(lambda: _listens(port), what="the bucket to be served")
        with in_environment(**told):
            s3fs.S3FileSystem.clear_instance_cache()
            s3fs.S3FileSystem().mkdir(BUCKET)
            yield f"s3://{BUCKET}/store"
    finally:
        s3fs.S3FileSystem.clear_instance_cache()
        served.terminate()
        served.wait()
