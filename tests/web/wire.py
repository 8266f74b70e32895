"""What tests over the wire start from: the whole application without processes, and productions with recordings that are
measured."""

import numpy as np
import soundfile
from fastapi.testclient import TestClient

from ispettore.studio.worker.doing import do
from ispettore.web.app import build
from tests import signals
from tests.support import ApplicationCase, work_for

RATE = 44_100


class WireCase(ApplicationCase):
    production: str

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.client = cls.enterClassContext(TestClient(build(), base_url="http://127.0.0.1"))

    @classmethod
    def make(cls, specification: str = "audiobook-retail", name: str = "Almanac") -> str:
        """A production."""
        return cls.client.post("/api/productions", json={"name": name, "specification_id": specification}).json()["id"]

    @classmethod
    def send(cls, name: str, content: bytes, *, measured: bool = True) -> str:
        """A file brought into the production, and measured."""
        where = f"/api/productions/{cls.production}/recordings"
        recording = cls.client.put(where, params={"name": name}, content=content).json()["id"]
        if measured:
            cls.work(recording)
        return recording

    @classmethod
    def work(cls, subject: str) -> None:
        """Do what was asked for a recording or an attempt."""
        do(work_for(subject).id, cls.application.store)

    @classmethod
    def wav(cls, wave: np.ndarray) -> bytes:
        path = cls.application.folder / "made.wav"
        soundfile.write(path, wave, RATE, subtype="PCM_24")
        return path.read_bytes()

    @classmethod
    def voice(cls, rms_dbfs: float) -> bytes:
        """Ten seconds of a made-up voice in a quiet room."""
        return cls.wav(signals.voice_like(10, rms_dbfs=rms_dbfs, rate=RATE, room_dbfs=rms_dbfs - 52))

    def ask(self, method: str, path: str, status: int = 200, **named):
        answer = self.client.request(method, f"/api{path}", **named)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json() if answer.content and "json" in answer.headers.get("content-type", "") else answer.content
